package files

import (
	"errors"
	"io"
)

// errSurrogate tells of an escape such as \ud800 without its other half: it is no character, and readers of JSON make
// another one of it.
var errSurrogate = errors.New(`an escape such as \ud800 without its other half is no character`)

// surrogates passes JSON on and ends with errSurrogate where half a character is escaped.
type surrogates struct {
	from   io.Reader
	escape bool   // a backslash stands before
	digits int    // of an escape that are still to come
	code   uint32 // of the escape
	high   bool   // a first half stands before: the next must be a second one
}

func (s *surrogates) Read(p []byte) (int, error) {
	n, err := s.from.Read(p)
	for _, c := range p[:n] {
		if !s.add(c) {
			return 0, errSurrogate
		}
	}
	return n, err
}

// add takes in a byte, and reports whether all is well.
func (s *surrogates) add(c byte) bool {
	switch {
	case s.digits > 0:
		s.digits--
		s.code = s.code<<4 | uint32(hexDigit(c))
		if s.digits > 0 {
			return true
		}
		first, second := s.code >= 0xd800 && s.code < 0xdc00, s.code >= 0xdc00 && s.code < 0xe000
		if s.high != second {
			return false
		}
		s.high = first
		return true
	case s.escape:
		s.escape = false
		if c == 'u' {
			s.digits, s.code = 4, 0
			return true
		}
		return !s.high
	case c == '\\':
		s.escape = true
		return true
	}
	return !s.high
}

// hexDigit is the value of a digit; other bytes are an error that the reader of JSON reports.
func hexDigit(c byte) byte {
	switch {
	case c >= '0' && c <= '9':
		return c - '0'
	case c|0x20 >= 'a' && c|0x20 <= 'f':
		return (c | 0x20) - 'a' + 10
	}
	return 0
}

// holdsHalf reports whether JSON escapes half a character.
func holdsHalf(text []byte) bool {
	var s surrogates
	for _, c := range text {
		if !s.add(c) {
			return true
		}
	}
	return s.high
}
