package store

import (
	"crypto/x509"
	"errors"
	"strings"
)

// CertificateFault says why a server's certificate was not accepted; nil if that is not what went wrong.
func CertificateFault(where string, err error) *Fault {
	var unknown x509.UnknownAuthorityError
	var name x509.HostnameError
	var invalid x509.CertificateInvalidError
	f := &Fault{Kind: Refused, Message: "the certificate of the server at " + where}
	switch {
	case errors.As(err, &unknown):
		f.Message += " is not signed by an authority that this machine trusts"
		f.Hint = "set SSL_CERT_FILE to a file with the certificate of its authority"
	case errors.As(err, &name):
		f.Message += " is for another host" + namesOf(name.Certificate)
		f.Hint = "use a name in the URL that the certificate has"
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		f.Message += " has expired, or is not valid yet"
		f.Hint = "renew it, or set the clock of this machine"
	case errors.As(err, &invalid):
		f.Message += " is not valid: " + invalid.Error()
	default:
		return nil
	}
	return f
}

// namesOf lists the first hosts that a certificate names.
func namesOf(c *x509.Certificate) string {
	if c == nil || len(c.DNSNames) == 0 {
		return ""
	}
	return ": " + strings.Join(c.DNSNames[:min(len(c.DNSNames), 3)], ", ")
}
