// Package passhash hashes passwords of made-up users, so that they can log in to the application under test.
// The salt comes from the caller: the same plan gives the same hash everywhere.
package passhash

import (
	"crypto/pbkdf2"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"strconv"

	"golang.org/x/crypto/argon2"
	//lint:ignore SA1019 bcrypt is defined on Blowfish, and applications still verify such hashes.
	"golang.org/x/crypto/blowfish"
)

// Salt is 16 bytes that belong to a hash.
type Salt [16]byte

// Method is a way to hash passwords.
type Method struct {
	Name         string
	Cost         uint32 // the usual cost
	Least, Most  uint32 // bounds of the cost
	LongestInput int    // bytes of a password; 0: any number
	CostIs       string // what the cost counts
	hash         func(password string, cost uint32, salt Salt) (string, error)
	fixed        int  // characters of a hash
	digits       bool // and as many as the cost has digits
}

// Methods are the known methods.
func Methods() []Method {
	return []Method{
		{Name: "bcrypt", Cost: 10, Least: 4, Most: 15, LongestInput: 72, CostIs: "the binary logarithm of the rounds",
			hash: bcrypt, fixed: 60},
		{Name: "argon2id", Cost: 2, Least: 1, Most: 50, CostIs: "the passes over 19 MiB", hash: argon2id, fixed: 96,
			digits: true},
		{
			Name:   "pbkdf2",
			Cost:   600_000,
			Least:  1_000,
			Most:   10_000_000,
			CostIs: "the rounds",
			hash:   pbkdf2Text,
			fixed:  84,
			digits: true,
		},
	}
}

// Names are the names of the methods.
func Names() []string {
	var names []string
	for _, m := range Methods() {
		names = append(names, m.Name)
	}
	return names
}

// Find finds a method by its name; nil if there is none.
func Find(name string) *Method {
	for _, m := range Methods() {
		if m.Name == name {
			return &m
		}
	}
	return nil
}

// Length is how many characters a hash has.
func (m *Method) Length(cost uint32) int {
	if m.digits {
		return m.fixed + len(strconv.FormatUint(uint64(cost), 10))
	}
	return m.fixed
}

// Check returns what is wrong with a password or a cost.
func (m *Method) Check(password string, cost uint32) error {
	switch {
	case password == "":
		return errors.New("the password is empty")
	case m.LongestInput > 0 && len(password) > m.LongestInput:
		return fmt.Errorf("%s reads %d bytes of a password, and this one has %d", m.Name, m.LongestInput, len(password))
	case cost < m.Least || cost > m.Most:
		return fmt.Errorf(
			"the cost of %s (%s) must be between %d and %d, got %d",
			m.Name,
			m.CostIs,
			m.Least,
			m.Most,
			cost,
		)
	}
	return nil
}

// Hash is the text that applications store. Its form is the usual one of bcrypt, and for the other methods the
// PHC string format.
func (m *Method) Hash(password string, cost uint32, salt Salt) (string, error) {
	if err := m.Check(password, cost); err != nil {
		return "", err
	}
	return m.hash(password, cost, salt)
}

const bcryptAlphabet = "./ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789"

// bcrypt is written on Blowfish, because golang.org/x/crypto/bcrypt takes its salt from the operating system.
// Source: Provos and Mazières, A Future-Adaptable Password Scheme, USENIX 1999.
func bcrypt(password string, cost uint32, salt Salt) (string, error) {
	key := append([]byte(password), 0)
	c, err := blowfish.NewSaltedCipher(key, salt[:])
	if err != nil {
		return "", err
	}
	for range uint64(1) << cost {
		blowfish.ExpandKey(key, c)
		blowfish.ExpandKey(salt[:], c)
	}
	text := []byte("OrpheanBeholderScryDoubt")
	for i := 0; i < len(text); i += 8 {
		for range 64 {
			c.Encrypt(text[i:i+8], text[i:i+8])
		}
	}
	enc := base64.NewEncoding(bcryptAlphabet).WithPadding(base64.NoPadding)
	return fmt.Sprintf("$2a$%02d$%s%s", cost, enc.EncodeToString(salt[:]), enc.EncodeToString(text[:23])), nil
}

// argonMemory is the memory of a hash in KiB, and argonThreads its lanes.
const argonMemory, argonThreads = 19 * 1024, 1

// argon2id follows RFC 9106.
func argon2id(password string, cost uint32, salt Salt) (string, error) {
	hash := argon2.IDKey([]byte(password), salt[:], cost, argonMemory, argonThreads, 32)
	enc := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, cost, argonThreads,
		enc.EncodeToString(salt[:]), enc.EncodeToString(hash)), nil
}

// pbkdf2Text follows RFC 8018 with HMAC-SHA-256.
func pbkdf2Text(password string, cost uint32, salt Salt) (string, error) {
	hash, err := pbkdf2.Key(sha256.New, password, salt[:], int(cost), 32)
	enc := base64.RawStdEncoding
	return fmt.Sprintf("$pbkdf2-sha256$i=%d$%s$%s", cost, enc.EncodeToString(salt[:]), enc.EncodeToString(hash)), err
}
