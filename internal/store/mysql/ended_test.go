package mysql

import (
	"testing"

	"evensprout/internal/store"

	"github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A savepoint that is gone means that the server ended the transaction, unless an engine could not
// make it in the first place.
func TestASavepointThatIsGone(t *testing.T) {
	gone := &mysql.MySQLError{Number: noSuchSavepoint, Message: "SAVEPOINT a does not exist"}
	d := &database{}
	var fault *store.Fault
	require.ErrorAs(t, d.marked("ROLLBACK TO SAVEPOINT a", gone), &fault)
	assert.Equal(t, store.Transient, fault.Kind, "it is run again")

	require.NoError(t, d.marked("SAVEPOINT a", &mysql.MySQLError{Number: noSavepoints}))
	require.ErrorAs(t, d.marked("ROLLBACK TO SAVEPOINT a", gone), &fault)
	assert.Equal(t, store.Refused, fault.Kind)

	d = &database{lasting: true}
	require.ErrorAs(t, d.marked("ROLLBACK TO SAVEPOINT a", gone), &fault)
	assert.Equal(t, store.Refused, fault.Kind)
	assert.NoError(t, (&database{}).marked("ROLLBACK TO SAVEPOINT a", nil))
}

// A node of a cluster that is joining says so, and is waited for like a server that starts.
func TestANodeThatIsJoining(t *testing.T) {
	var fault *store.Fault
	d := &database{}
	require.ErrorAs(t, d.err(t.Context(), &mysql.MySQLError{Number: unknownCommand,
		Message: "WSREP has not yet prepared node for application use"}), &fault)
	assert.Equal(t, store.Lost, fault.Kind)
	assert.Contains(t, fault.Message, "joining")
	assert.Contains(t, fault.Hint, "--wait")
	unknown := &mysql.MySQLError{Number: unknownCommand, Message: "Unknown command"}
	require.ErrorAs(t, d.err(t.Context(), unknown), &fault)
	assert.Empty(t, fault.Hint)
}
