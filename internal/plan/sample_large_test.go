package plan_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"evensprout/internal/plan"
	"evensprout/internal/schema"
)

// Rows that do not fit into memory together are sampled a few at a time, as a load writes them.
func TestLargeRowsAreSampled(t *testing.T) {
	text := func(name string) *schema.Column {
		return &schema.Column{Name: name, Declared: "TEXT", Kind: schema.Text}
	}
	scans := &schema.Table{Name: "scans", Columns: []*schema.Column{text("page"), text("body")}}
	db := &schema.Database{Tables: []*schema.Table{scans}}
	p, err := plan.Read("plan.yaml", []byte(plan.Head+"  Scan:\n    table: scans\n    rows: 30\n    fields:\n"+
		"      page: {text: \""+strings.Repeat("0123456789", 500)+"\"}\n"+
		"      body: {text: \""+strings.Repeat("{page}", 900)+"\"}\n"))
	require.NoError(t, err)
	_, err = p.Compile(plan.Options{Database: db, Sample: 30})
	require.NoError(t, err)
}
