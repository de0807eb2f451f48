package walk

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"strings"
	"time"
)

// Wrong is what is wrong with a connection that cannot be believed.
type Wrong int

// What may be wrong.
const (
	// UnknownAuthority: nobody here knows who signed the certificate.
	UnknownAuthority Wrong = iota + 1
	// OtherName: the certificate is made out for other names.
	OtherName
	// Expired: it is not good now.
	Expired
	// Unusable: it cannot be used for another reason.
	Unusable
	// NotTLS: no TLS is spoken there.
	NotTLS
)

// Distrust is why a connection over TLS cannot be believed.
type Distrust struct {
	Wrong Wrong
	// Says it in a sentence without an end.
	Says string
	// Names are those that the certificate is made out for.
	Names []string
}

// Distrusted says what is wrong with the connection to a registry, and whether an error is
// about that.
func Distrusted(registry string, err error) (d Distrust, is bool) {
	var unknown x509.UnknownAuthorityError
	var name x509.HostnameError
	var invalid x509.CertificateInvalidError
	var record tls.RecordHeaderError
	begin := fmt.Sprintf("the certificate of %s is not trusted", registry)
	switch {
	case errors.As(err, &unknown):
		return Distrust{UnknownAuthority, fmt.Sprintf("%s: it is signed by %s, an authority that this machine does not know", begin, Signer(unknown.Cert)), nil}, true
	case errors.As(err, &name):
		names := Certified(name.Certificate)
		return Distrust{OtherName, fmt.Sprintf("%s: it is made out for %s, and signed by %s", begin, orDash(strings.Join(names, ", ")), Signer(name.Certificate)), names}, true
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		return Distrust{Expired, fmt.Sprintf("%s: signed by %s, it is good from %s to %s, and this machine's clock says %s", begin,
			Signer(invalid.Cert), invalid.Cert.NotBefore.Format(time.DateTime), invalid.Cert.NotAfter.Format(time.DateTime), time.Now().Format(time.DateTime)), nil}, true
	case errors.As(err, &invalid):
		return Distrust{Unusable, fmt.Sprintf("%s: signed by %s, it cannot be used (%v)", begin, Signer(invalid.Cert), err), nil}, true
	case errors.As(err, &record), err != nil && strings.Contains(err.Error(), "server gave HTTP response to HTTPS client"):
		return Distrust{NotTLS, registry + " does not speak TLS", nil}, true
	}
	return d, false
}

func orDash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

// Signer says whom a certificate is from.
func Signer(c *x509.Certificate) string {
	if c == nil {
		return "nobody knows whom"
	}
	for _, name := range append([]string{c.Issuer.CommonName}, c.Issuer.Organization...) {
		if name != "" {
			return fmt.Sprintf("%q", name)
		}
	}
	return fmt.Sprintf("%q", c.Issuer.String())
}

// Certified are the names and addresses that a certificate is made out for.
func Certified(c *x509.Certificate) []string {
	names := append([]string{}, c.DNSNames...)
	for _, ip := range c.IPAddresses {
		names = append(names, ip.String())
	}
	return names
}
