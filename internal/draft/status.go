package draft

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"evensprout/internal/lexicon"
	"evensprout/internal/schema"
	"evensprout/internal/sources"
)

// chosenItem finds the values of {choose: [a, b]} and {choose: {a: 80, b: 20}}.
var chosenItem = regexp.MustCompile(`[[{,] ?([a-z_]+)(?:: [0-9]+)?`)

// followStatus lets a moment be there only where the status says that its event has happened: what is shipped has a
// date of shipping.
func (t *Table) followStatus() {
	t.followTruths()
	status, words := t.statusWords()
	if status == nil {
		return
	}
	for _, f := range t.Fields {
		e := lexicon.EventOf(f.Column.Name)
		if !f.Nulls || f.Source.Fixed || !e.Past || e.Rank < 3 || e.Rank > lastRank || !isMoment(f.Column) ||
			!strings.HasPrefix(f.Source.Text, "{after") && !strings.HasPrefix(f.Source.Text, "{before") {
			continue
		}
		list := statesWith(e, f.Column.Name, words)
		if len(list) == 0 || len(list) == len(words) {
			continue
		}
		f.Source.Text = f.Source.With(fmt.Sprintf("if: {%s: [%s]}", quoteField(status.Name), strings.Join(list, ", ")))
		f.Nulls = false
	}
}

// followTruths lets a moment be there only where a truth says that its event has happened: done, completed_at.
func (t *Table) followTruths() {
	for _, f := range t.Fields {
		e := lexicon.EventOf(f.Column.Name)
		if !f.Nulls || e.Rank < 3 || !isMoment(f.Column) || !strings.HasPrefix(f.Source.Text, "{after") {
			continue
		}
		for _, yes := range t.Fields {
			if yes.Column.Kind == schema.Boolean && yes.Column.NotNull && !yes.unsaid &&
				lexicon.EventOf(yes.Column.Name) == e && strings.HasPrefix(yes.Source.Text, "{share") {
				f.Source.Text = f.Source.With(fmt.Sprintf("if: {%s: true}", quoteField(yes.Name)))
				f.Nulls = false
				break
			}
		}
	}
}

// statesWith are the words for states in which an event has happened.
func statesWith(e lexicon.Event, name string, words []string) []string {
	var list []string
	for _, w := range words {
		rank := lexicon.EventOf(w).Rank
		happened := rank >= e.Rank && rank < lastRank || rank == lastRank && returnedLater(w)
		if e.Rank == lastRank {
			happened = rank == lastRank && sameNotion(w, name)
		}
		if rank != lexicon.UnknownEvent && happened {
			list = append(list, w)
		}
	}
	return list
}

// lastRank is that of what ends the life of something: it is returned or cancelled.
const lastRank = 8

// returnedLater reports whether a status comes after delivery, rather than in its place.
func returnedLater(word string) bool {
	m := lexicon.Of(word)
	return m.Says("returned")
}

// sameNotion reports whether two names have a notion in common.
func sameNotion(a, b string) bool { return lexicon.Of(a).Shares(lexicon.Of(b)) }

func isMoment(c *schema.Column) bool { return c.Kind == schema.Timestamp || c.Kind == schema.Date }

// statusWords are the field that holds the state of a row, and the words for it; nil if there is none.
func (t *Table) statusWords() (*Field, []string) {
	for _, f := range t.Fields {
		if f.Nulls || f.ref != nil || !nameSays(f, "status") {
			continue
		}
		var list []string
		switch {
		case strings.HasPrefix(f.Source.Text, "{choose"):
			for _, m := range chosenItem.FindAllStringSubmatch(strings.TrimPrefix(f.Source.Text, "{choose"), -1) {
				list = append(list, m[1])
			}
		case sources.KindName.MatchString(f.Source.Text):
			for _, v := range sources.Values(f.Source, sources.Probes) {
				if !slices.Contains(list, v.S) {
					list = append(list, v.S)
				}
			}
			slices.Sort(list)
		}
		if len(list) > 1 {
			return f, list
		}
	}
	return nil, nil
}
