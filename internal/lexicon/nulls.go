package lexicon

import "strings"

// nullShares are how many rows have no value, by what a name says; the first that fits counts.
var nullShares = []struct{ notions, share string }{
	{"deleted archived blocked cancelled returned", "95%"},
	{"middle nick fax salutation initials", "70%"},
	{"error reason feedback secret token", "70%"},
	{"left", "85%"},
	{"note comment summary bio description reply answer", "40%"},
	{"closed ended delivered", "40%"},
	{"shipped packed paid verified", "30%"},
	{"discount coupon tracking image url", "40%"},
	{"seen", "15%"},
	{"company", "60%"},
	{"created updated registered name first last email title price total", "0%"},
}

// NullShare is how many rows have no value in a column that may be NULL; empty if its name does not tell.
func NullShare(column string) string {
	m := Of(column)
	list := Words(column)
	last := list[max(len(list)-1, 0):]
	if len(last) == 1 && (m.Says("address") || m.Says("line")) && strings.HasSuffix(last[0], "2") {
		return "75%"
	}
	for _, n := range nullShares {
		if m.Says(strings.Fields(n.notions)...) {
			return n.share
		}
	}
	return ""
}

// TrueShare is how many rows of a column of truths are true: as its default says, or its name. The default is an
// expression of SQL; empty if there is none.
func TrueShare(column, preset string) string {
	m := Of(column)
	share := "50%"
	preset = strings.ToLower(strings.Trim(preset, "'() "))
	switch {
	case strings.HasPrefix(preset, "true"), preset == "1", preset == "t":
		share = "90%"
	case strings.HasPrefix(preset, "false"), preset == "0", preset == "f":
		share = "10%"
	case m.Says("deleted", "archived", "blocked", "cancelled", "returned", "error", "spam"):
		return "5%"
	case m.Says("active", "verified"):
		return "85%"
	}
	if m.Says("default") || share == "10%" && m.Says("deleted", "archived", "blocked") {
		return "5%"
	}
	return share
}
