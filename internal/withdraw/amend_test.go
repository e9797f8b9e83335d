package withdraw_test

import (
	"strings"
	"testing"

	"evensprout/internal/archive"
	"evensprout/internal/files"
	"evensprout/internal/journal"
	"evensprout/internal/load"
	"evensprout/internal/loadtest"
	"evensprout/internal/withdraw"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const guestTables = `
CREATE TABLE rooms (code VARCHAR(8) PRIMARY KEY, beds INTEGER NOT NULL DEFAULT 1, size INTEGER);
CREATE TABLE guests (id {key}, code VARCHAR(8) NOT NULL UNIQUE, name VARCHAR(40) NOT NULL, mood VARCHAR(10),
  host_id INTEGER, note VARCHAR(20) DEFAULT 'none', FOREIGN KEY (host_id) REFERENCES guests (id));
CREATE TABLE stays (id {key}, guest_id INTEGER NOT NULL, room VARCHAR(8) NOT NULL, price DECIMAL(8,2) NOT NULL,
  FOREIGN KEY (guest_id) REFERENCES guests (id), FOREIGN KEY (room) REFERENCES rooms (code));
CREATE TABLE wishes (guest_id INTEGER NOT NULL, room VARCHAR(8) NOT NULL, PRIMARY KEY (guest_id, room),
  FOREIGN KEY (guest_id) REFERENCES guests (id), FOREIGN KEY (room) REFERENCES rooms (code));
CREATE TABLE letters (id {key}, guest_id INTEGER, guest_code VARCHAR(8),
  FOREIGN KEY (guest_id) REFERENCES guests (id) ON DELETE CASCADE,
  FOREIGN KEY (guest_code) REFERENCES guests (code) ON UPDATE CASCADE);`

const guestPlan = `  Room:
    table: rooms
    rows: 12
    fields: {code: {pattern: "R[0-9]{3}", unique: true}, size: {between: [10, 90]}}
  Guest:
    table: guests
    rows: 40
    fields:
      id: {count: {from: 101}}
      code: {pattern: "[A-Z]{5}", unique: true}
      name: {kind: name}
      mood: {choose: [calm, loud]}
      host: {pick: Guest, nulls: 40%, column: host_id}
    given:
      ada: {name: Ada, code: ADA}
      bo: {name: Bo, code: BO}
  Stay:
    table: stays
    per: {Guest: 0..3}
    fields: {room: {pick: Room}, price: {between: [9.00, 90.00]}}
  Wish:
    table: wishes
    per: {Guest: 2}
    fields: {room: {pick: Room, distinct: true}}
`

// After an edit, changing rows in place leaves tables and journal as withdrawing and loading does, whatever was edited;
// where it cannot be done, that is what is done.
func TestAmendedRowsAreThoseOfALoad(t *testing.T) {
	edits := []struct {
		name    string
		edit    []string // old, new
		reloads string   // engines on which rows are not changed in place
	}{
		{"no edit", []string{"calm", "calm"}, ""},
		{"values", []string{"[calm, loud]", "[calm, loud, merry]"}, ""},
		{"values of children", []string{"[9.00, 90.00]", "[9.00, 99.00]"}, ""},
		{"references", []string{"nulls: 40%", "nulls: 60%"}, ""},
		{"more rows", []string{"rows: 40", "rows: 55"}, ""},
		{"fewer rows", []string{"rows: 40", "rows: 25"}, "mariadb"},
		{"fewer to pick from", []string{"rows: 12", "rows: 7"}, ""},
		{"more to pick from", []string{"rows: 12", "rows: 17"}, ""},
		{"more children", []string{"0..3", "1..4"}, ""},
		{"no children", []string{"0..3", "0"}, ""},
		{"another seed", []string{"seed: s", "seed: other"}, everyEngine},
		{"another clock", []string{"2026-05-01", "2026-06-01"}, ""},
		{"one more field", []string{"mood:", "note: {kind: noun}\n      mood:"}, ""},
		{"one field less", []string{"      mood: {choose: [calm, loud]}\n", ""}, everyEngine},
		{"a named row", []string{"name: Ada", "name: Ada Quill"}, ""},
		{"one more named row", []string{"      bo: {", "      di: {name: Di, code: DI}\n      bo: {"}, everyEngine},
		{"one named row less", []string{"      bo: {name: Bo, code: BO}\n", ""}, ""},
		{"keys of leaves", []string{"per: {Guest: 2}", "per: {Guest: 1..3}"}, ""},
		{"keys that are used", []string{"from: 101", "from: 901"}, everyEngine},
		// letters may refer to them
		{"unique values", []string{"[A-Z]{5}", "[A-Z]{6}"}, everyEngine},
		{"swapped values", []string{"code: ADA}", "code: BO}", "code: BO}\n  Stay", "code: ADA}\n  Stay"}, everyEngine},
		{"another entity", []string{"  Wish:", "  Letter:\n    table: letters\n    rows: 3\n  Wish:"}, everyEngine},
		{"another mode", []string{"  Stay:\n", "  Stay:\n    write: {mode: keep}\n"}, everyEngine},
		{"rows may be skipped", []string{"  Stay:\n", "  Stay:\n    on_violation: {unique: skip}\n"}, everyEngine},
	}
	loadtest.OnEach(t, guestTables, func(t *testing.T, d *loadtest.DB) {
		if testing.Short() && d.Name != "sqlite" {
			t.Skip("it takes long")
		}
		empty := loadtest.Dump(t, d.Store)
		before := loadtest.Head + guestPlan
		for _, x := range edits {
			t.Run(x.name, func(t *testing.T) {
				reloads := x.reloads == everyEngine || x.reloads == d.Name
				after := strings.NewReplacer(x.edit...).Replace(before)
				first, err := d.Load(t, before, d.Journaled(load.Options{}))
				require.NoError(t, err)
				loaded := loadtest.Dump(t, d.Store)
				var memory load.Remembered
				taken, r, err := amended(t, d, after, &memory)
				require.NoError(t, err)
				assert.Equal(t, !reloads, r.Amended)
				assert.Len(t, taken, map[bool]int{true: 1}[reloads])
				assert.Equal(t, !reloads, first.Load == r.Load)
				edited := loadtest.Dump(t, d.Store)
				_, back, err := amended(t, d, before, &memory)
				require.NoError(t, err)
				assert.Equal(t, loaded, loadtest.Dump(t, d.Store), "back again, with what is remembered")
				assert.True(t, d.Compared(t, back.Load).Same())
				_, r, err = amended(t, d, after, &memory)
				require.NoError(t, err)
				assert.Equal(t, edited, loadtest.Dump(t, d.Store))
				assert.True(t, d.Compared(t, r.Load).Same())
				d.Withdrawn(t, r.Load, withdraw.Options{})
				assert.Equal(t, empty, loadtest.Dump(t, d.Store))
				fresh, err := d.Load(t, after, d.Journaled(load.Options{}))
				require.NoError(t, err)
				assert.Equal(t, loadtest.Dump(t, d.Store), edited)
				for i, e := range fresh.Entities {
					assert.Equal(t, e.Fingerprint, r.Entities[i].Fingerprint, e.Entity)
					assert.Equal(t, e.After, r.Entities[i].After, e.Entity)
				}
				d.Withdrawn(t, fresh.Load, withdraw.Options{})
			})
		}
	})
}

const everyEngine = "every engine"

// amended reloads a plan in place.
func amended(
	t *testing.T, d *loadtest.DB, text string, memory *load.Remembered,
) ([]*withdraw.Withdrawal, *journal.Result, error) {
	t.Helper()
	o := d.Journaled(load.Options{Jobs: 2, Remembered: memory})
	return withdraw.Reload(t.Context(), d.Compile(t, text), d.Open(t), o,
		withdraw.Options{InPlace: true, By: archive.Operator{Rows: files.Rows}})
}

// Rows that others have changed, or refer to, are not written over, and theirs do not go.
func TestAmendingLeavesAloneWhatOthersTouched(t *testing.T) {
	more := strings.Replace(loadtest.Head+guestPlan, "[calm, loud]", "[calm, loud, merry]", 1)
	fewer := strings.Replace(loadtest.Head+guestPlan, "rows: 40", "rows: 30", 1)
	for name, x := range map[string]struct {
		others, edited string
		stays          string // a row of theirs, or empty: it does not stop the edit
	}{
		"a changed column":     {"UPDATE guests SET mood = 'glum'", more, "glum"},
		"another column":       {"UPDATE guests SET note = 'mine' WHERE id = 105", more, ""},
		"rows that refer":      {"INSERT INTO letters (id, guest_id) VALUES (7, 140)", fewer, "7|140|"},
		"rows of other tables": {"INSERT INTO letters (id, guest_id) VALUES (7, 105)", more, ""},
		"a row that is gone":   {"DELETE FROM stays WHERE guest_id = 140", fewer, ""},
	} {
		t.Run(name, func(t *testing.T) {
			loadtest.OnEach(t, guestTables, func(t *testing.T, d *loadtest.DB) {
				_, err := d.Load(t, loadtest.Head+guestPlan, d.Journaled(load.Options{}))
				require.NoError(t, err)
				d.Exec(t, x.others)
				before := loadtest.Dump(t, d.Store)
				_, _, err = amended(t, d, x.edited, &load.Remembered{})
				if x.stays == "" {
					require.NoError(t, err)
					return
				}
				var stays *withdraw.Stays
				require.ErrorAs(t, err, &stays)
				assert.Equal(t, before, loadtest.Dump(t, d.Store), "nothing was done")
				assert.Contains(t, before, x.stays)
			})
		})
	}
}
