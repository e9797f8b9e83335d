package diag

import "github.com/dustin/go-humanize"

// Number writes a whole number with thousands separators.
func Number[N int | int64 | uint64](n N) string { return humanize.Comma(int64(n)) }

// Ordinal writes a number as a place in a row: 1st, 2nd, 3rd, 4th.
func Ordinal(n int64) string { return humanize.Ordinal(int(n)) }

// Count writes a number with the word for what is counted: 1 row, 2 rows.
func Count[N int | int64 | uint64](n N, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return Number(n) + " " + many
}
