// Package peer is the client side of the distribution protocol: it talks to any
// registry that keeps to the standard, of whatever make. What comes is checked
// against its digest; what an interrupted transfer has brought is not sent again.
package peer

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/cenkalti/backoff/v5"

	"warthesis/internal/login"
	"warthesis/internal/oci"
)

// Options say how to reach a registry.
type Options struct {
	// Unencrypted allows plain HTTP to a host that is not this machine.
	Unencrypted bool
	// UserAgent names the program to the registry.
	UserAgent string
	// Credentials returns what the registry is given where it asks for a login; nil
	// for none.
	Credentials func(context.Context) (login.Credentials, error)
	// Base, where set, is the registry's address with its scheme.
	Base string
	// Transport, where set, is used in place of NewTransport's.
	Transport http.RoundTripper
	// Patience is how long what fails for a passing reason is tried again without any
	// progress; zero is one minute.
	Patience time.Duration
	// Idle is how long no byte may move; zero is one minute.
	Idle time.Duration
	// Sessions, where set, remembers uploads that did not end, for a later run.
	Sessions Sessions
}

// Sessions remembers where uploads that did not end are gone on with.
type Sessions interface {
	// Find returns the address of an upload session of a blob, "" for none.
	Find(registry string, name oci.Name, digest oci.Digest) string
	// Keep notes it, and Drop forgets it. What cannot be kept is no error: the upload
	// then begins anew.
	Keep(registry string, name oci.Name, digest oci.Digest, at string)
	Drop(registry string, name oci.Name, digest oci.Digest)
}

// Client talks to one registry. It is safe for concurrent use.
type Client struct {
	registry string
	base     *url.URL
	http     *http.Client
	options  Options
	auth     authorizer
	// reached tells that the registry has answered before: a refused connection
	// is then a pause, and not a wrong address.
	reached atomic.Bool
}

// New returns a client of the registry, given as host or host:port. Plain HTTP is
// spoken to this machine, and elsewhere only where the options allow it.
func New(registry string, o Options) *Client {
	if o.Patience == 0 {
		o.Patience = time.Minute
	}
	if o.Idle == 0 {
		o.Idle = time.Minute
	}
	if o.Transport == nil {
		o.Transport = NewTransport()
	}
	base := Base(registry, o.Unencrypted)
	if given, err := url.Parse(o.Base); err == nil && o.Base != "" {
		base = given
	}
	return &Client{
		registry: registry,
		base:     base,
		http: &http.Client{Transport: o.Transport, CheckRedirect: func(*http.Request, []*http.Request) error {
			return http.ErrUseLastResponse
		}},
		options: o,
		auth:    authorizer{credentials: o.Credentials},
	}
}

// Base returns the address of a registry with its scheme.
func Base(registry string, unencrypted bool) *url.URL {
	scheme := "https"
	if unencrypted || isThisMachine(registry) {
		scheme = "http"
	}
	return &url.URL{Scheme: scheme, Host: registry}
}

func isThisMachine(registry string) bool {
	host := registry
	if h, _, err := net.SplitHostPort(registry); err == nil {
		host = h
	}
	ip := net.ParseIP(strings.Trim(host, "[]"))
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// NewTransport returns the transport that the client's commands share: through
// the proxy of the environment, and never unpacking what comes, since digests are
// over the bytes as they are stored.
func NewTransport() *http.Transport {
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.DisableCompression = true
	t.MaxIdleConnsPerHost = 16
	t.ResponseHeaderTimeout = 5 * time.Minute
	t.WriteBufferSize, t.ReadBufferSize = 256<<10, 256<<10
	return t
}

// request is one call of the protocol.
type request struct {
	method string
	// path is behind /v2/; at, where set, is an address the registry gave instead.
	path   string
	query  url.Values
	at     *url.URL
	header http.Header
	// body is opened anew for each try. It may be nil.
	body   func() io.Reader
	length int64
}

// do sends a request and returns an answer whose status is one of want. Answers
// with other statuses become errors with the registry's own code and sentence. A
// login that the registry itself asks for is done once.
func (c *Client) do(ctx context.Context, r request, want ...int) (*reply, error) {
	scope := scopeOf(r)
	if err := c.prepare(ctx, scope); err != nil {
		return nil, err
	}
	for again := true; ; again = false {
		answer, err := c.send(ctx, r, scope)
		if err != nil {
			return nil, err
		}
		if slices.Contains(want, answer.StatusCode) {
			return answer, nil
		}
		if answer.StatusCode == http.StatusUnauthorized && again && !answer.away {
			answer.Body.Close()
			if again, err = c.authorize(ctx, answer, scope); err != nil {
				return nil, err
			}
			if again {
				continue
			}
		}
		defer answer.Body.Close()
		return nil, c.refusal(answer)
	}
}

// address returns where a request goes.
func (c *Client) address(r request) *url.URL {
	if r.at != nil {
		return r.at
	}
	target := c.base.JoinPath("v2", r.path)
	// A path that ends in a slash means another resource than one without.
	if strings.HasSuffix(r.path, "/") && !strings.HasSuffix(target.Path, "/") {
		target.Path += "/"
	}
	target.RawQuery = r.query.Encode()
	return target
}

// send sends a request as it stands, and follows where the answer points to. What
// changes something is sent on only where the answer says that it is to be sent as it
// is (RFC 9110, section 15.4).
func (c *Client) send(ctx context.Context, r request, scope string) (*reply, error) {
	target := c.address(r)
	said := ""
	for hops := 0; ; hops++ {
		answer, err := c.sendTo(ctx, r, target, scope)
		if err != nil {
			return nil, err
		}
		away := !SameOrigin(target, c.base)
		if !away {
			said = answer.Header.Get("Docker-Content-Digest")
		}
		if !isRedirect(answer.StatusCode) {
			return &reply{answer, away, said}, nil
		}
		answer.Body.Close()
		reads := r.method == http.MethodGet || r.method == http.MethodHead
		if !reads && answer.StatusCode != http.StatusTemporaryRedirect && answer.StatusCode != http.StatusPermanentRedirect {
			return nil, oci.Errorf(oci.CodeUnsupported, "%s answers %s to what was sent, which is not followed", target.Host, answer.Status)
		}
		if hops == mostRedirects {
			return nil, oci.Errorf(oci.CodeUnsupported, "%s points from one place to the next without end", c.registry)
		}
		if target, err = Elsewhere(target, answer.Header.Get("Location")); err != nil {
			return nil, err
		}
	}
}

// sendTo sends a request to one address. Credentials are for the registry's own
// origin alone.
func (c *Client) sendTo(ctx context.Context, r request, target *url.URL, scope string) (*http.Response, error) {
	ctx, dog := watch(ctx, c.options.Idle)
	var body io.Reader
	if r.body != nil {
		if body = r.body(); body != http.NoBody {
			body = &outgoing{body, dog}
		}
	}
	call, err := http.NewRequestWithContext(ctx, r.method, target.String(), body)
	if err != nil {
		dog.end()
		return nil, err
	}
	if r.header != nil {
		call.Header = r.header.Clone()
	}
	call.Header.Set("User-Agent", c.options.UserAgent)
	if r.body != nil {
		call.ContentLength = r.length
	}
	if header := c.auth.header(scope); header != "" && SameOrigin(target, c.base) {
		call.Header.Set("Authorization", header)
	}
	answer, err := c.http.Do(call)
	if err != nil {
		err = c.failed(ctx, target.Host, err)
		dog.end()
		return nil, err
	}
	c.reached.Store(true)
	dog.moved(c.options.Idle)
	answer.Body = &incoming{answer.Body, ctx, dog}
	return answer, nil
}

// temporary is an error that may pass.
type temporary struct {
	error
	// after is how long the registry asks to wait; zero where it does not say.
	after time.Duration
}

func (t temporary) Unwrap() error { return t.error }

// failed says why a request under a watchdog failed.
func (c *Client) failed(ctx context.Context, host string, err error) error {
	if context.Cause(ctx) == errStalled {
		return temporary{error: fmt.Errorf("%s: %w (%s)", host, errStalled, c.options.Idle)}
	}
	return c.unreachable(err)
}

// unreachable says in words why no answer came.
func (c *Client) unreachable(err error) error {
	if errors.Is(err, context.Canceled) {
		return context.Canceled
	}
	var dns *net.DNSError
	sentence := fmt.Errorf("%s does not answer: %w", c.registry, errors.Unwrap(err))
	switch {
	case errors.As(err, &dns):
		return fmt.Errorf("the name %s cannot be resolved; is the registry's address right?", dns.Name)
	case strings.Contains(err.Error(), "server gave HTTP response to HTTPS client"):
		return fmt.Errorf("%s speaks plain HTTP; if that is meant, say --unencrypted", c.registry)
	case isDistrust(err):
		return fmt.Errorf("%s is not trusted: %w", c.registry, errors.Unwrap(err))
	}
	if errors.Is(err, syscall.ECONNREFUSED) && !c.reached.Load() {
		return sentence
	}
	return temporary{error: sentence}
}

// isDistrust reports whether a certificate was refused.
func isDistrust(err error) bool {
	var verification *tls.CertificateVerificationError
	var unknown x509.UnknownAuthorityError
	var name x509.HostnameError
	var invalid x509.CertificateInvalidError
	return errors.As(err, &verification) || errors.As(err, &unknown) || errors.As(err, &name) || errors.As(err, &invalid)
}

// errorLimit is how much of an error's body is read, in bytes.
const errorLimit = 64 << 10

func (c *Client) refusal(answer *reply) error {
	var body struct {
		Errors []struct {
			Code    oci.Code
			Message string
		}
	}
	raw, _ := io.ReadAll(io.LimitReader(answer.Body, errorLimit))
	err := oci.Errorf(codeOf(answer.Response), "%s answers %s", c.registry, answer.Status)
	if json.Unmarshal(raw, &body) == nil && len(body.Errors) > 0 {
		said := body.Errors[0]
		err = oci.Errorf(said.Code, "%s refuses: %s", c.registry, inOneLine(firstOf(said.Message, string(said.Code))))
	}
	switch {
	case answer.away:
		err = oci.Errorf(err.Code, "%s, to which %s points, answers %s", answer.Request.URL.Host, c.registry, answer.Status)
	case answer.StatusCode == http.StatusUnauthorized:
		err = c.loginMissing(err)
	}
	if answer.StatusCode == http.StatusTooManyRequests || answer.StatusCode >= 500 && answer.StatusCode != http.StatusInsufficientStorage {
		return temporary{err, retryAfter(answer.Response)}
	}
	return err
}

// inOneLine leaves what a registry says one line, which passes for none of ours.
func inOneLine(said string) string { return strings.Join(strings.Fields(said), " ") }

// loginMissing says why a registry wants a login that it was not given, or was.
func (c *Client) loginMissing(said *oci.Error) *oci.Error {
	c.auth.mu.Lock()
	defer c.auth.mu.Unlock()
	if c.auth.found.Empty() {
		return oci.Errorf(oci.CodeUnauthorized, "not logged in to %s; log in with: warthesis login %s", c.registry, c.registry)
	}
	return oci.Errorf(oci.CodeUnauthorized, "%s does not take the login of %s (%s): %s", c.registry, c.auth.found.Account, c.auth.found.From, sentenceOf(said))
}

func firstOf(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

// codeOf gives a code to an answer that does not say one.
func codeOf(answer *http.Response) oci.Code {
	switch answer.StatusCode {
	case http.StatusNotFound:
		return oci.CodeManifestUnknown
	case http.StatusForbidden:
		return oci.CodeDenied
	case http.StatusRequestedRangeNotSatisfiable:
		return oci.CodeRangeInvalid
	case http.StatusTooManyRequests:
		return oci.CodeTooManyRequests
	}
	return oci.CodeUnsupported
}

// retryAfter reads how long the registry asks to wait: seconds, or a date
// (RFC 9110, section 10.2.3).
func retryAfter(answer *http.Response) time.Duration {
	header := answer.Header.Get("Retry-After")
	wait, err := time.ParseDuration(header + "s")
	if err != nil {
		at, err := http.ParseTime(header)
		if err != nil {
			return 0
		}
		wait = time.Until(at)
	}
	return max(0, wait)
}

// try repeats what fails for a passing reason, with growing pauses. Patience counts
// from the first failure, and begins anew whenever a try has brought it on: moved,
// where given, says how far it came.
func try[T any](ctx context.Context, c *Client, moved func() int64, once func() (T, error)) (T, error) {
	pauses := backoff.NewExponentialBackOff()
	var since time.Time
	reached := int64(0)
	for {
		v, err := once()
		var passing temporary
		if err == nil || !errors.As(err, &passing) {
			return v, err
		}
		if moved != nil && moved() > reached {
			reached, since = moved(), time.Time{}
			pauses.Reset()
		}
		if since.IsZero() {
			since = time.Now()
		}
		pause := max(pauses.NextBackOff(), passing.after)
		if time.Since(since)+pause > c.options.Patience {
			return v, passing.error
		}
		timer := time.NewTimer(pause)
		select {
		case <-timer.C:
		case <-ctx.Done():
			timer.Stop()
			return v, ctx.Err()
		}
	}
}

// Check asks whether the registry speaks the protocol and takes the login
// (distribution-spec, "Determining Support").
func (c *Client) Check(ctx context.Context) error {
	_, err := try(ctx, c, nil, func() (struct{}, error) {
		answer, err := c.do(ctx, request{method: http.MethodGet, path: "/"}, http.StatusOK)
		if err == nil {
			answer.Body.Close()
		}
		return struct{}{}, err
	})
	return err
}

// CheckLogin is Check for a login that is to be kept: it reports whether the registry
// asked for one, so that it was checked.
func (c *Client) CheckLogin(ctx context.Context) (checked bool, err error) {
	if err := c.Check(ctx); err != nil {
		return false, err
	}
	c.auth.mu.Lock()
	defer c.auth.mu.Unlock()
	return c.auth.basic || len(c.auth.tokens) > 0, nil
}

// Resolve returns what a tag or digest names: its media type, digest and size. A
// registry that leaves the digest out of its answer, or answers HEAD otherwise
// than GET, is asked for the whole.
func (c *Client) Resolve(ctx context.Context, name oci.Name, target string) (oci.Descriptor, error) {
	return try(ctx, c, nil, func() (oci.Descriptor, error) {
		answer, err := c.do(ctx, c.manifest(http.MethodHead, name, target), http.StatusOK)
		var passing temporary
		if errors.As(err, &passing) || ctx.Err() != nil {
			return oci.Descriptor{}, err
		}
		if err == nil {
			answer.Body.Close()
			digest, fits := answer.names(target)
			if fits && answer.ContentLength >= 0 {
				return oci.Descriptor{MediaType: mediaTypeOf(answer), Digest: digest, Size: answer.ContentLength}, nil
			}
		}
		d, _, err := c.getManifest(ctx, name, target)
		return d, err
	})
}

// names returns the digest that an answer is about: the one that was asked for, or
// for a tag the one that the registry itself says. It reports whether there is one,
// and the answer says no other.
func (r *reply) names(target string) (oci.Digest, bool) {
	said, err := oci.ParseDigest(r.digest)
	wanted, byDigest := oci.ParseDigest(target)
	if byDigest == nil {
		return wanted, r.digest == "" || said == wanted
	}
	return said, err == nil
}

// mediaTypeOf returns the media type of an answer, without parameters.
func mediaTypeOf(r *reply) string {
	header := r.Header.Get("Content-Type")
	if mediaType, _, err := mime.ParseMediaType(header); err == nil {
		return mediaType
	}
	return header
}

// Manifest returns a manifest by tag or digest, byte for byte. Asked by digest,
// the bytes are checked against it.
func (c *Client) Manifest(ctx context.Context, name oci.Name, target string) (oci.Descriptor, []byte, error) {
	type found struct {
		oci.Descriptor
		raw []byte
	}
	f, err := try(ctx, c, nil, func() (found, error) {
		d, raw, err := c.getManifest(ctx, name, target)
		return found{d, raw}, err
	})
	return f.Descriptor, f.raw, err
}

// manifestLimit is the largest manifest in bytes that is taken.
const manifestLimit = oci.MostManifestLimit

// listLimit is the longest page of a list in bytes that is read.
const listLimit = 16 << 20

func (c *Client) manifest(method string, name oci.Name, target string) request {
	return request{
		method: method, path: string(name) + "/manifests/" + target,
		header: http.Header{"Accept": {strings.Join(oci.ManifestMediaTypes, ", ")}},
	}
}

func (c *Client) getManifest(ctx context.Context, name oci.Name, target string) (oci.Descriptor, []byte, error) {
	answer, err := c.do(ctx, c.manifest(http.MethodGet, name, target), http.StatusOK)
	if err != nil {
		return oci.Descriptor{}, nil, missing(err, name, target)
	}
	defer answer.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(answer.Body, manifestLimit+1))
	if err != nil {
		return oci.Descriptor{}, nil, temporary{error: fmt.Errorf("the answer of %s broke off: %w", c.registry, err)}
	}
	if len(raw) > manifestLimit {
		return oci.Descriptor{}, nil, oci.Errorf(oci.CodeManifestTooLarge, "the manifest at %s is larger than %d MiB", c.registry, manifestLimit>>20)
	}
	d := oci.Descriptor{MediaType: mediaTypeOf(answer), Size: int64(len(raw))}
	var fits bool
	switch d.Digest, fits = answer.names(target); {
	case fits:
	case answer.digest != "":
		return d, nil, oci.Errorf(oci.CodeDigestInvalid, "%s was asked for %s and says that its answer is %s", c.registry, target, answer.digest)
	case answer.away:
		return d, nil, oci.Errorf(oci.CodeDigestInvalid, "%s sends the manifest of %s from %s and does not say its digest: nobody could tell whether it is that", c.registry, target, answer.Request.URL.Host)
	default:
		d.Digest = oci.DigestOf(oci.SHA256, raw)
	}
	if oci.DigestOf(d.Digest.Algorithm(), raw) != d.Digest {
		return d, nil, oci.Errorf(oci.CodeDigestInvalid, "what %s sent for %s is something else: its bytes were changed on the way or at the registry", c.registry, d.Digest)
	}
	return d, raw, nil
}

// missing says in a sentence that a manifest is not there: an answer to HEAD has none.
func missing(err error, name oci.Name, target string) error {
	if errors.Is(err, oci.CodeManifestUnknown) {
		return oci.Errorf(oci.CodeManifestUnknown, "there is no %s in %s; list its tags with warthesis list", target, name)
	}
	return err
}

// PushManifest sends a manifest under its digest or, where there are any, under
// the tags.
func (c *Client) PushManifest(ctx context.Context, name oci.Name, d oci.Descriptor, raw []byte, tags []oci.Tag) error {
	if len(tags) == 0 || d.Digest.Algorithm() != oci.SHA256 {
		return c.putManifest(ctx, name, d.Digest.String(), d, raw, tags)
	}
	for _, tag := range tags {
		if err := c.putManifest(ctx, name, string(tag), d, raw, nil); err != nil {
			return err
		}
	}
	return nil
}

// putManifest sends a manifest. Sent to a tag, the registry gives it a digest of
// its own choice; one with another digest goes to that, with its tags as
// parameters (distribution-spec, "Pushing Manifests with Tags").
func (c *Client) putManifest(ctx context.Context, name oci.Name, target string, d oci.Descriptor, raw []byte, tags []oci.Tag) error {
	query := url.Values{}
	for _, tag := range tags {
		query.Add("tag", string(tag))
	}
	_, err := try(ctx, c, nil, func() (struct{}, error) {
		answer, err := c.do(ctx, request{
			method: http.MethodPut, path: string(name) + "/manifests/" + target, query: query,
			header: http.Header{"Content-Type": {d.MediaType}},
			body:   func() io.Reader { return bytes.NewReader(raw) }, length: int64(len(raw)),
		}, http.StatusCreated)
		if err != nil {
			return struct{}{}, err
		}
		answer.Body.Close()
		if said := answer.Header.Get("Docker-Content-Digest"); said != "" && said != d.Digest.String() {
			return struct{}{}, oci.Errorf(oci.CodeDigestInvalid, "%s stored %s as %s: it does not keep bytes as they came", c.registry, d.Digest, said)
		}
		set := strings.Join(answer.Header.Values("OCI-Tag"), ",")
		for _, tag := range tags {
			if !slices.Contains(strings.FieldsFunc(set, func(r rune) bool { return r == ',' || r == ' ' }), string(tag)) {
				return struct{}{}, oci.Errorf(oci.CodeUnsupported, "%s stored %s and did not set the tag %s: it cannot tag a manifest whose digest is not sha256", c.registry, d.Digest, tag)
			}
		}
		return struct{}{}, nil
	})
	return err
}

// TryUpload begins an upload and cancels it: it fails where the caller may not push.
func (c *Client) TryUpload(ctx context.Context, name oci.Name) error {
	answer, err := c.do(ctx, request{method: http.MethodPost, path: string(name) + "/blobs/uploads/"}, http.StatusAccepted)
	if err != nil {
		return err
	}
	answer.Body.Close()
	at, err := c.location(answer)
	if err != nil {
		return err
	}
	// A registry that cannot cancel lets the upload end by itself.
	cancelled, err := c.do(ctx, request{method: http.MethodDelete, at: at}, http.StatusNoContent, http.StatusAccepted, http.StatusOK, http.StatusMethodNotAllowed, http.StatusNotFound)
	if err != nil {
		return err
	}
	return cancelled.Body.Close()
}

// Tags returns a page of the tags of a repository behind one, and the last of the
// page where more follow (distribution-spec, "Listing Tags").
func (c *Client) Tags(ctx context.Context, name oci.Name, after string) (tags []string, next string, err error) {
	var list struct{ Tags []string }
	next, err = c.page(ctx, string(name)+"/tags/list", after, &list)
	return list.Tags, next, err
}

// Repositories returns a page of the repositories behind one, and where more begin. It
// fails with oci.CodeUnsupported where the registry has no catalogue.
func (c *Client) Repositories(ctx context.Context, after string) (names []string, next string, err error) {
	var list struct{ Repositories []string }
	next, err = c.page(ctx, "_catalog", after, &list)
	if errors.Is(err, oci.CodeManifestUnknown) {
		err = oci.Errorf(oci.CodeUnsupported, "%s has no list of its repositories; name one to list its tags", c.registry)
	}
	return list.Repositories, next, err
}

// namesAtOnce is how many names one page is asked for.
const namesAtOnce = "1000"

// page reads one page of a list of names, and from its Link where the next begins.
func (c *Client) page(ctx context.Context, path, after string, into any) (next string, err error) {
	return try(ctx, c, nil, func() (string, error) {
		query := url.Values{"n": {namesAtOnce}}
		if after != "" {
			query.Set("last", after)
		}
		answer, err := c.do(ctx, request{method: http.MethodGet, path: path, query: query}, http.StatusOK)
		if err != nil {
			return "", err
		}
		defer answer.Body.Close()
		if err := json.NewDecoder(io.LimitReader(answer.Body, listLimit)).Decode(into); err != nil {
			return "", oci.Errorf(oci.CodeUnsupported, "the list of %s cannot be read: %v", c.registry, err)
		}
		link, _, found := strings.Cut(strings.TrimPrefix(strings.TrimSpace(answer.Header.Get("Link")), "<"), ">")
		at, err := url.Parse(link)
		if !found || err != nil {
			return "", nil
		}
		return at.Query().Get("last"), nil
	})
}

// fewTags is how many tags are a sample.
const fewTags = "3"

// SomeTags returns the first few tags of a repository.
func (c *Client) SomeTags(ctx context.Context, name oci.Name) ([]string, error) {
	answer, err := c.do(ctx, request{method: http.MethodGet, path: string(name) + "/tags/list", query: url.Values{"n": {fewTags}}}, http.StatusOK)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	var list struct{ Tags []string }
	err = json.NewDecoder(io.LimitReader(answer.Body, listLimit)).Decode(&list)
	return list.Tags, err
}
