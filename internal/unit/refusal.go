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
func (r *unitRun) refuse(x *occasion, step int, v *store.Violation) *journal.Refusal {
	s := r.steps[step]
	out := &journal.Refusal{
		Kind: v.Kind, Entity: r.unit.Plan.Name, Row: r.unit.Grow.Label(x.row),
		Step: fmt.Sprintf("%d: %s", step+1, s.Label()), Table: cmp.Or(v.Table, s.tableName()),
		Constraint: v.Constraint, Columns: v.Columns, Refers: v.Refers, Code: v.Code, Message: v.Message,
		Fields: v.Columns,
	}
	for _, value := range v.Values {
		out.Values = append(out.Values, value.String())
	}
	if len(v.Other) > 0 {
		out.Other = load.KeyText(v.Other)
	}
	if !x.row.Side {
		if rows, ok := r.unit.Grow.Table.(interface{ Place(uint64) (string, int) }); ok {
			if file, line := rows.Place(x.row.N); line > 0 {
				out.Place = fmt.Sprintf("%s:%d", file, line)
			}
		}
	}
	out.Hint = unitHint(out, s)
	return out
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
