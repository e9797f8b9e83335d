package passhash

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	reference "golang.org/x/crypto/bcrypt"
)

func TestHashes(t *testing.T) {
	salt := Salt{1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16}
	for _, m := range Methods() {
		text, err := m.Hash("letmein", m.Cost, salt)
		require.NoError(t, err)
		assert.Len(t, text, m.Length(m.Cost), m.Name)
		again, err := m.Hash("letmein", m.Cost, salt)
		require.NoError(t, err)
		assert.Equal(t, text, again)
		other, err := m.Hash("letmein", m.Cost, Salt{9})
		require.NoError(t, err)
		assert.NotEqual(t, text, other, "another salt gives another hash")
		_, err = m.Hash("letmein", m.Most+1, salt)
		require.ErrorContains(t, err, "must be between")
		_, err = m.Hash("", m.Cost, salt)
		require.Error(t, err)
	}
	assert.Nil(t, Find("rot13"))
}

// An application verifies the hash with its own library.
func TestBcryptIsVerified(t *testing.T) {
	m := Find("bcrypt")
	for _, password := range []string{"a", "letmein", "Zoë 😀", strings.Repeat("x", 72)} {
		text, err := m.Hash(password, 4, Salt{7, 7})
		require.NoError(t, err)
		require.NoError(t, reference.CompareHashAndPassword([]byte(text), []byte(password)), password)
		require.Error(t, reference.CompareHashAndPassword([]byte(text), []byte("!"+password[1:])))
	}
	_, err := m.Hash(strings.Repeat("x", 73), 4, Salt{})
	require.ErrorContains(t, err, "reads 72 bytes")
}

// The same hashes as two other implementations: the reference implementation of Argon2, and PBKDF2 of Python.
func TestKnownHashes(t *testing.T) {
	salt := Salt([]byte("0123456789abcdef"))
	a, err := Find("argon2id").Hash("letmein", 2, salt)
	require.NoError(t, err)
	assert.Equal(t, "$argon2id$v=19$m=19456,t=2,p=1$"+
		"MDEyMzQ1Njc4OWFiY2RlZg$0kXvJVG3yLCaw69Ht9Yk70J6OcegGgW29JA04QTInBI", a)
	p, err := Find("pbkdf2").Hash("letmein", 1000, Salt{})
	require.NoError(t, err)
	assert.Equal(t, "$pbkdf2-sha256$i=1000$AAAAAAAAAAAAAAAAAAAAAA$bTqjjWt2H8J2gr/J+YqirGqOdOpgFZXt+lNHHJ6vr4Q", p)
}
