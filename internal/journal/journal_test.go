package journal

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/grow"
	"evensprout/internal/schema"
	"evensprout/internal/store"
	"evensprout/internal/value"
)

// What a chunk's log holds comes back as it was.
func TestLogsComeBack(t *testing.T) {
	var log Log
	assert.True(t, log.Empty())
	log.Insert("Port", []grow.Row{{N: 3}, {N: 4}, {N: 7}, {N: 8, Side: true}})
	assert.Equal(
		t,
		[]RowRun{
			{Entity: "Port", First: 3, Rows: 2},
			{Entity: "Port", First: 7, Rows: 1},
			{Entity: "Port", Given: true, First: 8, Rows: 1},
		},
		log.Inserted,
	)
	log.Key("Port", grow.Row{N: 3}, []value.Value{value.Int(70), value.Int(71)})
	log.Key("Port", grow.Row{N: 9}, []value.Value{value.String("é"), value.String("b")})
	assert.Equal(
		t,
		[]Keys{
			{RowRun: RowRun{Entity: "Port", First: 3, Rows: 2}, From: 70},
			{RowRun: RowRun{Entity: "Port", First: 9, Rows: 2}, Texts: []string{"é", "b"}},
		},
		log.Keys,
	)
	log.Add(
		Log{
			Rejected: []RejectedRow{
				{
					Entity: "Port",
					Row:    5,
					Refusal: &Refusal{
						Kind:   store.Unique,
						Entity: "Port",
						Fields: []string{"code"},
						Values: []string{"A"},
					},
				},
			},
			Redrawn: []DrawnRow{{Entity: "Port", Field: "code", Row: 6, Attempt: 2}},
		},
	)
	packed, err := log.Pack()
	require.NoError(t, err)
	again, err := UnpackLog(packed, NewBudget())
	require.NoError(t, err)
	assert.Equal(t, &log, again)
}

// Runs of rows are in order: those written by hand first.
func TestOrderOfRuns(t *testing.T) {
	all := []RowRun{{First: 4}, {First: 9, Given: true}, {First: 1}, {First: 2, Given: true}}
	slices.SortFunc(all, RowRun.Compare)
	assert.Equal(t, []RowRun{{First: 2, Given: true}, {First: 9, Given: true}, {First: 1}, {First: 4}}, all)
}

// A journal that holds more than this program writes is not read.
func TestWhatIsReadIsBounded(t *testing.T) {
	b := NewBudget()
	row := []value.Value{value.String(string(make([]byte, 1<<20)))}
	taken := 0
	for ; b.Take(Record{row: row}) == nil; taken++ {
	}
	assert.Equal(t, MaxJournal/(1<<20+rowBytes), taken)
	big, err := deflated(make([]byte, MaxJournal+1))
	require.NoError(t, err)
	assert.Less(t, len(big), 1<<20)
	_, err = UnpackLog(big, NewBudget())
	assert.ErrorContains(t, err, "more than 64 MiB")
}

// Of a load that is not done, its chunks are summed.
func TestSums(t *testing.T) {
	chunks := []*ChunkEntry{
		{Result: Sum{Entities: map[string]Entity{"Port": {Inserted: 3, Rejected: 1}, "Berth": {Inserted: 7}}}},
		{Result: Sum{Entities: map[string]Entity{"Port": {Inserted: 2, Kept: 4}}}},
	}
	sums := Sums(&Entry{}, chunks)
	assert.Equal(
		t,
		[]int64{5, 1, 4, 7},
		[]int64{sums["Port"].Inserted, sums["Port"].Rejected, sums["Port"].Kept, sums["Berth"].Inserted},
	)
	sums = Sums(&Entry{Summary: &Result{Entities: []Entity{{Entity: "Port", Inserted: 9}}}}, chunks)
	assert.Equal(t, map[string]Entity{"Port": {Entity: "Port", Inserted: 9}}, sums)
}

// What only this process knows of an entry is not shown.
func TestEntriesAsJSON(t *testing.T) {
	text, err := json.Marshal(
		[]any{&Entry{Token: "secret", Body: []byte("body"), Elsewhere: "schema"}, &ChunkEntry{Key: Key{Load: 7}}},
	)
	require.NoError(t, err)
	for _, word := range []string{"secret", "Token", "Body", "Elsewhere", "Key"} {
		assert.NotContains(t, string(text), word)
	}
}

// The key of a chunk is that of its first row.
func TestKeys(t *testing.T) {
	table := &schema.Table{Columns: []*schema.Column{{Name: "load"}, {Name: "family"}, {Name: "side"}, {Name: "first"}}}
	cells := BeforeAll(7).Cells(table)
	require.Len(t, cells, 4)
	assert.Equal(
		t,
		[]string{"7", "-1", "0", "0"},
		[]string{cells[0].Value.String(), cells[1].Value.String(), cells[2].Value.String(), cells[3].Value.String()},
	)
}

// Something locked is tried again until the time is over; other errors end it at once.
func TestWaitingForLocks(t *testing.T) {
	locked := fmt.Errorf("x: %w", &store.Fault{Kind: store.Locked})
	synctest.Test(t, func(t *testing.T) {
		began, tries := time.Now(), 0
		err := WhileLocked(t.Context(), time.Minute, nil, func() error {
			tries++
			return locked
		})
		assert.Equal(t, locked, err)
		assert.Equal(t, time.Minute, time.Since(began))
		assert.Equal(t, int(time.Minute/lockPoll)+1, tries)
		tries = 0
		assert.NoError(t, WhileLocked(t.Context(), time.Minute, nil, func() error {
			if tries++; tries < 5 {
				return locked
			}
			return nil
		}))
		other := errors.New("other")
		assert.Equal(t, other, WhileLocked(t.Context(), time.Minute, nil, func() error { return other }))
		ctx, cancel := context.WithCancel(t.Context())
		cancel()
		assert.ErrorIs(t, WhileLocked(ctx, time.Minute, nil, func() error { return locked }), context.Canceled)
	})
}

// A journal that cannot be kept says so, and what to do; other errors stay as they are.
func TestJournalsThatCannotBeKept(t *testing.T) {
	var fault *store.Fault
	require.ErrorAs(t, CannotBeKept(&store.Fault{Kind: store.Denied, Message: "no"}), &fault)
	assert.Contains(t, fault.Hint, "--no-journal")
	other := errors.New("other")
	assert.Equal(t, other, CannotBeKept(other))
}

// Whatever stands in a journal, reading it does not panic.
func FuzzUnpackLog(f *testing.F) {
	packed, err := (&Log{Keys: []Keys{{RowRun: RowRun{Entity: "Port", Rows: 2}, Texts: []string{"a", "b"}}}}).Pack()
	if err != nil {
		f.Fatal(err)
	}
	f.Add(packed)
	f.Add([]byte("no log"))
	f.Fuzz(func(t *testing.T, data []byte) { UnpackLog(data, NewBudget()) })
}

func FuzzUndoPackets(f *testing.F) {
	log := Undo{}
	log.Add(
		UndoSection{
			Step:    1,
			Kind:    UndoChanged,
			Table:   "t",
			Key:     []string{"id"},
			Columns: []string{"a"},
			Values:  [][]value.Value{{value.Int(1), value.String("x"), {}}},
		},
	)
	packets, err := log.Pack()
	require.NoError(f, err)
	f.Add(packets[0].Body)
	f.Fuzz(func(t *testing.T, body []byte) {
		sections, err := UnpackUndo(body)
		if err != nil {
			return
		}
		again, err := (&Undo{Sections: sections}).Pack()
		require.NoError(t, err)
		for _, p := range again {
			_, err := UnpackUndo(p.Body)
			require.NoError(t, err)
		}
	})
}
