package cli

import (
	"errors"
	"slices"
	"strings"
)

// wordFlag is a flag that takes one of a few words.
type wordFlag struct {
	word  string // its value
	words []string
	name  string // of what it takes, for help texts
}

// String is the flag's value.
func (f *wordFlag) String() string { return f.word }

// Type names what the flag takes, for help texts.
func (f *wordFlag) Type() string { return f.name }

// Set sets the flag.
func (f *wordFlag) Set(s string) error {
	if !slices.Contains(f.words, s) {
		return errors.New("must be " + f.list())
	}
	f.word = s
	return nil
}

// list names all words, as in: auto, always or never.
func (f *wordFlag) list() string {
	last := len(f.words) - 1
	return strings.Join(f.words[:last], ", ") + " or " + f.words[last]
}

// newColorFlag is the flag --color.
func newColorFlag() wordFlag {
	return wordFlag{word: "auto", words: []string{"auto", "always", "never"}, name: "when"}
}

// newLogFlag is the flag --log-format.
func newLogFlag() wordFlag {
	return wordFlag{word: textLog, words: []string{textLog, jsonLog}, name: "format"}
}
