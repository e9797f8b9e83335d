package cli

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/store/sqlite"
	"evensprout/internal/value"
)

func TestLabelsOfReferences(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.db")
	require.NoError(t, sqlite.Create(path, `
CREATE TABLE piers (id INTEGER PRIMARY KEY, name TEXT);
CREATE TABLE codes (code TEXT PRIMARY KEY);
CREATE TABLE boats (id INTEGER PRIMARY KEY, pier_id INTEGER REFERENCES piers (id), code TEXT REFERENCES codes (code),
  seats INTEGER);
INSERT INTO piers VALUES (1, 'West'), (2, NULL);`))
	s, err := sqlite.Driver{}.Open(t.Context(), "sqlite:"+path)
	require.NoError(t, err)
	defer s.Close()
	db, err := s.Survey(t.Context())
	require.NoError(t, err)
	boats := db.Table("boats")
	names := newLabels(s, db)
	for _, c := range []struct {
		column string
		value  value.Value
		want   string
	}{
		{"pier_id", value.Int(1), "West"}, {"pier_id", value.Int(1), "West"}, {"pier_id", value.Int(2), "∅"},
		{"pier_id", value.Int(9), "?"}, {"pier_id", value.Value{}, ""},
		{"code", value.String("X"), ""}, {"seats", value.Int(1), ""}, {"id", value.Int(1), ""},
	} {
		got, err := names.of(t.Context(), boats, boats.Column(c.column), c.value)
		require.NoError(t, err)
		assert.Equal(t, c.want, got, "%s %s", c.column, c.value)
	}
}
