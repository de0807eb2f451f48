package flow

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"encoding/pem"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"warthesis/internal/clock"
	"warthesis/internal/oci"
	"warthesis/internal/outward"
	"warthesis/internal/peer"
	"warthesis/internal/peer/walk"
	"warthesis/internal/record"
	"warthesis/internal/record/peers"
	"warthesis/internal/record/taglog"
	"warthesis/internal/secret"
)

// Peers reaches other registries. It is safe for concurrent use.
type Peers struct {
	records *record.Store
	clock   clock.Clock
	box     *secret.Box
	reach   outward.Reach
	agent   string
	// manifest is the largest manifest that is read, in bytes.
	manifest int64

	mu sync.Mutex
	// known are clients of the version that they are of.
	known map[knownKey]*reached
}

// knownKey is the number of a peer, and whether its client does not try again.
type knownKey struct {
	id   int64
	once bool
}

type reached struct {
	version int64
	client  *peer.Client
}

// NewPeers returns how peers are reached; agent names the program to them, and manifests are
// read up to so many bytes.
func NewPeers(records *record.Store, clk clock.Clock, box *secret.Box, reach outward.Reach, agent string, manifest int64) *Peers {
	return &Peers{manifest: manifest, records: records, clock: clk, box: box, reach: reach, agent: agent, known: map[knownKey]*reached{}}
}

// Place is a repository of a peer, by its whole name there.
type Place struct {
	Peer peers.Peer
	Name oci.Name
}

// Given is what somebody says of a peer. Nil fields are as they were.
type Given struct {
	Address, Prefix, Description, Account, Secret *string
	// Authority, ClientCertificate and ClientKey are PEM; Fingerprint is a SHA-256 in hex.
	Authority, Fingerprint, ClientCertificate, ClientKey *string
	Unencrypted                                          *bool
}

// The bounds of what somebody says of a peer, in bytes.
const (
	mostSecret      = 16 << 10
	mostPEM         = 256 << 10
	mostDescription = 500
)

var peerName = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,62}[a-z0-9])?$`)

// notPeers are the origins of moves of tags that are no peers.
var notPeers = []taglog.Origin{taglog.OriginHand, taglog.OriginUndo, taglog.OriginRule}

// CheckName fails, with oci.CodeNameInvalid, where a name is none for a peer.
func CheckName(name string) error {
	if slices.Contains(notPeers, taglog.Origin(name)) {
		// The tag log says of a move from where it came: by a peer's name, or by one of these.
		return oci.Errorf(oci.CodeNameInvalid, "%q is what the tag log calls something else; take another name for the peer", name)
	}
	if !peerName.MatchString(name) {
		return oci.Errorf(oci.CodeNameInvalid, "%q is no name for a peer: up to 64 small letters, digits and dashes, beginning and ending with a letter or digit", name)
	}
	return nil
}

// Apply returns a peer with what is said of it. A login that was kept goes nowhere else than
// it was meant for: whoever changes the address, or by what it is believed, gives it anew.
func (p *Peers) Apply(to peers.Peer, g Given) (peers.Peer, error) {
	was := to
	set(&to.Description, g.Description)
	set(&to.Account, g.Account)
	set(&to.Authority, g.Authority)
	set(&to.ClientCertificate, g.ClientCertificate)
	set(&to.Unencrypted, g.Unencrypted)
	if utf8.RuneCountInString(to.Description) > mostDescription || utf8.RuneCountInString(to.Account) > mostDescription {
		return to, oci.Errorf(oci.CodeSizeInvalid, "the description and the account's name have at most %d characters each", mostDescription)
	}
	if g.Address != nil {
		address, err := oci.ParseRegistry(*g.Address)
		if err != nil {
			return to, err
		}
		to.Address = address
	}
	if g.Prefix != nil {
		to.Prefix = ""
		if *g.Prefix != "" {
			prefix, err := oci.ParseName(*g.Prefix)
			if err != nil {
				return to, err
			}
			to.Prefix = prefix
		}
	}
	if g.Fingerprint != nil {
		fingerprint, err := readFingerprint(*g.Fingerprint)
		if err != nil {
			return to, err
		}
		to.Fingerprint = fingerprint
	}
	if err := p.keepSecrets(&to, g); err != nil {
		return to, err
	}
	elsewhere := was.ID != 0 && (was.Address != to.Address || was.Authority != to.Authority || was.Fingerprint != to.Fingerprint || to.Unencrypted && !was.Unencrypted)
	if elsewhere && (len(was.Secret) > 0 && g.Secret == nil || len(was.ClientKey) > 0 && g.ClientKey == nil) {
		return to, oci.Errorf(oci.CodeQueryInvalid, "the login of %s was kept for %s as it was; give its secret, and its client key where it has one, again for another address or certificate", to.Name, was.Address)
	}
	return to, p.check(to)
}

func set[T any](field *T, given *T) {
	if given != nil {
		*field = *given
	}
}

func (p *Peers) keepSecrets(to *peers.Peer, g Given) error {
	if g.Secret != nil {
		secret := strings.TrimRight(*g.Secret, "\r\n")
		if len(secret) > mostSecret || strings.ContainsFunc(secret, func(r rune) bool { return r < ' ' || r == 0x7f }) {
			return oci.Errorf(oci.CodeSizeInvalid, "the secret is one line of at most %d bytes", mostSecret)
		}
		to.Secret = p.box.Keep([]byte(secret), secretOf(*to))
	}
	if g.ClientKey != nil {
		to.ClientKey = p.box.Keep([]byte(*g.ClientKey), keyOf(*to))
	}
	return nil
}

// What a kept secret is of.
func secretOf(p peers.Peer) string { return "login of the peer " + p.Name }
func keyOf(p peers.Peer) string    { return "client key of the peer " + p.Name }

// check fails, with oci.CodeQueryInvalid, where what is said of a peer contradicts itself.
func (p *Peers) check(is peers.Peer) error {
	wrong := func(format string, args ...any) error { return oci.Errorf(oci.CodeQueryInvalid, format, args...) }
	switch {
	case is.Address == "":
		return wrong("name the address of the peer, host or host:port")
	case len(is.Authority) > mostPEM || len(is.ClientCertificate) > mostPEM:
		return wrong("certificates have at most %d KiB", mostPEM>>10)
	case is.Authority != "" && is.Fingerprint != "":
		return wrong("an authority and a fingerprint are two ways to believe a peer; give one of them")
	case is.Unencrypted && (is.Authority != "" || is.Fingerprint != "" || is.ClientCertificate != ""):
		return wrong("plain HTTP has no certificates; leave them out, or do not speak plain HTTP")
	case is.Account == "" && len(is.Secret) > 0:
		return wrong("name the account that the secret is of")
	case is.Account != "" && len(is.Secret) == 0:
		return wrong("give the secret of the account %s", is.Account)
	case strings.Contains(is.Account, ":") || strings.ContainsFunc(is.Account, func(r rune) bool { return r < ' ' || r == 0x7f }):
		return wrong("the account's name may have no colon in it, and is one line")
	case (is.ClientCertificate == "") != (len(is.ClientKey) == 0):
		return wrong("a client certificate and its key come together")
	}
	_, err := p.trust(is)
	return err
}

// readFingerprint reads a SHA-256 as people write it: hex digits, with colons or without.
func readFingerprint(s string) (string, error) {
	plain := strings.ToLower(strings.NewReplacer(":", "", " ", "").Replace(strings.TrimPrefix(strings.ToLower(s), "sha256:")))
	if raw, err := hex.DecodeString(plain); s != "" && (err != nil || len(raw) != 32) {
		return "", oci.Errorf(oci.CodeQueryInvalid, "%.80q is no fingerprint: it is the SHA-256 of a certificate, 64 hex digits", s)
	}
	return plain, nil
}

// trust returns by what a peer is believed, and by what it believes us.
func (p *Peers) trust(is peers.Peer) (*tls.Config, error) {
	config := &tls.Config{MinVersion: tls.VersionTLS12}
	if is.Authority != "" {
		pool, err := x509.SystemCertPool()
		if err != nil {
			pool = x509.NewCertPool()
		}
		if !pool.AppendCertsFromPEM([]byte(is.Authority)) {
			return nil, oci.Errorf(oci.CodeQueryInvalid, "there is no certificate in the authority; it is a file in PEM form")
		}
		config.RootCAs = pool
	}
	if is.Fingerprint != "" {
		// Checked by the fingerprint alone, and nothing else: see pinned.
		config.InsecureSkipVerify = true
		config.VerifyConnection = pinned(is.Fingerprint, walk.HostOf(is.Address))
	}
	if is.ClientCertificate != "" {
		key, err := p.box.Read(is.ClientKey, keyOf(is))
		if err != nil {
			return nil, oci.Errorf(oci.CodeQueryInvalid, "client key: %v", err)
		}
		pair, err := tls.X509KeyPair([]byte(is.ClientCertificate), key)
		if err != nil {
			return nil, oci.Errorf(oci.CodeQueryInvalid, "the client certificate and its key do not fit, or are not in PEM form: %v", err)
		}
		config.Certificates = []tls.Certificate{pair}
	}
	return config, nil
}

// authorityOf returns whom a certificate in PEM form is of, "" for none.
func authorityOf(text string) string {
	block, _ := pem.Decode(bytes.TrimSpace([]byte(text)))
	if block == nil {
		return ""
	}
	certificate, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return ""
	}
	return certificate.Subject.String()
}

// Subject says whom the certificates of a peer are of: its authority, and what it is shown.
func Subject(is peers.Peer) (authority, client string) {
	return authorityOf(is.Authority), authorityOf(is.ClientCertificate)
}

// Client returns a client of a peer, with its login.
func (p *Peers) Client(is peers.Peer) (*peer.Client, error) { return p.client(is, false) }

// Once is Client for what is asked while somebody waits: nothing is tried again.
func (p *Peers) Once(is peers.Peer) (*peer.Client, error) { return p.client(is, true) }

func (p *Peers) client(is peers.Peer, once bool) (*peer.Client, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	key := knownKey{is.ID, once}
	if there := p.known[key]; there != nil && there.version == is.Version {
		return there.client, nil
	}
	within := patience
	if once {
		within = time.Nanosecond
	}
	way, err := p.way(is, within)
	if err == nil {
		p.known[key] = &reached{is.Version, way.Client}
	}
	return way.Client, err
}
