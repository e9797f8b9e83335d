package report

import (
	"io"
	"strings"

	"evensprout/internal/safe"
)

// styles are the escape sequences of this package's own, as Page writes them.
var styles = []string{"\x1b[0m", "\x1b[1m", "\x1b[2m", "\x1b[1;31m", "\x1b[32m"}

// Writer is the way of all that people read: what would act on a terminal is written out,
// except for the styles of this package where the page has colour. It remembers the first
// error, so that output that could not be written is not taken for written.
type Writer struct {
	to    io.Writer
	color bool
	err   error
}

// NewWriter writes to another writer.
func NewWriter(to io.Writer, color bool) *Writer { return &Writer{to: to, color: color} }

// ShowColor says whether the page has colour.
func (w *Writer) ShowColor(on bool) { w.color = on }

// Err is the first error.
func (w *Writer) Err() error { return w.err }

func (w *Writer) Write(p []byte) (int, error) {
	_, err := w.to.Write([]byte(w.visible(string(p))))
	if err != nil && w.err == nil {
		w.err = err
	}
	return len(p), err
}

// visible replaces characters that a terminal would obey.
func (w *Writer) visible(s string) string {
	if !w.color || !strings.Contains(s, "\x1b") {
		return safe.Visible(s)
	}
	var b strings.Builder
	for s != "" {
		at := strings.IndexByte(s, 0x1b)
		if at < 0 {
			at = len(s)
		}
		b.WriteString(safe.Visible(s[:at]))
		s = s[at:]
		own := ""
		for _, style := range styles {
			if strings.HasPrefix(s, style) {
				own = style
			}
		}
		switch {
		case own != "":
			b.WriteString(own)
			s = s[len(own):]
		case s != "":
			b.WriteString(`\x1b`)
			s = s[1:]
		}
	}
	return b.String()
}

// Exact is the way of what programs read: it is written as it is, and the first error is
// remembered.
type Exact struct {
	To  io.Writer
	err error
}

// Err is the first error.
func (w *Exact) Err() error { return w.err }

func (w *Exact) Write(p []byte) (int, error) {
	n, err := w.To.Write(p)
	if err != nil && w.err == nil {
		w.err = err
	}
	return n, err
}
