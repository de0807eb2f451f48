package site

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"warthesis/internal/cli/term"
	"warthesis/internal/config"
	"warthesis/internal/oci"
)

// sayTLS says what is wrong with a connection over TLS: whom the certificate is from,
// and the one command that helps. Other errors are left as they are.
func (w *Way) sayTLS(ctx context.Context, err error) error {
	registry := w.Base.Host
	var unknown x509.UnknownAuthorityError
	var name x509.HostnameError
	var invalid x509.CertificateInvalidError
	var record tls.RecordHeaderError
	switch {
	case errors.As(err, &unknown):
		remedy := "Get that authority's certificate from whoever runs the registry, and give it:  --ca FILE"
		if hasOwnAuthority(ctx, w.Base) {
			remedy = fmt.Sprintf("Trust it:  %s trust %s", term.ProgramName(), registry)
		}
		return distrusted("the certificate of %s is not trusted: it is signed by %s, an authority that this machine does not know. %s", registry, signer(unknown.Cert), remedy)
	case errors.As(err, &name):
		names := Certified(name.Certificate)
		remedy := "Let whoever runs it have one made out for this address too"
		if len(names) > 0 {
			remedy = fmt.Sprintf("Use one of those:  %s doctor %s", term.ProgramName(), WithPort(names[0], portOf(registry)))
		}
		return distrusted("the certificate of %s is not trusted: it is made out for %s, and signed by %s. %s", registry, term.OrDash(strings.Join(names, ", ")), signer(name.Certificate), remedy)
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		return distrusted("the certificate of %s is not trusted: signed by %s, it is good from %s to %s, and this machine's clock says %s. Let it be renewed, or set the clock", registry,
			signer(invalid.Cert), invalid.Cert.NotBefore.Format(time.DateTime), invalid.Cert.NotAfter.Format(time.DateTime), time.Now().Format(time.DateTime))
	case errors.As(err, &invalid):
		return distrusted("the certificate of %s is not trusted: signed by %s, it cannot be used (%v). Let whoever runs it have another one made", registry, signer(invalid.Cert), err)
	case errors.As(err, &record), strings.Contains(err.Error(), "server gave HTTP response to HTTPS client"):
		how := "leave https:// out and say --unencrypted"
		if config.IsLoopback(HostOf(registry)) {
			how = "write http://" + registry
		}
		return distrusted("%s does not speak TLS. If plain HTTP is meant, %s", registry, how)
	}
	return err
}

// distrusted is an error that no try again mends.
func distrusted(format string, args ...any) error {
	return oci.Errorf(oci.CodeDistrusted, format, args...)
}

// sayElsewhere says of a name to which the registry points that nobody knows it here,
// and which setting of the registry has it. Other errors are left as they are.
func (w *Way) sayElsewhere(at *url.URL, err error) error {
	var dns *net.DNSError
	if !errors.As(err, &dns) || !dns.IsNotFound {
		return err
	}
	return distrusted("%s sends its clients on to %s, as its setting outside_addresses says, and that name is not known here. "+
		"Let whoever runs the registry put %s://%s there too, or use the name on a machine that knows it", w.Base.Host, at.Host, w.Base.Scheme, w.Base.Host)
}

// signer says whom a certificate is from.
func signer(c *x509.Certificate) string {
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

func portOf(registry string) string {
	if _, port, err := net.SplitHostPort(registry); err == nil {
		return port
	}
	return portTLS
}

// AuthorityPath is where a registry serves the certificate of its own authority.
const AuthorityPath = "/authority.pem"

// hasOwnAuthority reports whether a registry hands out the certificate of an authority
// of its own, which can be trusted by its fingerprint.
func hasOwnAuthority(ctx context.Context, base *url.URL) bool {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	call, err := http.NewRequestWithContext(ctx, http.MethodGet, base.JoinPath(AuthorityPath).String(), nil)
	if err != nil {
		return false
	}
	way := NewWay(base, &tls.Config{InsecureSkipVerify: true}, nil)
	answer, err := way.Registry.RoundTrip(call)
	if err != nil {
		return false
	}
	defer answer.Body.Close()
	begins, _ := io.ReadAll(io.LimitReader(answer.Body, 64))
	return answer.StatusCode == http.StatusOK && bytes.HasPrefix(begins, []byte("-----BEGIN CERTIFICATE-----"))
}

// speaksTLSInstead says what to do where a registry on this machine answers plain HTTP
// by refusing it, because it speaks TLS; nil where that is not why.
func (w *Way) speaksTLSInstead(ctx context.Context, answer *http.Response) error {
	if !speaksTLS(w.Base.Host) {
		return nil
	}
	answer.Body.Close()
	secure := NewWay(&url.URL{Scheme: "https", Host: w.Base.Host}, w.others.TLSClientConfig, nil)
	call, err := http.NewRequestWithContext(ctx, http.MethodGet, secure.Base.JoinPath("v2/").String(), nil)
	if err != nil {
		return err
	}
	again, err := secure.Registry.RoundTrip(call)
	if err != nil {
		return secure.sayTLS(ctx, err)
	}
	again.Body.Close()
	return distrusted("%s speaks TLS: write https://%s", w.Base.Host, w.Base.Host)
}
