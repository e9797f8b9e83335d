package store

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestStatementsAreTallied(t *testing.T) {
	var tally Tally
	tally.Note("A", 2, time.Second)
	tally.Note("B", -1, 0)
	tally.Note("A", 3, time.Second)
	assert.Equal(t, []Statement{{"A", 2, 5, 2 * time.Second}, {"B", 1, 0, 0}}, tally.Statements())
}
