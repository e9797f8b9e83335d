package main

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"evensprout/internal/demo"
	"evensprout/internal/store/storetest"
)

// The advice about a certificate that is not accepted is followed: then the certificate is not what stops the program.
func TestAdviceAboutCertificates(t *testing.T) {
	f := newFolder(t)
	f.write("evensprout.yaml", demo.Entities)
	port, file := storetest.Pretender(t, "localhost", time.Now().Add(time.Hour))
	check := func(host string) string {
		r := f.run("check", "--db", fmt.Sprintf("postgres://tester@%s:%d/x?sslmode=verify-full", host, port))
		assert.NotZero(t, r.code)
		return r.errOut
	}
	says := check("localhost")
	assert.Contains(t, says, "is not signed by an authority that this machine trusts")
	assert.Contains(t, says, "set SSL_CERT_FILE to a file with the certificate of its authority")

	f.env = append(f.env, "SSL_CERT_FILE="+file)
	says = check("127.0.0.1")
	assert.Contains(t, says, "is for another host: localhost")
	assert.Contains(t, says, "use a name in the URL that the certificate has")
	assert.NotContains(t, check("localhost"), "certificate")
}
