package storetest

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/schema"
	"evensprout/internal/store"
)

func rights(t *testing.T, f *fixture) {
	piers := f.db.Table("piers")
	some := []*schema.Column{piers.Column("id"), piers.Column("code")}
	all := store.Access{
		Table:   piers,
		Read:    piers.Columns,
		Insert:  piers.Columns,
		Update:  piers.Columns,
		Delete:  true,
		Stage:   true,
		Journal: true,
	}
	why, err := f.store.Denied(t.Context(), all)
	require.NoError(t, err)
	assert.Empty(t, why, "the owner may do everything")

	s, err := f.engine.Driver.Open(t.Context(), f.engine.Clerk(t, f.url))
	require.NoError(t, err)
	defer s.Close()
	why, err = s.Denied(t.Context(), all)
	require.NoError(t, err)
	assert.Equal(t, f.engine.Lacks, why)
	for a, lacks := range map[*store.Access]bool{
		{Table: piers, Read: piers.Columns}:                         false,
		{Table: piers, Read: piers.Columns, Insert: piers.Columns}:  true,
		{Table: piers, Read: some, Update: piers.Columns[2:]}:       true,
		{Table: piers, Delete: true}:                                true,
		{Table: f.db.Table(`odd "name`), Insert: piers.Columns[:0]}: false,
		// a file that is only read
		{Table: piers, Read: some, Insert: some}:                          f.engine.Zone == "",
		{Table: f.db.Table("boats"), Insert: f.db.Table("boats").Columns}: true,
	} {
		why, err := s.Denied(t.Context(), *a)
		require.NoError(t, err)
		assert.Equal(t, lacks, why != "", "%s: %s", a.Table.Name, why)
	}

	assert.Zero(t, f.count(t, "piers"), "nothing ran")
	j, err := f.store.Journal(t.Context(), false)
	require.NoError(t, err)
	assert.Nil(t, j)
}

func clock(t *testing.T, f *fixture) {
	now, zone, err := f.store.Clock(t.Context())
	require.NoError(t, err)
	assert.WithinDuration(t, time.Now(), now, time.Hour, "in UTC, whatever the zone")
	assert.Equal(t, f.engine.Zone, zone)
}
