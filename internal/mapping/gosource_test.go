package mapping

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/lexicon"
	"evensprout/internal/schema"
)

const source = `package harbour

import ("database/sql"; "time"; "github.com/google/uuid")

type Status string

const (
	Active  Status = "active"
	Dormant Status = "dormant"
)

type Deck int

const (
	Lower Deck = iota + 1
	Upper
	_
	Sun
)

type stamps struct {
	CreatedAt time.Time  ` + "`db:\"created_at\"`" + `
	DeletedAt *time.Time ` + "`db:\"deleted_at\"`" + `
}

// Passenger travels.
type Passenger struct {
	ID        int64            ` + "`db:\"id\"`" + `
	GivenName string           ` + "`db:\"given_name,omitempty\" json:\"x\"`" + `
	Tel       sql.NullString   ` + "`db:\"tel\"`" + `
	Points    sql.Null[int32]  ` + "`db:\"points\"`" + `
	Card      uuid.UUID        ` + "`db:\"card\"`" + `
	Photo     []byte           ` + "`db:\"photo\"`" + `
	Status    Status           ` + "`db:\"status\"`" + `
	Deck      *Deck            ` + "`db:\"deck\"`" + `
	Secret    string           ` + "`db:\"-\"`" + `
	Bookings  []Booking
	Newsletter bool
	inner     string
	stamps
}

type Booking struct {
	Number uint32 ` + "`db:\"number\"`" + `
	Whose  int64  ` + "`db:\"passenger_id\"`" + `
}

func (b *Booking) TableName() string { return "reservations" }

type helper struct{ A int }
type Options struct{ B int }
`

func read(t *testing.T, text string) []Entity {
	t.Helper()
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "models.go"), []byte(text), 0o644))
	list, err := Read(folder, "db")
	require.NoError(t, err)
	return list
}

func TestStructsAreRead(t *testing.T) {
	list := read(t, source)
	require.Len(t, list, 2)
	p := list[0]
	assert.Equal(t, "Passenger", p.Name)
	want := []Field{
		{
			Name:   "ID",
			Column: "id",
			Type:   "int64",
			Kind:   schema.Integer,
		}, {Name: "GivenName", Column: "given_name", Type: "string", Kind: schema.Text},
		{
			Name:     "Tel",
			Column:   "tel",
			Type:     "sql.NullString",
			Kind:     schema.Text,
			Nullable: true,
		}, {Name: "Points", Column: "points", Type: "sql.Null[int32]", Kind: schema.Integer, Bits: 32, Nullable: true},
		{
			Name:   "Card",
			Column: "card",
			Type:   "uuid.UUID",
			Kind:   schema.UUID,
		}, {Name: "Photo", Column: "photo", Type: "[]byte", Kind: schema.Bytes},
		{
			Name:    "Status",
			Column:  "status",
			Type:    "Status",
			Kind:    schema.Text,
			Choices: []Choice{{Text: "active", IsText: true}, {Text: "dormant", IsText: true}},
		},
		{
			Name:     "Deck",
			Column:   "deck",
			Type:     "*Deck",
			Kind:     schema.Integer,
			Nullable: true,
			Choices:  []Choice{{Number: 1}, {Number: 2}, {Number: 4}},
		},
		{Name: "Newsletter", Type: "bool", Kind: schema.Boolean},
		{
			Name:   "CreatedAt",
			Column: "created_at",
			Type:   "time.Time",
			Kind:   schema.Timestamp,
		}, {Name: "DeletedAt", Column: "deleted_at", Type: "*time.Time", Kind: schema.Timestamp, Nullable: true},
	}
	require.Len(t, p.Fields, len(want))
	for i, f := range p.Fields {
		f.Place = want[i].Place
		assert.Equal(t, want[i], f)
	}
	assert.Equal(t, "reservations", list[1].Table)
}

func TestStructsAndTablesAreCompared(t *testing.T) {
	list := read(t, source)
	db := &schema.Database{Tables: []*schema.Table{
		{
			Name: "passengers",
			Columns: []*schema.Column{
				{Name: "id", Kind: schema.Integer, NotNull: true},
				{Name: "given_name", Kind: schema.Text},
				{Name: "tel", Kind: schema.Text, NotNull: true},
				{
					Name: "points",
				},
				{Name: "card", NotNull: true},
				{Name: "photo"},
				{Name: "status", NotNull: true},
				{Name: "deck"},
				{Name: "newsletter", NotNull: true},
				{Name: "created_at", NotNull: true},
				{Name: "extra"},
			},
		},
	}}
	matches, told := Hold(list, db)
	require.Len(t, matches, 1)
	var messages []string
	for _, d := range told {
		assert.NotZero(t, d.Line)
		messages = append(messages, d.Message)
	}
	assert.Equal(t, []string{
		"Passenger.GivenName (string) cannot hold NULL, which the column passengers.given_name may be",
		"Passenger.Tel may be nil, and the column passengers.tel is NOT NULL",
		"the field Passenger.DeletedAt has no column in passengers",
		"the column passengers.extra has no field in Passenger",
		"the struct Booking has no table; name it with a method TableName",
	}, messages)
}

func TestTablesAreMadeOfStructs(t *testing.T) {
	db := Database(read(t, source))
	require.Equal(t, []string{"passengers", "reservations"}, db.TableNames())
	p := db.Tables[0]
	assert.Equal(t, []string{"id"}, p.PrimaryKey)
	assert.Equal(t, []string{"active", "dormant"}, p.Column("status").Values)
	assert.Equal(t, `"deck" IN (1, 2, 4)`, p.Checks[0].Expression)
	assert.False(t, p.Column("deck").NotNull)
	assert.Equal(t, "newsletter", p.Column("newsletter").Name)
	for word, want := range map[string]string{"ferry": "ferries", "bay": "bays", "bus": "buses", "pier": "piers"} {
		assert.Equal(t, want, plural(word))
	}
	assert.Equal(t, "http_server_id", lexicon.Snake.Of("HTTPServerID"))
}

func TestFilesThatAreNoGo(t *testing.T) {
	folder := t.TempDir()
	_, err := Read(folder, "db")
	assert.ErrorContains(t, err, "has no Go files")
	require.NoError(t, os.WriteFile(filepath.Join(folder, "a.go"), []byte("package x\ntype A struct {"), 0o644))
	_, err = Read(folder, "db")
	assert.ErrorContains(t, err, "a.go:2:16")
	_, err = Read(filepath.Join(folder, "gone"), "db")
	assert.Error(t, err)
}

// Whatever is in a file, reading ends without a panic.
func FuzzStructs(f *testing.F) {
	f.Add(source)
	f.Add("package x\ntype T struct { T; A *T `db:\"a\"`; B [16]byte `db:\"b\"` }\nconst C T = 1 << iota\n")
	f.Fuzz(func(t *testing.T, text string) {
		folder := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(folder, "models.go"), []byte(text), 0o644))
		list, err := Read(folder, "db")
		if err == nil {
			Hold(list, Database(list))
		}
	})
}
