package mysql

import (
	"testing"

	"github.com/stretchr/testify/require"

	"evensprout/internal/store"
	"evensprout/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

func open(t *testing.T, script string) store.Store {
	s, err := Driver{}.Open(t.Context(), storetest.MariaDB(t).Database(t, script))
	require.NoError(t, err)
	return s
}

func TestBehaviours(t *testing.T) {
	storetest.Run(t, storetest.Engine{Open: open, Triggers: `
		CREATE TRIGGER refuse BEFORE INSERT ON boats FOR EACH ROW IF NEW.label = 'forbidden' THEN SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'not on this lake'; END IF;`,
		NoLate: true})
}
