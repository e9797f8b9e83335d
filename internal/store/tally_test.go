package store

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestStatementsAreTallied(t *testing.T) {
	var tally Tally
	tally.Note("A", 2, time.Second, nil)
	tally.Note("B", -1, 0, nil)
	tally.Note("A", 3, time.Second, nil)
	assert.Equal(t, []Statement{
		{Text: "A", Times: 2, Rows: 5, Elapsed: 2 * time.Second},
		{Text: "B", Times: 1},
	}, tally.Statements())
}
