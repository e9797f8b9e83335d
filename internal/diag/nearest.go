package diag

import (
	"strings"
	"unicode/utf8"
)

// Nearest returns the name that differs least from a wrong one, or "" if none is
// near: at most one edit in three characters. Of several, one that begins alike is nearer:
// the first letter is seldom wrong.
func Nearest(wrong string, names []string) string {
	best, least := "", 1+max(1, utf8.RuneCountInString(wrong)/3)
	for _, name := range names {
		d := distance(strings.ToLower(wrong), strings.ToLower(name))
		if d < least || d == least && best != "" && beginAlike(wrong, name) && !beginAlike(wrong, best) {
			best, least = name, d
		}
	}
	return best
}

// beginAlike reports whether two names have the same first letter.
func beginAlike(a, b string) bool {
	x, _ := utf8.DecodeRuneInString(strings.ToLower(a))
	y, _ := utf8.DecodeRuneInString(strings.ToLower(b))
	return x == y
}

// distance counts the insertions, deletions, replacements and swaps of
// neighbours between two names (Damerau 1964; optimal string alignment).
func distance(a, b string) int {
	x, y := []rune(a), []rune(b)
	if len(x) > 100 || len(y) > 100 {
		return 100
	}
	rows := make([][]int, len(x)+1)
	for i := range rows {
		rows[i] = make([]int, len(y)+1)
		rows[i][0] = i
	}
	for j := range y {
		rows[0][j+1] = j + 1
	}
	for i := 1; i <= len(x); i++ {
		for j := 1; j <= len(y); j++ {
			cost := 1
			if x[i-1] == y[j-1] {
				cost = 0
			}
			rows[i][j] = min(rows[i-1][j]+1, rows[i][j-1]+1, rows[i-1][j-1]+cost)
			if i > 1 && j > 1 && x[i-1] == y[j-2] && x[i-2] == y[j-1] {
				rows[i][j] = min(rows[i][j], rows[i-2][j-2]+1)
			}
		}
	}
	return rows[len(x)][len(y)]
}
