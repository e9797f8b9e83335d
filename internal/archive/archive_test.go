package archive

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"evensprout/internal/grow"
	"evensprout/internal/journal"
	"evensprout/internal/value"
)

func FuzzRejects(f *testing.F) {
	f.Add(`{"entity":"A","fields":{"n":1,"t":"x","d":"1.5","b":"AA==","j":{"a":[1]},"m":"2026-05-01T08:00:00Z"}}`)
	f.Add(`{"entity":"A","fields":{"n":null}}`)
	set := &grow.Set{Seed: "s", Edition: "1"}
	e := set.NewEntity("A")
	rows := func() map[string]*rejectedRows {
		r := &rejectedRows{}
		for i, typ := range []value.Type{value.Integer, value.Text, value.Decimal, value.Bytes, value.JSON,
			value.Timestamp, value.UUID, value.Boolean, value.Date, value.Time} {
			field := &grow.Field{Name: "ntdbjmuoxy"[i : i+1], Entity: e, Source: grow.Stored(i, typ, 2)}
			r.fields = append(r.fields, field)
		}
		return map[string]*rejectedRows{"A": r}
	}
	f.Fuzz(func(t *testing.T, text string) {
		tables := rows()
		if problems := readRejects("f", strings.NewReader(text), tables); len(problems) == 0 {
			for _, row := range tables["A"].rows {
				for i, v := range row {
					if !v.IsNull() {
						assert.Equal(t, tables["A"].fields[i].Source.Type(), v.Type)
					}
				}
			}
		}
	})
}

// A reader of the journal's packets never panics, and gives back what was packed.
func FuzzPackets(f *testing.F) {
	p := journal.Packer{Numbers: true}
	if err := p.Add(grow.Row{N: 3, Side: true},
		[]value.Value{value.Int(-5), value.String("é"), {}, {Type: value.UUID, N: -1, M: 7},
			{Type: value.Decimal, N: 125, Scale: 2}}); err != nil {
		f.Fatal(err)
	}
	if err := p.Close(); err != nil {
		f.Fatal(err)
	}
	f.Add(p.Packets[0].Body, int64(1), true)
	f.Add([]byte("no packet"), int64(2), false)
	f.Fuzz(func(t *testing.T, body []byte, rows int64, numbers bool) {
		journal.Unpack(body, min(rows, 1000), numbers, func([]string, grow.Row, []value.Value) error { return nil })
		openArchive(&journal.Entry{Body: body})
	})
}
