package load

// Progress is how far a load is.
type Progress struct {
	Done, Total uint64 // rows of all entities; of a unit, occasions
	LeftOut     int64  // rows that were refused and left out
	// Entity is the one whose rows were just written, with its own numbers; empty for a unit.
	Entity                  string
	EntityDone, EntityTotal uint64
}

// progress reports rows of an entity that were written.
func (w *Writer) progress(t *Target, n int) {
	l := w.Session
	l.mu.Lock()
	defer l.mu.Unlock()
	l.done += uint64(n)
	if l.Options.Progress == nil {
		return
	}
	if l.doneOf == nil {
		l.doneOf = map[*Target]uint64{}
	}
	l.doneOf[t] += uint64(n)
	total := t.Grow.Total()
	l.Options.Progress(Progress{
		Done: min(l.done, l.total), Total: l.total, LeftOut: l.rejected,
		Entity: t.Plan.Name, EntityDone: min(l.doneOf[t], total), EntityTotal: total,
	})
}
