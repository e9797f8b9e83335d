package cli

import (
	"bytes"
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/store"
)

// What would act on a terminal is written out in records, too, and they stay JSON.
func TestLogRecordsDoNotActOnTerminals(t *testing.T) {
	var out bytes.Buffer
	l := newEventLog(&out)
	l.statement(store.Statement{}, "SELECT \"a\u202eb\x7f\u009b31m\"", false)
	l.failed(map[string]any{"message": "x\u202ey", "hint": "\u202e\x7f"}, "")
	for _, sign := range []string{"\u202e", "\x7f", "\u009b", "\x1b"} {
		assert.NotContains(t, out.String(), sign)
	}
	for _, line := range bytes.Split(bytes.TrimSpace(out.Bytes()), []byte("\n")) {
		assert.True(t, json.Valid(line), "%s", line)
	}
	require.Equal(t, 2, bytes.Count(out.Bytes(), []byte("\n")))
}
