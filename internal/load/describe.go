package load

import (
	"fmt"

	"evensprout/internal/journal"

	"evensprout/internal/diag"
)

// How the errors of this package are shown.

// Report shows the last refusal.
func (e *TooMany) Report() diag.Report {
	r := e.Refusal.Report()
	r.Message = fmt.Sprintf(
		"more than %s would be rejected (--max-rejects); this is the last",
		diag.Count(e.Limit, "row", "rows"),
	)
	return r
}

// Report shows the invariants and rows that break them.
func (b *Broken) Report() diag.Report {
	r := diag.Report{Kind: diag.Violation, Layout: b, Data: true, Members: map[string]any{"broken": b.Rules}}
	if b.Committed {
		r.Data, r.End = false, "The rows are committed. evensprout withdraw undoes the last load."
	}
	return r
}

// Report shows the tables, and ways on.
func (p *Present) Report() diag.Report {
	return diag.Report{
		Kind:    diag.Database,
		Message: "the plan's rows already exist, and nothing was written",
		Layout:  p,
		Members: map[string]any{"present": p},
	}
}

// Report says how the load or withdrawal goes on.
func (e *Unfinished) Report() diag.Report {
	n := e.Entry.Number
	r := diag.Report{Kind: diag.Database, Message: e.Error(), Members: map[string]any{"unfinished": n},
		Hint: fmt.Sprintf("resume it with evensprout load --resume, or undo it with evensprout withdraw %d", n)}
	if e.Entry.State == journal.StateWithdrawing {
		r = diag.Report{Kind: r.Kind, Message: r.Message, Members: r.Members,
			Hint: fmt.Sprintf("finish that with evensprout withdraw %d --commit chunk, then load again", n)}
	}
	return r
}

// Report says how the load goes on.
func (e *OtherParts) Report() diag.Report {
	return diag.Report{Kind: diag.Database, Message: e.Error(), Members: map[string]any{"unfinished": e.Entry.Number},
		Hint: fmt.Sprintf(
			"run all parts of the same number of parts; evensprout load --resume continues it as one process; "+
				"evensprout withdraw %d undoes it",
			e.Entry.Number,
		)}
}

// maxDetails bounds the lines below a message.
const maxDetails = 10

// Report lists the differences.
func (e *Altered) Report() diag.Report {
	n := e.Entry.Number
	r := diag.Report{
		Kind:    diag.Database,
		Message: e.Error() + ":",
		Members: map[string]any{"load": n, "differences": e.Differences},
		Hint: fmt.Sprintf(
			"evensprout load --anew replaces the earlier rows by those of the plan as it is now;\n       evensprout "+
				"withdraw %d only removes them; evensprout load --extra NAME loads an extra set beside them",
			n,
		),
	}
	for i, d := range e.Differences {
		if i == maxDetails {
			r.Details = append(r.Details, fmt.Sprintf("and %d more", len(e.Differences)-i))
			break
		}
		r.Details = append(r.Details, d.String())
	}
	return r
}

// Report says how the rows that are meant can be found.
func (e *Strangers) Report() diag.Report {
	return diag.Report{
		Kind:    diag.Database,
		Message: e.Error(),
		Hint:    e.Hint(),
		End:     "nothing was written",
		Members: map[string]any{"strangers": e},
	}
}

// Report counts the rows by table.
func (e *Gone) Report() diag.Report {
	n := e.Entry.Number
	r := diag.Report{
		Kind:    diag.Database,
		Message: e.Error() + ":",
		Members: map[string]any{"load": n, "entities": e.Entities},
		Hint: fmt.Sprintf(
			"evensprout compare shows them; put them back with evensprout load --restore, or undo the rest with "+
				"evensprout withdraw %d",
			n,
		),
	}
	for _, x := range e.Entities {
		if x.Missing > 0 {
			r.Details = append(
				r.Details,
				fmt.Sprintf(
					"%s of %s, which has %s now",
					diag.Count(x.Missing, "row", "rows"),
					x.Table,
					diag.Number(x.Rows),
				),
			)
		}
	}
	return r
}

// Report names the file.
func (e *FileError) Report() diag.Report {
	return diag.Report{
		Message: e.Error(),
		Hint:    "everything was rolled back: tables and files are unchanged",
		Members: map[string]any{"file": e.Path},
	}
}

// Outcome counts the chunks that are committed.
func (p *Partial) Outcome() (string, map[string]any) {
	text := fmt.Sprintf(
		"The open transaction was rolled back; %s with %s are committed.",
		diag.Count(p.Chunks, "chunk", "chunks"),
		diag.Count(p.Rows, "row", "rows"),
	)
	members := map[string]any{"committed": map[string]any{"chunks": p.Chunks, "rows": p.Rows}}
	if p.Load > 0 {
		members["load"] = p.Load
		text += fmt.Sprintf(
			"\n       Resume load %d with evensprout load --resume, or undo it with evensprout withdraw %d.",
			p.Load,
			p.Load,
		)
	}
	return text, members
}
