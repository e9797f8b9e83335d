package main

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// With --quiet, commands that do something say nothing unless something is wrong.
func TestQuiet(t *testing.T) {
	f := newFolder(t)
	for _, args := range [][]string{
		{"demo", "ferries"},
		{"check", "ferries/evensprout.yaml"},
		{"load", "ferries/evensprout.yaml"},
		{"compare", "ferries/evensprout.yaml"},
		{"load", "ferries/evensprout.yaml", "--restore"},
		{"add", "ferries/evensprout.yaml", "Passenger"},
		{"withdraw", "ferries/evensprout.yaml"},
		{"load", "ferries/evensprout.yaml"},
		{"export", "ferries/evensprout.yaml", "--out", "files"},
		{"diagram", "ferries/evensprout.yaml", "--out", "a.svg"},
		{"page", "ferries/evensprout.yaml", "--out", "a.html"},
		{"survey", "--db", "sqlite:ferries/larkwater.db", "--out", "draft.yaml"},
		{"during", "ferries/evensprout.yaml", "--", "true"},
	} {
		r := f.run(append([]string{"--quiet"}, args...)...)
		assert.Zero(t, r.code, "%v: %s", args, r.errOut)
		assert.Empty(t, r.out+r.errOut, args)
	}
	f.query("ferries/larkwater.db", "UPDATE passengers SET given_name = 'Changed'")
	r := f.run("compare", "ferries/evensprout.yaml", "-q")
	assert.Equal(t, 7, r.code)
	assert.Contains(t, r.out, "different:")
}
