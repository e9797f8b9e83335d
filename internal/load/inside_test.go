package load

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"evensprout/internal/plan"
	"evensprout/internal/store"
)

// Policies: the command line before the entity, the entity before the plan, a kind
// before all.
func TestWhichPolicyCounts(t *testing.T) {
	l := &Session{
		Options: Options{Policies: plan.Policies{"check": plan.Stop}},
		Plan:    &plan.Compiled{Plan: &plan.Plan{OnViolation: plan.Policies{"all": plan.Skip, "unique": plan.Stop}}},
	}
	tg := &Target{Target: &plan.Target{Plan: &plan.Entity{OnViolation: plan.Policies{"raised": plan.Redraw}}}}
	for kind, want := range map[store.ViolationKind]plan.Policy{
		store.Check: plan.Stop, store.Raised: plan.Redraw, store.Unique: plan.Stop, store.TooLong: plan.Skip,
		store.RowCount: plan.Skip,
	} {
		assert.Equal(t, want, l.Policy(tg, kind), kind)
	}
}
