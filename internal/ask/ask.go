// Package ask asks for the fields of a row on a terminal, one after the other.
package ask

import (
	"fmt"
	"io"
	"strings"

	"github.com/charmbracelet/bubbles/textinput"
	tea "github.com/charmbracelet/bubbletea"
	"github.com/charmbracelet/x/ansi"
)

// Field is a question.
type Field struct {
	Name    string
	About   string             // what it holds, in a few words
	Default string             // what an empty answer stands for
	Check   func(string) error // of an answer that is not empty; nil: anything will do
	Offers  func(typed string) []string
}

// mostOffers is how many offers are shown at a time.
const mostOffers = 6

// Form asks for the fields; faint makes text that is less important. ok is false if the person leaves without an
// answer.
func Form(
	in io.Reader, out io.Writer, title string, fields []Field, faint func(string) string,
) (answers []string, ok bool, err error) {
	f := newForm(title, fields)
	f.faint = faint
	end, err := tea.NewProgram(f, tea.WithInput(in), tea.WithOutput(out)).Run()
	if err != nil {
		return nil, false, err
	}
	f = end.(*form)
	return f.answers, f.done, nil
}

// form is the state of the questions. It implements tea.Model.
type form struct {
	title   string
	fields  []Field
	answers []string // of the fields before the one that is asked for
	input   textinput.Model
	offers  []string
	chosen  int // of the offers; -1 if none is
	fault   string
	width   int
	faint   func(string) string
	done    bool
	left    bool // without an answer
}

func newForm(title string, fields []Field) *form {
	f := &form{title: title, fields: fields, input: textinput.New(), width: 80,
		faint: func(s string) string { return s }}
	f.input.Prompt = ""
	f.input.Focus()
	f.begin("")
	return f
}

// begin asks for the next field.
func (f *form) begin(text string) {
	f.fault = ""
	if f.done = len(f.answers) == len(f.fields); f.done {
		return
	}
	f.input.SetValue(text)
	f.input.CursorEnd()
	f.input.Placeholder = f.fields[len(f.answers)].Default
	f.input.Width = max(10, f.width-f.nameWidth()-6)
	f.find()
}

// find looks for what is offered for the text typed so far.
func (f *form) find() {
	f.offers, f.chosen = nil, -1
	if o := f.fields[len(f.answers)].Offers; o != nil {
		f.offers = o(f.input.Value())
		f.offers = f.offers[:min(len(f.offers), mostOffers)]
	}
}

// Init implements tea.Model.
func (f *form) Init() tea.Cmd { return textinput.Blink }

// Update implements tea.Model.
func (f *form) Update(m tea.Msg) (tea.Model, tea.Cmd) {
	switch m := m.(type) {
	case tea.WindowSizeMsg:
		f.width = m.Width
		f.input.Width = max(10, f.width-f.nameWidth()-6)
		return f, nil
	case tea.KeyMsg:
		if f.key(m.Type) {
			if f.done || f.left {
				return f, tea.Quit
			}
			return f, nil
		}
	}
	before := f.input.Value()
	var c tea.Cmd
	f.input, c = f.input.Update(m)
	if f.input.Value() != before {
		f.fault = ""
		f.find()
	}
	return f, c
}

// key does what a key means; false if it belongs to the text.
func (f *form) key(k tea.KeyType) bool {
	switch k {
	case tea.KeyCtrlC, tea.KeyEsc:
		f.left = true
	case tea.KeyUp, tea.KeyDown:
		step := map[tea.KeyType]int{tea.KeyUp: -1, tea.KeyDown: 1}[k]
		f.chosen = max(-1, min(f.chosen+step, len(f.offers)-1))
	case tea.KeyTab:
		if len(f.offers) > 0 {
			f.input.SetValue(f.offers[max(f.chosen, 0)])
			f.input.CursorEnd()
			f.find()
		}
	case tea.KeyShiftTab: // back to the field before
		if n := len(f.answers); n > 0 {
			text := f.answers[n-1]
			f.answers = f.answers[:n-1]
			f.begin(text)
		}
	case tea.KeyEnter:
		text := strings.TrimSpace(f.input.Value())
		if f.chosen >= 0 {
			text = f.offers[f.chosen]
		}
		if check := f.fields[len(f.answers)].Check; text != "" && check != nil {
			if err := check(text); err != nil {
				f.fault = err.Error()
				return true
			}
		}
		f.answers = append(f.answers, text)
		f.begin("")
	default:
		return false
	}
	return true
}

// nameWidth is the width of the names of fields.
func (f *form) nameWidth() int {
	width := 0
	for _, x := range f.fields {
		width = max(width, ansi.StringWidth(x.Name))
	}
	return width
}

// View implements tea.Model.
func (f *form) View() string {
	width := f.nameWidth()
	var b strings.Builder
	line := func(format string, args ...any) {
		b.WriteString(ansi.Truncate(fmt.Sprintf(format, args...), max(f.width, 20), "…") + "\n")
	}
	line("%s", f.title)
	for i, a := range f.answers {
		if a == "" {
			line("  %s  %s", ansi.Truncate(pad(f.fields[i].Name, width), width, ""), f.faint(f.fields[i].Default))
			continue
		}
		line("  %s  %s", pad(f.fields[i].Name, width), a)
	}
	if f.done || f.left {
		return b.String()
	}
	x := f.fields[len(f.answers)]
	line("> %s  %s", pad(x.Name, width), f.input.View())
	indent := strings.Repeat(" ", width+4)
	for i, o := range f.offers {
		sign := "  "
		if i == f.chosen {
			sign = "> "
		}
		line("%s%s%s", indent, sign, o)
	}
	switch {
	case f.fault != "":
		for _, l := range strings.Split(ansi.Wordwrap(f.fault, max(f.width-4, 20), ""), "\n") {
			line("  ! %s", l)
		}
	default:
		line("%s%s", indent, f.faint(x.About))
	}
	keys := "Enter: next   Shift-Tab: back   Esc: leave"
	if len(f.offers) > 0 {
		keys = "↑ ↓ Enter: choose   Tab: take   Shift-Tab: back   Esc: leave"
	}
	line("  %s", f.faint(keys))
	return b.String()
}

// pad adds blanks up to a width.
func pad(s string, width int) string {
	return s + strings.Repeat(" ", max(0, width-ansi.StringWidth(s)))
}
