package plan

import (
	"slices"
	"strings"
)

// ForJournal is the plan file as a journal may keep it: everybody with rights on the journal reads it, so the password
// of the plan's database is left out, and the rest of that address with it.
func (p *Plan) ForJournal() []byte {
	if !holdsPassword(p.Database) {
		return p.source
	}
	lines := strings.SplitAfter(string(p.source), "\n")
	for _, x := range p.root.pairs {
		if x.key.text != "database" || x.key.line < 1 || x.key.line > len(lines) {
			continue
		}
		// The key goes with its value, which may be on several lines.
		for end := x.key.line; end <= len(lines); end++ {
			text := strings.Join(slices.Concat(lines[:x.key.line-1], lines[end:]), "")
			if again, err := read(p.collector.file, []byte(text), nil); err == nil && again.Database == "" && !strings.Contains(text, p.Database) {
				return []byte(text)
			}
		}
	}
	return nil // it is not kept
}

// holdsPassword reports whether the address of a database may hold a password.
func holdsPassword(url string) bool {
	_, rest, _ := strings.Cut(url, "//")
	user, _, found := cutLast(rest, "@")
	return found && strings.Contains(user, ":") || strings.Contains(strings.ToLower(url), "pass")
}

// cutLast cuts a text at the last occurrence of another one.
func cutLast(s, sep string) (before, after string, found bool) {
	if i := strings.LastIndex(s, sep); i >= 0 {
		return s[:i], s[i+len(sep):], true
	}
	return s, "", false
}

// TextForJournal is ForJournal for a file that may be a plan; other files stay as they are.
func TextForJournal(path string, data []byte) []byte {
	if !strings.HasSuffix(path, ".yaml") && !strings.HasSuffix(path, ".yml") {
		return data
	}
	if p, err := read(path, data, nil); err == nil {
		return p.ForJournal()
	}
	return data
}
