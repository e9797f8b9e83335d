package schema

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func table(columns ...string) *Table {
	t := &Table{Name: "t"}
	for _, c := range columns {
		t.Columns = append(t.Columns, &Column{Name: c, Kind: Text})
	}
	return t
}

func TestNamesAreFoundByConvention(t *testing.T) {
	x := table("given_name", "HomePier", "Code", "code")
	assert.Equal(t, "given_name", x.ByConvention("givenName").Name)
	assert.Equal(t, "HomePier", x.ByConvention("home_pier").Name)
	assert.Equal(t, "code", x.ByConvention("code").Name, "the exact name goes first")
	assert.Equal(t, "Code", x.ByConvention("CODE").Name)
	assert.Nil(t, x.ByConvention("name"))
	db := &Database{Tables: []*Table{{Name: "Piers"}, {Name: "boats"}}}
	assert.Equal(t, "Piers", db.Table("piers").Name)
	assert.Nil(t, db.Table("pier"))
}

func TestLabels(t *testing.T) {
	for _, c := range []struct {
		columns []string
		want    string
	}{
		{[]string{"id", "code", "name"}, "name"}, {[]string{"id", "sort", "reference"}, "reference"},
		{[]string{"colour"}, "colour"}, {nil, ""},
	} {
		x := table(c.columns...)
		x.PrimaryKey = []string{"id"}
		assert.Equal(t, c.want, x.Label())
	}
}

func TestKeys(t *testing.T) {
	x := table("id", "a", "b", "c")
	x.PrimaryKey = []string{"id"}
	x.Uniques = []Unique{
		{Name: "one", Columns: []string{"a"}},
		{Name: "some", Columns: []string{"b"}, Partial: true},
		{Name: "two", Columns: []string{"b", "c"}},
	}
	assert.Len(t, x.Keys(), 4)
	assert.Equal(t, "PRIMARY KEY (id)", x.KeyName([]string{"id"}))
	assert.Equal(t, "two", x.KeyName([]string{"b", "c"}))
	assert.Empty(t, x.KeyName([]string{"c"}))
	assert.True(t, x.IsKey("ID"))
	assert.True(t, x.IsKey("a"))
	assert.False(t, x.IsKey("b"), "a partial index binds only some rows")
	assert.False(t, x.IsKey("c"))
}

// What can stand behind a match: a whole key that tells rows apart at once.
func TestBacking(t *testing.T) {
	x := table("id", "a", "b", "c")
	x.PrimaryKey = []string{"id"}
	for _, c := range x.Columns[:3] {
		c.NotNull = true
	}
	x.Uniques = []Unique{
		{Name: "whole", Columns: []string{"a", "b"}},
		{Name: "some", Columns: []string{"a"}, Partial: true},
		{Name: "late", Columns: []string{"b"}, Deferrable: true},
		{Name: "nulls", Columns: []string{"c"}},
		{Name: "equal", Columns: []string{"b", "c"}, NullsEqual: true},
	}
	for columns, why := range map[string]string{
		"id": "", "B a": "", "b c": "", "a": "some over them covers only some rows", "b": "late over them is " +
			"deferrable", "c": "c may be NULL", "id a": "no unique key",
	} {
		u, got := x.Backing(strings.Fields(columns))
		assert.Equal(t, why == "", u != nil, columns)
		assert.Contains(t, got, why, columns)
	}
}
