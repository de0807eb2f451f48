package site

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"time"

	"warthesis/internal/cli/term"
	"warthesis/internal/given"
	"warthesis/internal/login"
	"warthesis/internal/peer"
	"warthesis/internal/peer/walk"
)

// Way is how a registry is reached. What was said of its certificate is said of it
// alone: other hosts, to which it may point, are believed by the system's authorities.
// It is the one way for all commands, through the proxy of the environment.
type Way struct {
	Base     *url.URL
	Registry *http.Transport
	others   *http.Transport
}

// RoundTrip sends a request to the registry, or elsewhere. A connection that cannot be
// believed, or is not spoken as it should be, is told in one way wherever it is met.
func (w *Way) RoundTrip(r *http.Request) (*http.Response, error) {
	if !peer.SameOrigin(r.URL, w.Base) {
		answer, err := w.others.RoundTrip(r)
		if err != nil {
			err = w.sayElsewhere(r.URL, err)
		}
		return answer, err
	}
	answer, err := w.Registry.RoundTrip(r)
	switch {
	case err != nil:
		return nil, w.sayTLS(r.Context(), err)
	case answer.StatusCode == http.StatusBadRequest && w.Base.Scheme == "http" && answer.ProtoMajor == 1:
		if wrong := w.speaksTLSInstead(r.Context(), answer); wrong != nil {
			return nil, wrong
		}
	}
	return answer, nil
}

// Client returns a client for questions that are soon answered. It follows nobody.
func (w *Way) Client(within time.Duration) *http.Client {
	return &http.Client{Transport: w, Timeout: within, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
}

// Proxy returns the proxy through which the registry is reached, nil for none.
func (w *Way) Proxy() *url.URL {
	proxied, err := http.ProxyFromEnvironment(&http.Request{URL: w.Base})
	if err != nil {
		return nil
	}
	return proxied
}

// NewWay returns the way to a registry, with certificates that are believed besides
// the system's, for all hosts and for the registry alone; nil for none.
func NewWay(base *url.URL, all, own *tls.Config) *Way {
	w := &Way{base, peer.NewTransport(), peer.NewTransport()}
	w.Registry.TLSClientConfig, w.others.TLSClientConfig = all.Clone(), all.Clone()
	if own != nil {
		w.Registry.TLSClientConfig = own
	}
	return w
}

// Way returns how a registry is reached.
func (r *Remote) Way(registry string) (*Way, error) {
	hosts, err := login.OpenHosts(os.Getenv)
	if err != nil {
		return nil, err
	}
	base, err := r.base(registry, hosts)
	if err != nil {
		return nil, err
	}
	host, known := hosts.Known[registry]
	shown, err := r.shownTo(host)
	if err != nil {
		return nil, err
	}
	plain := &tls.Config{MinVersion: tls.VersionTLS12}
	if r.Authority != "" {
		pool, err := authorities(r.Authority)
		if err != nil {
			return nil, err
		}
		plain.RootCAs = pool
		// On this machine either may be spoken: it is asked which.
		if base.Scheme == "http" && !r.Unencrypted && r.schemes[registry] == "" && speaksTLS(registry) {
			base.Scheme = "https"
		}
		return NewWay(base, plain, showing(plain, shown)), nil
	}
	if !known || r.Unencrypted {
		return NewWay(base, plain, showing(plain, shown)), nil
	}
	base.Scheme = "https"
	own := showing(plain, shown)
	if host.Unverified {
		own.InsecureSkipVerify = true
		r.warned.Do(func() {
			fmt.Fprintf(r.T.Err, "WARNING: the certificate of %s is not checked, as was asked for. Whoever is on the way can read and change what passes.\n"+
				"Check it again from now on:  %s trust --verified %s\n", registry, term.ProgramName(), registry)
		})
		return NewWay(base, plain, own), nil
	}
	if host.Authority != "" {
		own.RootCAs, err = authorities(host.Authority)
	}
	return NewWay(base, plain, own), err
}

// Shown returns the client certificate that the flags name, nil for none.
func (r *Remote) Shown() ([]tls.Certificate, error) { return r.shownTo(login.Host{}) }

// shownTo returns the certificate that a registry is shown where it asks for one, by the
// flags or as it was said when the registry was trusted.
func (r *Remote) shownTo(host login.Host) ([]tls.Certificate, error) {
	certificate, key := r.ClientCertificate, r.ClientKey
	if (certificate == "") != (key == "") {
		return nil, term.Usage("--client-certificate and --client-key come together")
	}
	if certificate == "" {
		certificate, key = host.ClientCertificate, host.ClientKey
	}
	if certificate == "" {
		return nil, nil
	}
	pair, err := tls.LoadX509KeyPair(certificate, key)
	if err != nil {
		return nil, term.Usage("the client certificate %s and its key %s cannot be used: %w", certificate, key, err)
	}
	return []tls.Certificate{pair}, nil
}

// showing is a configuration of TLS that shows certificates.
func showing(c *tls.Config, shown []tls.Certificate) *tls.Config {
	own := c.Clone()
	own.Certificates = shown
	return own
}

// base returns the address of a registry with its scheme. One that was pasted with
// another scheme than the right one is wrong use.
func (r *Remote) base(registry string, hosts *login.Hosts) (*url.URL, error) {
	base := peer.Base(registry, r.Unencrypted)
	host, known := hosts.Known[registry]
	switch scheme := r.schemes[registry]; {
	case r.Unencrypted && r.Authority != "":
		return nil, term.Usage("--unencrypted and --ca say the opposite of each other: without encryption there is no certificate to check")
	case scheme == "https" && r.Unencrypted:
		return nil, term.Usage("https://%s and --unencrypted say the opposite of each other; leave one out", registry)
	case scheme == "http" && known && !r.Unencrypted:
		return nil, term.Usage("http://%s is unencrypted, and this client knows how %s is reached encrypted (%s); write https:// or leave it out", registry, registry, knownBy(host))
	case scheme == "http" && base.Scheme == "https":
		return nil, term.Usage("http://%s is unencrypted, which takes --unencrypted if it is meant: everybody on the way can then read and change what passes. Else write https://", registry)
	case scheme != "":
		base.Scheme = scheme
	}
	return base, nil
}

func knownBy(host login.Host) string {
	if host.Unverified {
		return "without a check of its certificate"
	}
	if host.Authority == "" {
		return "with a client certificate"
	}
	return "by the certificate in " + host.Authority
}

// speaksTLS reports whether what listens on this machine speaks TLS.
func speaksTLS(registry string) bool {
	dialer := tls.Dialer{NetDialer: &net.Dialer{Timeout: 2 * time.Second}, Config: &tls.Config{InsecureSkipVerify: true}}
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	conn, err := dialer.DialContext(ctx, "tcp", walk.WithPort(registry, walk.PortOf("http")))
	if err != nil {
		var record tls.RecordHeaderError
		return !errors.As(err, &record)
	}
	conn.Close()
	return true
}

// certificatesLimit is the largest file of certificates in bytes that is read.
const certificatesLimit = 4 << 20

// authorities returns the system's certificates and those of a file.
func authorities(file string) (*x509.CertPool, error) {
	pool, err := x509.SystemCertPool()
	if err != nil {
		pool = x509.NewCertPool()
	}
	raw, err := given.Read(file, certificatesLimit)
	if err != nil {
		return nil, fmt.Errorf("read the certificates to trust: %w", err)
	}
	if !pool.AppendCertsFromPEM(raw) {
		return nil, term.Usage("%s has no certificate in it; it must be a PEM file", file)
	}
	return pool, nil
}
