package flow

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"warthesis/internal/login"
	"warthesis/internal/oci"
	"warthesis/internal/peer"
	"warthesis/internal/peer/walk"
	"warthesis/internal/record/peers"
)

// How long what fails for a passing reason is tried again, and how long no byte may move.
const (
	patience     = 20 * time.Second
	idle         = 30 * time.Second
	headerWithin = time.Minute
	// testPatience is patience where somebody waits for a test.
	testPatience = 3 * time.Second
)

// pinned believes a connection by the fingerprint of its certificate, or of one that signed
// it: then it has to be made out for the host, which the connection itself does not tell of
// an address without a name.
func pinned(fingerprint, host string) func(tls.ConnectionState) error {
	return func(state tls.ConnectionState) error {
		shown := state.PeerCertificates
		for i, c := range shown {
			sum := sha256.Sum256(c.Raw)
			if hex.EncodeToString(sum[:]) != fingerprint {
				continue
			}
			if i == 0 {
				return nil
			}
			roots, between := x509.NewCertPool(), x509.NewCertPool()
			roots.AddCert(c)
			for _, other := range shown[1:] {
				between.AddCert(other)
			}
			_, err := shown[0].Verify(x509.VerifyOptions{Roots: roots, Intermediates: between, DNSName: host})
			return err
		}
		sum := sha256.Sum256(shown[0].Raw)
		return oci.Errorf(oci.CodeDistrusted, "the certificate of %s has the fingerprint %x, and another one is believed; if it was renewed, give the new one", host, sum)
	}
}

// roads lead to a peer and, without its credentials, to where it points. What was said of
// its certificates is said of it alone.
type roads struct {
	base        *url.URL
	own, others *http.Transport
}

// RoundTrip sends a request.
func (r *roads) RoundTrip(call *http.Request) (*http.Response, error) {
	if !peer.SameOrigin(call.URL, r.base) {
		return r.others.RoundTrip(call)
	}
	answer, err := r.own.RoundTrip(call)
	if err == nil {
		return answer, nil
	}
	if wrong, is := walk.Distrusted(r.base.Host, err); is {
		return nil, oci.Errorf(oci.CodeDistrusted, "%s. %s", wrong.Says, remedies[wrong.Wrong])
	}
	return nil, err
}

// remedies are what to do where a peer is not believed.
var remedies = map[walk.Wrong]string{
	walk.UnknownAuthority: "Give the peer that authority's certificate, or the fingerprint of its own",
	walk.OtherName:        "Give the peer's address by one of those names, or let its certificate be made out for this one too",
	walk.Expired:          "Let it be renewed, or set the clock of this machine",
	walk.Unusable:         "Let whoever runs the peer have another one made",
	walk.NotTLS:           "If plain HTTP is meant, say that the peer is unencrypted",
}

// way returns how a peer is reached, by a client that is patient for so long.
func (p *Peers) way(is peers.Peer, patience time.Duration) (walk.Way, error) {
	trust, err := p.trust(is)
	if err != nil {
		return walk.Way{}, err
	}
	secret, err := p.box.Read(is.Secret, secretOf(is))
	if err != nil {
		return walk.Way{}, fmt.Errorf("the login of the peer %s: %w", is.Name, err)
	}
	scheme := "https"
	if is.Unencrypted {
		scheme = "http"
	}
	way := walk.Way{
		Registry: is.Address, Base: &url.URL{Scheme: scheme, Host: is.Address}, Dial: p.reach.Dialer(),
		Plainly: "that was said of this peer; whoever is on the way can read and change what passes",
	}
	if is.Fingerprint != "" {
		way.Unchecked = "believed by its fingerprint alone"
	}
	if way.Proxy, err = p.reach.Proxy(&http.Request{URL: way.Base}); err != nil {
		return way, err
	}
	to := &roads{base: way.Base, own: p.transport(trust), others: p.transport(&tls.Config{MinVersion: tls.VersionTLS12})}
	way.Transport = to
	way.Client = peer.New(is.Address, peer.Options{
		Base: way.Base.String(), UserAgent: p.agent, Transport: to, Patience: patience, Idle: idle, ManifestBytes: p.manifest, Sessions: sessions{p},
		LogIn: fmt.Sprintf("give the peer %s an account and its secret", is.Name),
		Credentials: func(context.Context) (login.Credentials, error) {
			if is.Account == "" {
				return login.Credentials{}, nil
			}
			return login.Credentials{Account: is.Account, Secret: string(secret), From: "the login of the peer " + is.Name}, nil
		},
	})
	return way, nil
}

// transport returns a transport whose connections are checked.
func (p *Peers) transport(trust *tls.Config) *http.Transport {
	t := peer.NewTransport()
	t.DialContext, t.Proxy, t.TLSClientConfig, t.ResponseHeaderTimeout = p.reach.Dialer(), p.reach.Proxy, trust, headerWithin
	t.ForceAttemptHTTP2 = true
	return t
}
