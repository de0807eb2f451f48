package main

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"warthesis/internal/kit/line"
)

// follow measures a pull through a namespace that follows another registry against a pull
// from that one: by a client that verifies what it gets.
func (b *bench) follow() error {
	at, err := b.twoSites()
	if err != nil {
		return err
	}
	defer at.end()
	near, far, slow := at.near, at.far, at.slow
	for _, call := range [][3]string{
		{http.MethodPost, "/api/v1/namespaces", `{"name":"bench"}`}, {http.MethodPost, "/api/v1/namespaces", `{"name":"line"}`},
		{http.MethodPut, "/api/v1/follow?namespace=bench", `{"sources":[{"peer":"far","prefix":"bench"}]}`},
		{http.MethodPut, "/api/v1/follow?namespace=line", `{"sources":[{"peer":"slow","prefix":"bench"}]}`},
	} {
		if err := manage(call[0], near.address+call[1], call[2]); err != nil {
			return err
		}
	}
	// Each run pulls what nobody has pulled before.
	next := func() (manifest, digest string, err error) {
		digest = b.fresh()
		if err := upload(far.address, "bench/app", digest, bytes.NewReader(b.block), int64(len(b.block))); err != nil {
			return "", "", err
		}
		config := fmt.Appendf(nil, `{"count":%d}`, b.count)
		configDigest := fmt.Sprintf("sha256:%x", sha256.Sum256(config))
		if err := upload(far.address, "bench/app", configDigest, bytes.NewReader(config), int64(len(config))); err != nil {
			return "", "", err
		}
		const mediaType = "application/vnd.oci.image.manifest.v1+json"
		document := fmt.Sprintf(`{"schemaVersion":2,"mediaType":%q,"config":{"mediaType":"application/vnd.example.bench","digest":%q,"size":%d},"layers":[{"mediaType":"application/vnd.example.bench","digest":%q,"size":%d}]}`,
			mediaType, configDigest, len(config), digest, len(b.block))
		manifest = fmt.Sprintf("run-%d", b.count)
		return manifest, digest, put(far.address+"/v2/bench/app/manifests/"+manifest, mediaType, strings.NewReader(document), int64(len(document)))
	}
	pull := func(from string) func() (time.Duration, error) {
		return func() (time.Duration, error) {
			tag, digest, err := next()
			if err != nil {
				return 0, err
			}
			began := time.Now()
			if _, err := download(from+"/app/manifests/"+tag, -1); err != nil {
				return 0, err
			}
			err = verified(from+"/app/blobs/"+digest, digest)
			return time.Since(began), err
		}
	}
	if err := b.pair(fmt.Sprintf("first pull through, %d MiB, direct pull", b.size/mib), float64(b.size), pull(near.address+"/v2/bench"), pull(far.address+"/v2/bench")); err != nil {
		return err
	}
	first := func(base string) func() (time.Duration, error) {
		return func() (time.Duration, error) {
			tag, digest, err := next()
			if err == nil {
				_, err = download(base+"/app/manifests/"+tag, -1)
			}
			if err != nil {
				return 0, err
			}
			began := time.Now()
			answer, err := client.Get(base + "/app/blobs/" + digest)
			if err != nil {
				return 0, err
			}
			_, err = io.ReadFull(answer.Body, make([]byte, 1))
			took := time.Since(began)
			// The rest is not measured, and must not be under way beside what is.
			_, failed := io.Copy(io.Discard, answer.Body)
			answer.Body.Close()
			return took, errors.Join(err, failed)
		}
	}
	b.block = b.block[:firstOf]
	defer func() { b.block = b.block[:b.size] }()
	if err := b.waits("first byte of it through, direct", first(near.address+"/v2/bench"), first(far.address+"/v2/bench")); err != nil {
		return err
	}
	return b.waits("the same over a line of 20 ms", first(near.address+"/v2/line"), first("http://"+slow+"/v2/bench"))
}

// sites are two registries, of which the near one has the far one as the peers far and, over a
// slow line, slow.
type sites struct {
	near, far *service
	// slow is the address of the slow line.
	slow string
	end  func()
}

// twoSites starts them.
func (b *bench) twoSites() (at sites, err error) {
	at.end = func() {}
	also := func(end func()) {
		before := at.end
		at.end = func() { end(); before() }
	}
	defer func() {
		if err != nil {
			at.end()
		}
	}()
	if at.far, err = b.start(); err != nil {
		return at, err
	}
	also(at.far.stop)
	if at.near, err = b.start("--inside-networks", "127.0.0.0/8"); err != nil {
		return at, err
	}
	also(at.near.stop)
	slow, end, err := line.Start(at.far.host(), lineEach)
	if err != nil {
		return at, err
	}
	also(end)
	at.slow = slow
	return at, errors.Join(at.near.makePeer("far", at.far.host()), at.near.makePeer("slow", slow))
}

// host is where the service is reached, without a scheme.
func (s *service) host() string { return strings.TrimPrefix(s.address, "http://") }

// makePeer makes another registry a peer of this one, with the admin's login.
func (s *service) makePeer(name, address string) error {
	return manage(http.MethodPost, s.address+"/api/v1/peers", fmt.Sprintf(`{"name":%q,"address":%q,"unencrypted":true,"account":%q,"secret":%q}`, name, address, admin, password))
}

// lineEach is how long a slow line takes for each way, firstOf how large the blob is of which
// the first byte is waited for.
const (
	lineEach = 10 * time.Millisecond
	firstOf  = 4 * mib
)

// manage sends a request to the management API.
func manage(method, at, body string) error {
	request, err := http.NewRequest(method, at, strings.NewReader(body))
	if err != nil {
		return err
	}
	request.Header.Set("Content-Type", "application/json")
	answer, err := client.Do(request)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if said, _ := io.ReadAll(answer.Body); answer.StatusCode >= 300 || strings.Contains(string(said), `"kept":false`) {
		return fmt.Errorf("%s %s: %s: %s", method, at, answer.Status, said)
	}
	return nil
}

// verified pulls a blob and checks it against its digest.
func verified(at, digest string) error {
	answer, err := client.Get(at)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	hash := sha256.New()
	if _, err := io.CopyBuffer(struct{ io.Writer }{hash}, answer.Body, make([]byte, mib)); err != nil {
		return err
	}
	if got := fmt.Sprintf("sha256:%x", hash.Sum(nil)); got != digest {
		return fmt.Errorf("%s is %s", at, got)
	}
	return nil
}
