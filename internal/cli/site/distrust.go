package site

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"time"

	"warthesis/internal/cli/term"
	"warthesis/internal/config"
	"warthesis/internal/oci"
	"warthesis/internal/peer/walk"
)

// sayTLS says what is wrong with a connection over TLS: whom the certificate is from,
// and the one command that helps. Other errors are left as they are.
func (w *Way) sayTLS(ctx context.Context, err error) error {
	registry := w.Base.Host
	wrong, is := walk.Distrusted(registry, err)
	if !is {
		return err
	}
	remedy := ""
	switch wrong.Wrong {
	case walk.UnknownAuthority:
		remedy = "Get that authority's certificate from whoever runs the registry, and give it:  --ca FILE"
		if hasOwnAuthority(ctx, w.Base) {
			remedy = fmt.Sprintf("Trust it:  %s trust %s", term.ProgramName(), registry)
		}
	case walk.OtherName:
		remedy = "Let whoever runs it have one made out for this address too"
		if len(wrong.Names) > 0 {
			remedy = fmt.Sprintf("Use one of those:  %s doctor %s", term.ProgramName(), walk.WithPort(wrong.Names[0], portOf(registry)))
		}
	case walk.Expired:
		remedy = "Let it be renewed, or set the clock"
	case walk.NotTLS:
		remedy = "If plain HTTP is meant, leave https:// out and say --unencrypted"
		if config.IsLoopback(walk.HostOf(registry)) {
			remedy = "If plain HTTP is meant, write http://" + registry
		}
	default:
		remedy = "Let whoever runs the registry have another one made"
	}
	return distrusted("%s. %s", wrong.Says, remedy)
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

func portOf(registry string) string {
	if _, port, err := net.SplitHostPort(registry); err == nil {
		return port
	}
	return walk.PortOf("https")
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
