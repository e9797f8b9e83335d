package diag

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

type described struct{ report Report }

func (d *described) Error() string  { return "it" }
func (d *described) Report() Report { return d.report }

// The outermost error that describes itself counts, however it is wrapped.
func TestTheOutermostErrorIsShown(t *testing.T) {
	inner := &described{Report{Kind: Database, Hint: "inner"}}
	assert.Equal(t, "inner", Of(fmt.Errorf("chunk 3: %w", inner)).Hint)
	assert.Equal(t, Problems(nil).Report().Kind, Of(fmt.Errorf("%w", errors.Join(Problems{}, inner))).Kind)
	assert.Equal(t, Report{}, Of(errors.New("plain")))
	assert.Equal(t, Report{}, Of(nil))
}

// Problems that only a database has are no fault of the plan.
func TestProblems(t *testing.T) {
	wrong := &Problem{File: "p.yaml", Line: 3, Column: 5, Message: "no such kind", Excerpt: "    kind: nuon"}
	unlike := &Problem{File: "p.yaml", Message: "no such table", Database: true}
	warning := &Problem{File: "a.yaml", Message: "may collide", Warning: true}
	assert.Equal(t, BadPlan, Problems{unlike, wrong, warning}.Report().Kind)
	assert.Equal(t, Database, Problems{unlike, warning}.Report().Kind)
	all := Problems{warning, wrong, unlike}
	all.Sort()
	assert.Equal(t, Problems{unlike, wrong, warning}, all)
	wrong.Nearest("nuon", []string{"noun", "verb"})
	assert.Equal(
		t,
		"p.yaml:3:5: no such kind\n     3 |     kind: nuon\n       |     ^\n         did you mean \"noun\"?",
		wrong.String(),
	)
	many := Problems{}
	for range 130 {
		many = append(many, unlike)
	}
	assert.True(t, strings.HasSuffix(many.Error(), "\n... and 30 more"))
}

func TestNearest(t *testing.T) {
	for wrong, want := range map[string]string{"nuon": "noun", "Noun": "noun", "noun": "noun", "quite another": "",
		"": "", "vreb": "verb"} {
		assert.Equal(t, want, Nearest(wrong, []string{"noun", "verb"}), wrong)
	}
}

func TestCounts(t *testing.T) {
	assert.Equal(t, "1 row", Count(1, "row", "rows"))
	assert.Equal(t, "1,234 rows", Count(int64(1234), "row", "rows"))
	assert.Equal(t, "22nd", Ordinal(22))
}
