package schema

import (
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
		{[]string{"id", "code", "name"}, "name"}, {[]string{"id", "sort", "reference"}, "reference"}, {[]string{"colour"}, "colour"}, {nil, ""},
	} {
		x := table(c.columns...)
		x.PrimaryKey = []string{"id"}
		assert.Equal(t, c.want, x.Label())
	}
}

func TestKeys(t *testing.T) {
	x := table("id", "a", "b", "c")
	x.PrimaryKey = []string{"id"}
	x.Uniques = []Unique{{Name: "one", Columns: []string{"a"}}, {Name: "some", Columns: []string{"b"}, Partial: true}, {Name: "two", Columns: []string{"b", "c"}}}
	assert.Len(t, x.Keys(), 4)
	assert.True(t, x.IsKey("ID"))
	assert.True(t, x.IsKey("a"))
	assert.False(t, x.IsKey("b"), "a partial index binds only some rows")
	assert.False(t, x.IsKey("c"))
}
