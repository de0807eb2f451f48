package main

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// letIn opens a namespace, so that nobody has to log in to pull.
func (s *service) letIn(namespace string) error {
	request, err := http.NewRequest(http.MethodPatch, s.address+"/api/v1/namespaces/"+namespace, strings.NewReader(`{"open":true}`))
	if err != nil {
		return err
	}
	request.Header.Set("Content-Type", "application/json")
	answer, err := client.Do(request)
	if err != nil {
		return err
	}
	answer.Body.Close()
	if answer.StatusCode != http.StatusNoContent {
		return fmt.Errorf("opening a namespace is answered with %s", answer.Status)
	}
	return nil
}

// bearer gets a token to pull from a repository.
func (s *service) bearer(repository string) (string, error) {
	answer, err := client.Get(s.address + "/api/token?scope=repository:" + repository + ":pull")
	if err != nil {
		return "", err
	}
	defer answer.Body.Close()
	var given struct{ Token string }
	err = json.NewDecoder(answer.Body).Decode(&given)
	return given.Token, err
}

// pullTLS measures against nginx with the same file and certificate.
func (b *bench) pullTLS() error {
	pair, err := selfSigned(b.folder)
	if err != nil {
		return err
	}
	s, err := b.start("--certificates", pair)
	if err != nil {
		return err
	}
	defer s.stop()
	digest := b.fresh()
	if err := upload(s.address, "bench/pull", digest, bytesReader(b.block), int64(b.size)); err != nil {
		return err
	}
	nginx, stop, err := b.nginx(filepath.Join(s.data, "blobs"), pair)
	if err != nil {
		return err
	}
	defer stop()
	file, err := s.fileOf(digest)
	if err != nil {
		return err
	}
	for _, version := range []int{1, 2} {
		transport := newTransport()
		transport.ForceAttemptHTTP2 = version == 2
		by := &http.Client{Transport: asAdmin{transport}}
		fetch := func(at string) func() (time.Duration, error) {
			return func() (time.Duration, error) { return downloadBy(by, at, int64(b.size)) }
		}
		err := b.pair(fmt.Sprintf("pull %d MiB over TLS, HTTP/%d, nginx", b.size/mib, version), float64(b.size),
			fetch(s.address+"/v2/bench/pull/blobs/"+digest), fetch(nginx+file))
		if err != nil {
			return err
		}
	}
	return nil
}

// selfSigned writes a certificate for this machine and its key, certificate:key.
func selfSigned(folder string) (string, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return "", err
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(1), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(24 * time.Hour),
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		return "", err
	}
	raw, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return "", err
	}
	at, keyAt := filepath.Join(folder, "bench.pem"), filepath.Join(folder, "bench-key.pem")
	if err := os.WriteFile(keyAt, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw}), 0o600); err != nil {
		return "", err
	}
	return at + ":" + keyAt, os.WriteFile(at, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600)
}

// wrongTries is how many wrong passwords each account gets.
const wrongTries = 200

// logins prints how long a wrong password takes for an account that is there, beside
// one that is not. Each try comes from another address, so that none is slowed.
func (b *bench) logins() error {
	s, err := b.start("--trusted-proxies", "127.0.0.1")
	if err != nil {
		return err
	}
	defer s.stop()
	took := map[string][]float64{}
	for i := range wrongTries {
		for _, account := range []string{admin, "nobody-of-that-name"} {
			request, err := http.NewRequest(http.MethodGet, s.address+"/v2/", nil)
			if err != nil {
				return err
			}
			request.SetBasicAuth(account, "a wrong password")
			request.Header.Set("X-Forwarded-For", fmt.Sprintf("10.0.%d.%d", i/256, i%256))
			began := time.Now()
			answer, err := client.Do(request)
			if err != nil {
				return err
			}
			answer.Body.Close()
			if answer.StatusCode != http.StatusUnauthorized {
				return fmt.Errorf("a wrong password is answered with %s", answer.Status)
			}
			took[account] = append(took[account], time.Since(began).Seconds()*1000)
		}
	}
	known, unknown := took[admin], took["nobody-of-that-name"]
	slices.Sort(known)
	slices.Sort(unknown)
	fmt.Printf("%-42s %9.2f ms %9.2f ms %8.3f\n", "wrong password, known account, unknown", median(known), median(unknown), median(known)/median(unknown))
	return nil
}
