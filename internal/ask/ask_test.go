package ask

import (
	"errors"
	"strings"
	"testing"

	tea "github.com/charmbracelet/bubbletea"
	"github.com/stretchr/testify/assert"
)

// typed sends keys: text as it is, and names of keys in angle brackets.
func typed(f *form, text string) {
	keys := map[string]tea.KeyType{
		"enter": tea.KeyEnter, "tab": tea.KeyTab, "up": tea.KeyUp, "down": tea.KeyDown, "esc": tea.KeyEsc,
		"back": tea.KeyShiftTab,
		"rub":  tea.KeyBackspace,
	}
	for text != "" {
		if name, rest, ok := strings.Cut(strings.TrimPrefix(text, "<"), ">"); ok && text[0] == '<' {
			f.Update(tea.KeyMsg{Type: keys[name]})
			text = rest
			continue
		}
		f.Update(tea.KeyMsg{Type: tea.KeyRunes, Runes: []rune(text[:1])})
		text = text[1:]
	}
}

func card() *form {
	return newForm("Passenger", []Field{
		{Name: "name", Default: "such as Freya"},
		{Name: "status", About: "one of active, barred", Offers: func(typed string) []string {
			var out []string
			for _, s := range []string{"active", "barred", "lapsed"} {
				if strings.Contains(s, typed) {
					out = append(out, s)
				}
			}
			return out
		}},
		{Name: "points", Check: func(s string) error {
			if s == "-1" {
				return errors.New("CHECK (points >= 0) does not hold")
			}
			return nil
		}},
	})
}

func TestAnswers(t *testing.T) {
	for keys, want := range map[string][]string{
		"<enter><enter><enter>":                              {"", "", ""},
		"Ada Q<enter>bar<tab><enter>7<enter>":                {"Ada Q", "barred", "7"},
		"<enter>a<down><down><enter><enter>":                 {"", "barred", ""},
		"<enter><down><up><enter><enter>":                    {"", "", ""},
		"<enter><enter>-1<enter><rub>2<enter>":               {"", "", "-2"},
		"Ad<enter><enter><back><back>a<enter><enter><enter>": {"Ada", "", ""},
	} {
		f := card()
		typed(f, keys)
		assert.True(t, f.done, keys)
		assert.Equal(t, want, f.answers, keys)
	}
	f := card()
	typed(f, "Ada<enter><esc>")
	assert.True(t, f.left)
	assert.False(t, f.done)
}

func TestWhatIsShown(t *testing.T) {
	f := card()
	f.Update(tea.WindowSizeMsg{Width: 60})
	assert.Contains(t, f.View(), "such as Freya")
	typed(f, "Ada<enter>a")
	assert.Contains(t, f.View(), "name    Ada")
	assert.Contains(t, f.View(), "barred")
	typed(f, "<enter>-1<enter>")
	assert.Contains(t, f.View(), "! CHECK (points >= 0) does not hold")
	typed(f, "<rub>")
	assert.NotContains(t, f.View(), "CHECK")
	for _, line := range strings.Split(f.View(), "\n") {
		assert.LessOrEqual(t, len([]rune(line)), 70, line)
	}
}
