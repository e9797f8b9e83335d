package ferries

import (
	"database/sql"
	"os"
	"strings"
	"testing"

	_ "github.com/go-sql-driver/mysql"
	_ "github.com/jackc/pgx/v5/stdlib"
	_ "modernc.org/sqlite"

	"evensprout/fixture"
)

// open opens the database that evensprout during has made for this run:
//
//	evensprout during --schema schema.sql -- go test ./...
func open(t *testing.T) *sql.DB {
	scheme, _, _ := strings.Cut(os.Getenv("DATABASE_URL"), ":")
	var driver, source string
	switch scheme {
	case "sqlite":
		driver, source = "sqlite", os.Getenv("DATABASE_FILE")
	case "postgres":
		driver, source = "pgx", os.Getenv("DATABASE_URL")
	case "mysql":
		driver, source = "mysql", os.Getenv("DATABASE_DSN")
	default:
		t.Skip("there is no database: evensprout during -- go test ./...")
	}
	db, err := sql.Open(driver, source)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	return db
}

func TestSeatsTaken(t *testing.T) {
	db := open(t)
	total := 0
	for sailing := int64(1); sailing <= 400; sailing++ {
		n, err := SeatsTaken(t.Context(), db, sailing)
		if err != nil {
			t.Fatal(err)
		}
		total += n
	}
	if total != 18754 { // the rows are the same every time
		t.Errorf("%d seats are taken, and the plan has 18754 tickets", total)
	}
}

func TestCancelGivesSeatsBack(t *testing.T) {
	db := open(t)
	tx, err := db.BeginTx(t.Context(), nil)
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Rollback()
	var before, after int
	left := `SELECT sum(seats_left) FROM sailings`
	if err := tx.QueryRow(left).Scan(&before); err != nil {
		t.Fatal(err)
	}
	if err := Cancel(t.Context(), tx, 1); err != nil {
		t.Fatal(err)
	}
	if err := tx.QueryRow(left).Scan(&after); err != nil {
		t.Fatal(err)
	}
	if after <= before {
		t.Errorf("%d seats were left, and %d are", before, after)
	}
}

type booking struct {
	ID      int64
	Sailing int64  `db:"sailing_id"`
	Total   string `db:"total"`
}

// TestWithFixture needs no command around it: the rows are loaded into a transaction of the
// test's own, here of a database in memory.
func TestWithFixture(t *testing.T) {
	schema, err := os.ReadFile("schema.sql")
	if os.IsNotExist(err) {
		t.Skip("there is no schema.sql here")
	}
	if err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("sqlite", ":memory:")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	db.SetMaxOpenConns(1) // each connection would have a database of its own
	if _, err := db.Exec(string(schema)); err != nil {
		t.Fatal(err)
	}
	f := fixture.Load(t, db, "evensprout.yaml")
	var first booking
	if err := f.Below("Passenger.bo", "Booking")[0].Into(&first); err != nil {
		t.Fatal(err)
	}
	if first.Total != "25.50" {
		t.Errorf("the first booking of Bo costs %s", first.Total)
	}
	before, err := SeatsTaken(t.Context(), f.Tx, first.Sailing)
	if err != nil || before == 0 {
		t.Errorf("no seat is taken on the sailing that Bo has booked: %v", err)
	}
	if err := Cancel(t.Context(), f.Tx, first.ID); err != nil {
		t.Fatal(err)
	}
}
