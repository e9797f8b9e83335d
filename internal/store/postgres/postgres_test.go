package postgres

import (
	"testing"

	"github.com/stretchr/testify/require"

	"evensprout/internal/store"
	"evensprout/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

func open(t *testing.T, script string) store.Store {
	s, err := Driver{}.Open(t.Context(), storetest.Postgres(t).Database(t, script))
	require.NoError(t, err)
	return s
}

func TestBehaviours(t *testing.T) {
	storetest.Run(t, storetest.Engine{Open: open, Triggers: `
		CREATE FUNCTION refuse() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF NEW.label = 'forbidden' THEN RAISE EXCEPTION 'not on this lake'; END IF; RETURN NEW; END $$;
		CREATE TRIGGER refuse BEFORE INSERT ON boats FOR EACH ROW EXECUTE FUNCTION refuse();`,
		Deferrable: `ALTER TABLE boats ALTER CONSTRAINT boats_pier_id_fkey DEFERRABLE;`})
}
