package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"slices"
	"strings"
	"sync"

	"evensprout/internal/report"
	"evensprout/internal/safe"
	"evensprout/internal/store"
)

// Forms of standard error.
const (
	textLog = "text" // for people
	jsonLog = "json" // one record on each line, for services that collect logs
)

// eventLog writes standard error as records of log/slog, one JSON object on each line.
type eventLog struct {
	to *slog.Logger

	lock    sync.Mutex // lines may come from several goroutines
	partial []byte     // a line without its end
}

// newEventLog writes records to a writer.
func newEventLog(to io.Writer) *eventLog {
	return &eventLog{to: slog.New(slog.NewJSONHandler(visible{to}, &slog.HandlerOptions{Level: slog.LevelDebug}))}
}

// visible writes out what would act on a terminal: records hold names and values of the database.
type visible struct{ to io.Writer }

func (v visible) Write(p []byte) (int, error) {
	_, err := io.WriteString(v.to, safe.Visible(strings.ReplaceAll(string(p), "\x7f", `\u007f`)))
	return len(p), err
}

// Write makes a record of each line that is written for people.
func (l *eventLog) Write(p []byte) (int, error) {
	l.lock.Lock()
	defer l.lock.Unlock()
	l.partial = append(l.partial, p...)
	for {
		line, rest, whole := bytes.Cut(l.partial, []byte("\n"))
		if !whole {
			return len(p), nil
		}
		l.partial = append([]byte{}, rest...)
		l.line(string(line))
	}
}

// levels are those of lines, by the word that they begin with.
var levels = map[string]slog.Level{"error": slog.LevelError, "warning": slog.LevelWarn, "note": slog.LevelInfo,
	"loading": slog.LevelInfo}

// line makes a record of a line. Empty lines only set texts apart.
func (l *eventLog) line(text string) {
	text = strings.TrimSpace(text)
	if text == "" {
		return
	}
	level := slog.LevelInfo
	if word, rest, ok := strings.Cut(text, ": "); ok {
		if of, known := levels[word]; known {
			level, text = of, rest
		}
	}
	l.to.Log(context.Background(), level, text)
}

// statement makes a record of a statement.
func (l *eventLog) statement(s store.Statement, text string, values bool) {
	list := []any{"statement", text, "rows", max(s.Rows, 0), "elapsed_ns", s.Elapsed.Nanoseconds()}
	if values && len(s.Values) > 0 {
		list = append(list, "values", shownValues(s.Values))
	}
	l.to.Debug("statement", list...)
}

// failed makes a record of the error that ends the program, with the members that --json has. end
// says what became of the data.
func (l *eventLog) failed(failure map[string]any, end string) {
	var list []any
	for _, name := range sortedKeys(failure) {
		if name == "message" {
			continue
		}
		// As --json writes it: slog would write the text of what is an error.
		if text, err := json.Marshal(failure[name]); err == nil {
			list = append(list, name, json.RawMessage(text))
		}
	}
	if end != "" {
		list = append(list, "data", end)
	}
	message, _ := failure["message"].(string)
	l.to.Error(message, list...)
}

// sortedKeys are the keys of a map in order.
func sortedKeys(of map[string]any) []string {
	var keys []string
	for k := range of {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

// setLog follows the flag --log-format.
func (a *program) setLog() {
	if a.logFormat.word != jsonLog || a.log != nil {
		return
	}
	a.log = newEventLog(a.errFile)
	a.errPage.Color = false
	a.err = report.NewWriter(a.log, false)
}
