package grow

import "math/bits"

// Search is how many rows a reference or a condition looks at before one is right.
type Search struct {
	Looked, Right uint64
	// Found tells that the right rows are found once, before the first is grown, so that each row needs one draw.
	Found bool
}

// Searched says how a field finds the rows that meet its conditions; false if it has none. Where each row draws until
// it finds one, the share of right rows is estimated from at most some looks, evenly spread.
func (g *Grower) Searched(f *Field, looks uint64) (Search, bool) {
	s, ok := f.Source.(*pick)
	if !ok || s.Where == nil || s.below != nil || s.to.Total() == 0 || f.Entity.Total() == 0 {
		return Search{}, false
	}
	if s.found != nil {
		return Search{Looked: s.to.Total(), Right: s.found.count, Found: true}, true
	}
	g.refresh()
	out := Search{Looked: looks}
	const golden = 0x9e3779b97f4a7c15 // 2^64 over the golden ratio: its multiples are evenly spread (Knuth 6.4)
	for i := range looks {
		fr := g.open(f.Entity, f.Entity.at(mulHigh(i*golden, f.Entity.Total())))
		if s.meets(cell{g, fr, f}, s.to.at(mulHigh((i+looks)*golden*3, s.to.Total()))) {
			out.Right++
		}
		fr.close()
	}
	return out, true
}

// Redraws says, for each condition that rows of an entity meet (or conditions that share fields, together), which
// fields it concerns and how often rows are drawn until they meet it: Looked draws for Right rows, over at most some
// rows, evenly spread.
func (g *Grower) Redraws(e *Entity, rows uint64) (texts []string, draws []Search) {
	if len(e.ties) == 0 || e.Total() == 0 {
		return nil, nil
	}
	g.refresh()
	draws = make([]Search, len(e.ties))
	for _, t := range e.ties {
		text := ""
		for i, m := range t.meets {
			if i > 0 {
				text += " and "
			}
			text += m.Text
		}
		texts = append(texts, text)
	}
	rows = min(rows, e.Total())
	for i := range rows {
		fr := g.open(e, e.at(i*(e.Total()/rows)))
		for n, t := range e.ties {
			g.value(fr, t.fields[0])
			draws[n].Looked += fr.tries[n] + 1
			draws[n].Right++
		}
		fr.close()
	}
	return texts, draws
}

// mulHigh is a number below n, in proportion to a fraction of 2^64.
func mulHigh(fraction, n uint64) uint64 {
	hi, _ := bits.Mul64(fraction, n)
	return hi
}
