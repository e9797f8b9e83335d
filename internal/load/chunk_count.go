package load

import (
	"fmt"

	"evensprout/internal/diag"
	"evensprout/internal/store"
)

// maxChunks is how many chunks a load may have: the journal has an entry of some 500 bytes for each, and what it holds
// about one load is read as a whole (journal.MaxJournal).
const maxChunks = 100_000

// refuseManyChunks refuses a load with more chunks than the journal can list.
func (l *Session) refuseManyChunks() error {
	total, chunks := uint64(0), uint64(0)
	for _, f := range l.Order.Families {
		rows := uint64(0)
		for _, t := range f {
			rows += t.Grow.Total()
		}
		total += rows
		chunks += rows/max(l.most(f), 1) + 1
	}
	if chunks <= maxChunks {
		return nil
	}
	return &store.Fault{
		Kind: store.Refused,
		Message: fmt.Sprintf("the load would have %s, and the journal lists at most %s of a load",
			diag.Count(int64(chunks), "chunk", "chunks"), diag.Number(maxChunks)),
		Hint: fmt.Sprintf("make larger ones: --chunk %d", total/(maxChunks/2)+1),
	}
}
