package plan

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestCasesAndLookups(t *testing.T) {
	rows := grown(t, `  Invoice:
    rows: 600
    fields:
      status:    {choose: {open: 50, paid: 40, void: 10}}
      tier:      {choose: [gold, silver, basic], nulls: 20%}
      issued_at: {before: clock, within: 300d}
      paid_at:   {case: {"status = 'paid'": {after: issued_at, within: 20d}}, else: null}
      note:      {case: {"status = 'void'": cancelled, "tier = 'gold' OR tier = 'silver'": {kind: noun}}, else: none}
      rate:      {lookup: {tier: {gold: 0.2, silver: 0.15, basic: 0}}, else: 1}
`, "Invoice")
	seen := map[string]bool{}
	for _, r := range rows {
		assert.Equal(t, r["status"] == "paid", r["paid_at"] != "NULL", r)
		if r["paid_at"] != "NULL" {
			issued, err := time.Parse(time.RFC3339, r["issued_at"])
			require.NoError(t, err)
			paid, err := time.Parse(time.RFC3339, r["paid_at"])
			require.NoError(t, err)
			assert.True(t, paid.After(issued) && paid.Sub(issued) <= 20*24*time.Hour)
		}
		switch {
		case r["status"] == "void":
			assert.Equal(t, "cancelled", r["note"])
		case r["tier"] == "gold" || r["tier"] == "silver":
			assert.NotEqual(t, "none", r["note"])
		default: // NULL meets no condition
			assert.Equal(t, "none", r["note"])
		}
		assert.Equal(t, map[string]string{"gold": "0.20", "silver": "0.15", "basic": "0.00", "NULL": "1.00"}[r["tier"]],
			r["rate"])
		seen[r["rate"]] = true
	}
	assert.Len(t, seen, 4)
}

// A case refers to rows of one entity: a load that gives these rows other keys finds the reference by its field.
func TestCasesOfReferences(t *testing.T) {
	for source, good := range map[string]bool{
		`{case: {"side = 'a'": {pick: Port}}, else: null}`:                   true,
		`{lookup: {side: {a: null}}, else: {pick: Port}}`:                    true,
		`{lookup: {side: {a: 1}}, else: {pick: Port}}`:                       false,
		`{case: {"side = 'a'": {pick: Port}}, else: {pick: Quay}}`:           false,
		`{case: {"side = 'a'": {pick: Port, by: name}}, else: {pick: Port}}`: false,
	} {
		p, err := Read("plan.yaml", []byte("name: x\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n"+
			"  Port: {rows: 3, fields: {name: {kind: noun}}}\n  Quay: {rows: 3, fields: {name: {kind: noun}}}\n"+
			"  Boat:\n    rows: 300\n    fields:\n"+
			"      side: {choose: [a, b]}\n      port: "+source+"\n"))
		require.NoError(t, err)
		c, err := p.Compile(Options{})
		if !good {
			assert.ErrorContains(t, err, "some values of the case are references, and others are not, or to other rows")
			continue
		}
		require.NoError(t, err, source)
		port := c.Target("Boat").Grow.Fields[1]
		require.Equal(t, "Port", port.Target().Name)
		for _, r := range rowsOf(t, c, "Boat") {
			assert.Equal(t, (r["side"] == "a") == strings.HasPrefix(source, "{case"), r["port"] != "NULL", source)
		}
	}
	p, err := Read("plan.yaml", []byte("name: x\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n  A:\n    rows: 1\n"+
		"    fields:\n      at:\n"+
		"        {before: clock, within: 9d, weekdays: {mon: 0, tue: 0, wed: 0, thu: 0, fri: 0, sat: 0, sun: 0}}\n"))
	require.NoError(t, err)
	_, err = p.Compile(Options{})
	assert.ErrorContains(t, err, "every day of the week has the weight 0")
}
