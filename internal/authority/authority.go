// Package authority has the certificates that the service shows: given ones, read
// again when their files change, or those of a private authority that it makes for
// itself. Connections that stand are never dropped by a change.
package authority

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"log/slog"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"
)

const (
	// authorityLife is how long the authority's certificate is good, and leafLife
	// how long those of hosts are; they are renewed when a third of it is left.
	authorityLife = 10 * 365 * 24 * time.Hour
	leafLife      = 90 * 24 * time.Hour
	// lookEvery is how often given files are looked at for a change.
	lookEvery = 2 * time.Second

	authorityFile    = "authority.pem"
	authorityKeyFile = "authority-key.pem"
)

// Certificates picks the certificate of each connection. It is safe for concurrent use.
type Certificates struct {
	pairs [][2]string
	// private is nil where certificates are given.
	private *Private
	hosts   []string
	now     func() time.Time

	mu     sync.Mutex
	loaded []*tls.Certificate
	stamps []time.Time
	looked time.Time
}

// FromFiles returns the certificates of pairs of files: certificate, key. It fails
// where one cannot be used.
func FromFiles(pairs [][2]string) (*Certificates, error) {
	c := &Certificates{pairs: pairs, now: time.Now}
	return c, c.load()
}

// FromAuthority returns certificates for the hosts, names or addresses, that the
// private authority signs.
func FromAuthority(p *Private, hosts []string) (*Certificates, error) {
	c := &Certificates{private: p, hosts: hosts, now: time.Now}
	return c, c.renew()
}

// Config returns the settings of a server: TLS 1.2 and up, HTTP/2.
func (c *Certificates) Config() *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1"}, GetCertificate: c.pick}
}

// pick returns the certificate for the name that a client asks for, or the first.
func (c *Certificates) pick(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.now().Sub(c.looked) > lookEvery {
		c.looked = c.now()
		c.look()
	}
	for _, certificate := range c.loaded {
		if hello.SupportsCertificate(certificate) == nil {
			return certificate, nil
		}
	}
	return c.loaded[0], nil
}

// look reads files that changed and renews what comes to its end. What cannot be
// used is said in the log, and what there is stays.
func (c *Certificates) look() {
	if c.private != nil {
		if left := c.loaded[0].Leaf.NotAfter.Sub(c.now()); left < leafLife/3 {
			if err := c.renewLocked(); err != nil {
				slog.Error("the certificate cannot be renewed", "error", err, "good until", c.loaded[0].Leaf.NotAfter)
			}
		}
		return
	}
	stamps, err := c.fileTimes()
	if err == nil && slices.EqualFunc(stamps, c.stamps, time.Time.Equal) {
		return
	}
	if err == nil {
		err = c.loadLocked()
	}
	if err != nil {
		slog.Error("a changed certificate cannot be used; the one before stays", "error", err)
		return
	}
	slog.Info("the certificates were read again", "good until", c.loaded[0].Leaf.NotAfter)
}

func (c *Certificates) load() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.loadLocked()
}

func (c *Certificates) loadLocked() error {
	stamps, err := c.fileTimes()
	if err != nil {
		return err
	}
	var loaded []*tls.Certificate
	for _, pair := range c.pairs {
		certificate, err := tls.LoadX509KeyPair(pair[0], pair[1])
		if err != nil {
			return fmt.Errorf("the certificate %s with the key %s: %w", pair[0], pair[1], err)
		}
		if c.now().After(certificate.Leaf.NotAfter) {
			return fmt.Errorf("the certificate %s ended on %s; put a new one there", pair[0], certificate.Leaf.NotAfter.Format(time.DateOnly))
		}
		loaded = append(loaded, &certificate)
	}
	c.loaded, c.stamps, c.looked = loaded, stamps, c.now()
	return nil
}

func (c *Certificates) fileTimes() ([]time.Time, error) {
	var stamps []time.Time
	for _, pair := range c.pairs {
		for _, file := range pair {
			info, err := os.Stat(file)
			if err != nil {
				return nil, fmt.Errorf("the certificates: %w", err)
			}
			stamps = append(stamps, info.ModTime())
		}
	}
	return stamps, nil
}

func (c *Certificates) renew() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.renewLocked()
}

func (c *Certificates) renewLocked() error {
	leaf, err := c.private.sign(c.hosts, c.now())
	if err != nil {
		return err
	}
	c.loaded, c.looked = []*tls.Certificate{leaf}, c.now()
	return nil
}

// Private is an authority of the registry's own.
type Private struct {
	certificate *x509.Certificate
	key         *ecdsa.PrivateKey
	pem         []byte
}

// OpenPrivate opens the authority in a folder of keys, and makes it where there is none.
func OpenPrivate(folder string) (*Private, error) {
	p, err := readPrivate(folder)
	if errors.Is(err, os.ErrNotExist) {
		if err := makePrivate(folder); err != nil {
			return nil, fmt.Errorf("make a private authority: %w", err)
		}
		p, err = readPrivate(folder)
	}
	if err != nil {
		return nil, fmt.Errorf("read the private authority: %w", err)
	}
	if time.Now().After(p.certificate.NotAfter) {
		return nil, fmt.Errorf("the private authority ended on %s; remove %s and every client has to be given the new one", p.certificate.NotAfter.Format(time.DateOnly), filepath.Join(folder, authorityFile))
	}
	return p, nil
}

func readPrivate(folder string) (*Private, error) {
	raw, err := os.ReadFile(filepath.Join(folder, authorityFile))
	if err != nil {
		return nil, err
	}
	pair, err := tls.LoadX509KeyPair(filepath.Join(folder, authorityFile), filepath.Join(folder, authorityKeyFile))
	if err != nil {
		return nil, err
	}
	key, ok := pair.PrivateKey.(*ecdsa.PrivateKey)
	if !ok {
		return nil, errors.New("its key is not one that was made here")
	}
	return &Private{pair.Leaf, key, raw}, nil
}

func makePrivate(folder string) error {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	now := time.Now()
	serial, err := newSerial()
	if err != nil {
		return err
	}
	template := &x509.Certificate{
		SerialNumber: serial, Subject: pkix.Name{CommonName: "Warthesis private authority " + now.UTC().Format(time.DateOnly)},
		NotBefore: now.Add(-time.Hour), NotAfter: now.Add(authorityLife), IsCA: true, BasicConstraintsValid: true, MaxPathLenZero: true,
		KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign,
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		return err
	}
	raw, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	// The key first: a certificate without it would be read as an authority.
	if err := write(filepath.Join(folder, authorityKeyFile), "PRIVATE KEY", raw, 0o600); err != nil {
		return err
	}
	return write(filepath.Join(folder, authorityFile), "CERTIFICATE", der, 0o600)
}

func write(file, kind string, der []byte, mode os.FileMode) error {
	f, err := os.OpenFile(file+".new", os.O_WRONLY|os.O_CREATE|os.O_TRUNC, mode)
	if err != nil {
		return err
	}
	err = pem.Encode(f, &pem.Block{Type: kind, Bytes: der})
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Rename(file+".new", file)
}

func newSerial() (*big.Int, error) {
	return rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 127))
}

// sign returns a certificate for the hosts, with a key of its own.
func (p *Private) sign(hosts []string, now time.Time) (*tls.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	serial, err := newSerial()
	if err != nil {
		return nil, err
	}
	template := &x509.Certificate{
		SerialNumber: serial, Subject: pkix.Name{CommonName: hosts[0]},
		NotBefore: now.Add(-time.Hour), NotAfter: now.Add(leafLife),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	for _, host := range hosts {
		if ip := net.ParseIP(host); ip != nil {
			template.IPAddresses = append(template.IPAddresses, ip)
		} else {
			template.DNSNames = append(template.DNSNames, host)
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, template, p.certificate, key.Public(), p.key)
	if err != nil {
		return nil, err
	}
	leaf, err := x509.ParseCertificate(der)
	return &tls.Certificate{Certificate: [][]byte{der, p.certificate.Raw}, PrivateKey: key, Leaf: leaf}, err
}

// PEM returns the authority's certificate, as clients take it.
func (p *Private) PEM() []byte { return p.pem }

// Fingerprint returns the fingerprint of the authority's certificate.
func (p *Private) Fingerprint() string { return Fingerprint(p.certificate.Raw) }

// Fingerprint returns the SHA-256 of a certificate as people compare it: pairs of
// hex digits with colons.
func Fingerprint(der []byte) string {
	sum := sha256.Sum256(der)
	text := strings.ToUpper(hex.EncodeToString(sum[:]))
	var pairs []string
	for i := 0; i < len(text); i += 2 {
		pairs = append(pairs, text[i:i+2])
	}
	return strings.Join(pairs, ":")
}
