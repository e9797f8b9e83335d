package storetest

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"io"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Pretender is a PostgreSQL server as far as its certificate, and then hangs up. It returns its port, and a file with
// the certificate.
func Pretender(t testing.TB, host string, until time.Time) (port int, file string) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	form := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: host},
		DNSNames: []string{host}, NotBefore: until.Add(-48 * time.Hour), NotAfter: until,
		IsCA: true, BasicConstraintsValid: true}
	der, err := x509.CreateCertificate(rand.Reader, form, form, &key.PublicKey, key)
	require.NoError(t, err)
	file = filepath.Join(t.TempDir(), "certificate.pem")
	text := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
	require.NoError(t, os.WriteFile(file, text, 0o600))

	l, err := net.Listen("tcp4", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			request := make([]byte, 8) // asks for encryption
			if _, err := io.ReadFull(conn, request); err == nil {
				conn.Write([]byte("S"))
				shown := tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
				tls.Server(conn, &tls.Config{Certificates: []tls.Certificate{shown}}).Handshake()
			}
			conn.Close()
		}
	}()
	return l.Addr().(*net.TCPAddr).Port, file
}
