package unit

import (
	"cmp"
	"context"
	"fmt"

	"evensprout/internal/load"

	"evensprout/internal/journal"

	"evensprout/internal/plan"
	"evensprout/internal/store"
)

// policy is what to do about a refused occasion.
func (r *unitRun) policy(kind store.ViolationKind) plan.Policy {
	for _, p := range []plan.Policies{r.w.Session.Options.Policies, r.unit.Plan.OnViolation,
		r.w.Session.Plan.Plan.OnViolation} {
		for _, name := range []string{string(kind), plan.AllKinds} {
			if policy, ok := p[name]; ok && policy != plan.Redraw {
				return policy
			}
		}
	}
	return plan.Stop
}

// reject leaves an occasion out.
func (r *unitRun) reject(ctx context.Context, x *occasion, refusal *journal.Refusal) error {
	if r.ledger != nil {
		if err := r.ledger.forget(ctx, x.name); err != nil {
			return err
		}
	}
	if most := r.w.Session.Options.MaxRejects; most > 0 && r.result.Rejected+int64(len(r.refused))+1 > most {
		return &load.TooMany{Refusal: refusal, Limit: most}
	}
	out := &load.Rejection{Refusal: refusal}
	for i, f := range r.unit.Grow.Fields {
		if !f.Inner {
			out.Fields, out.Values = append(out.Fields, f.Name), append(out.Values, x.fields[i])
		}
	}
	r.refused = append(r.refused, out)
	return nil
}

// refuse says in the plan's words why an occasion was refused.
func (r *unitRun) refuse(x *occasion, refused *refusedStep) *journal.Refusal {
	s, v := r.steps[refused.step], refused.v
	out := &journal.Refusal{
		Kind: v.Kind, Entity: r.unit.Plan.Name, Row: r.unit.Grow.Label(x.row),
		Step: fmt.Sprintf("%d: %s", s.index+1, s.Label()), Table: cmp.Or(v.Table, s.tableName()),
		Constraint: v.Constraint, Columns: v.Columns, Refers: v.Refers, Code: v.Code, Message: v.Message,
		Fields: v.Columns, Element: r.elementOf(refused.at, s, v),
	}
	for _, value := range v.Values {
		out.Values = append(out.Values, value.String())
	}
	if len(v.Other) > 0 {
		out.Other = load.KeyText(v.Other)
	}
	if out.Element != "" {
		out.Row += ", " + out.Element
	}
	if file, line := r.placeOf(x, refused.at); line > 0 {
		out.Place = fmt.Sprintf("%s:%d", file, line)
	}
	out.Hint = unitHint(out, s)
	return out
}

// placeOf is where an occasion stands in its file, or the element that was refused, if elements have
// lines of their own; no line if there is none.
func (r *unitRun) placeOf(x, at *occasion) (file string, line int) {
	if x.row.Side {
		return "", 0
	}
	if elements, ok := r.unit.Grow.Table.(interface {
		ElementPlace(row uint64, element int) (string, int)
	}); ok && at != nil && at.within != nil {
		for at.within.within != nil {
			at = at.within
		}
		return elements.ElementPlace(x.row.N, at.number-1)
	}
	if rows, ok := r.unit.Grow.Table.(interface{ Place(uint64) (string, int) }); ok {
		return rows.Place(x.row.N)
	}
	return "", 0
}

// unitHint says what to do about a refused step.
func unitHint(r *journal.Refusal, s *unitStep) string {
	switch r.Kind {
	case store.RowCount:
		return "correct the occasion, or add expect: to the step, or leave out such occasions with " +
			"--on-violation row_count=skip"
	case store.Requirement:
		return "correct the occasion, or leave out such occasions with --on-violation requirement=skip"
	case store.ForeignKey:
		return "look the row up with find, so that its key is right"
	case store.Unique:
		return "the row already exists: use upsert instead of insert, or --on-violation unique=skip"
	}
	return fmt.Sprintf("correct the occasion, or leave out such occasions with --on-violation %s=skip", r.Kind)
}
