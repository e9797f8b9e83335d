package lexicon

import (
	"slices"
	"strings"
)

// Event is something that happens to what a row is about.
type Event struct {
	notions string
	Rank    int    // events of a lower rank come before
	Within  string // of the event before
	Past    bool   // it lies before the plan's clock
	Apart   bool   // it happens in place of others that may not have
}

// events are in the order in which they happen; the first that a name says counts.
var events = []Event{
	{"deleted archived blocked", 10, "200d", true, false},
	{"updated", 9, "60d", true, false},
	{"seen verified", 9, "60d", true, false},
	{"created", 0, "", true, false},
	{"due", 3, "30d", false, false},
	{"paid", 3, "14d", true, false},
	{"packed", 4, "2d", true, false},
	{"shipped", 5, "4d", true, false},
	{"delivered", 6, "7d", true, false},
	{"returned", 8, "30d", true, false},
	{"cancelled", 8, "30d", true, true},
	{"closed", 7, "21d", true, false},
	{"left", 8, "1500d", true, false},
	{"ended", 7, "30d", false, false},
	{"registered ordered booked issued hired", 1, "1d", true, false},
	{"scheduled started", 2, "14d", false, false},
}

// UnknownEvent is the rank of an event that no word names: it happens in between.
const UnknownEvent = 2

// AnyTime is the rank from which events happen at any time after the beginning.
const AnyTime = 9

// EventOf is what a column's name says to have happened; an event of no rank of its own happens in between.
func EventOf(name string) Event {
	m := Of(name)
	for _, e := range events {
		if m.Says(strings.Fields(e.notions)...) {
			return e
		}
	}
	return Event{Rank: UnknownEvent, Within: "30d"}
}

// IsDue reports whether the event is a day until which something is expected, rather than something that happens.
func (e Event) IsDue() bool { return e.notions == "due" }

// Days are those within which the event lies, relative to the plan's clock: what is updated or seen comes after what is
// created, up to some days before the clock, and what is not in the past after the clock. The last one is excluded.
func (e Event) Days(before int64) (first, end int64) {
	const recent, ahead = 60, 400
	switch {
	case e.Rank >= AnyTime:
		return -recent, 0
	case e.Rank != UnknownEvent && !e.Past:
		return 0, ahead
	}
	return -before, -recent
}

// A number that counts seconds since 1970 has a name that ends with one of these words, or is one of these names.
var (
	momentEnds  = []string{"at", "since", "until", "till", "epoch", "timestamp", "ts"}
	momentWords = []string{"expires", "expiry", "lastlogin", "lastaccess", "lastseen", "lastvisit", "lastmodified"}
)

// IsMoment reports whether the name of a whole number says that it is a moment: created_at, valid_until, lastlogin.
// What a flag or an amount could be called is not enough: closed, login, duration.
func IsMoment(name string) bool {
	words := Words(name)
	if len(words) == 0 {
		return false
	}
	last := strings.ToLower(words[len(words)-1])
	if slices.Contains(momentWords, strings.ToLower(strings.Join(words, ""))) || slices.Contains(momentWords, last) {
		return true
	}
	m := Of(name)
	if len(words) == 1 {
		return last == "timestamp" || last == "epoch"
	}
	return slices.Contains(momentEnds, last) || last == "time" && m.Says("created", "updated", "deleted", "seen")
}
