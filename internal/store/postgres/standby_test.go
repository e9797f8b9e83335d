package postgres

import (
	"fmt"
	"testing"
	"time"

	"evensprout/internal/store"
	"evensprout/internal/store/storetest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A standby, whose default level of isolation it does not even know, is read, and named where it cannot be written to;
// of several servers, the one that takes writes is used.
func TestStandbys(t *testing.T) {
	primary, err := storetest.StartPostgres()
	require.NoError(t, err)
	t.Cleanup(primary.Remove)
	name := Driver{}.Describe(primary.Database(t, "CREATE TABLE x (id INTEGER)")).Name
	standby := primary.Standby(t)

	s, err := Driver{}.Open(t.Context(), standby.URL(name))
	require.NoError(t, err)
	defer s.Close()
	db, err := s.Survey(t.Context())
	require.NoError(t, err)
	assert.NotNil(t, db.Table("x"))
	_, err = s.Begin(t.Context(), store.TxOptions{})
	var fault *store.Fault
	require.ErrorAs(t, err, &fault)
	assert.Equal(t, store.ReadOnly, fault.Kind)
	assert.Equal(t, "the server is a standby, which takes no writes", fault.Message)

	both := fmt.Sprintf("postgres://tester@127.0.0.1:%d,127.0.0.1:%d/%s", standby.Port, primary.Port, name)
	for url, writes := range map[string]bool{both: true, both + "?target_session_attrs=any": false} {
		s, err := Driver{}.Open(t.Context(), url)
		require.NoError(t, err)
		tx, err := s.Begin(t.Context(), store.TxOptions{})
		assert.Equal(t, writes, err == nil, url)
		if err == nil {
			require.NoError(t, tx.Rollback())
		}
		require.NoError(t, s.Close())
	}

	primary.Kill()
	s, err = Driver{}.Open(t.Context(), both)
	require.NoError(t, err, "to read, the standby will do")
	require.NoError(t, s.Close())
}

// A certificate that is not accepted is named as the cause, with what is wrong with it.
func TestCertificates(t *testing.T) {
	soon, ago := time.Now().Add(time.Hour), time.Now().Add(-time.Hour)
	for name, c := range map[string]struct {
		host    string
		until   time.Time
		trusted bool
		says    string
	}{
		"of nobody":        {"localhost", soon, false, "is not signed by an authority that this machine trusts"},
		"of another host":  {"harbour.example", soon, true, "is for another host: harbour.example"},
		"of another time":  {"localhost", ago, true, "has expired, or is not valid yet"},
		"that is accepted": {"localhost", soon, true, "no PostgreSQL server answers"}, // it hangs up afterwards
	} {
		t.Run(name, func(t *testing.T) {
			port, file := storetest.Pretender(t, c.host, c.until)
			url := fmt.Sprintf("postgres://tester@localhost:%d/x?sslmode=verify-full", port)
			if c.trusted {
				url += "&sslrootcert=" + file
			}
			_, err := Driver{}.Open(t.Context(), url)
			require.ErrorContains(t, err, c.says)
		})
	}
}
