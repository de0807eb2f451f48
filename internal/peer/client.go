// Package peer is the client side of the distribution protocol: it talks to any
// registry that keeps to the standard, of whatever make. What comes is checked
// against its digest; what an interrupted transfer has brought is not sent again.
package peer

import (
	"context"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync/atomic"
	"time"

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
	// LogIn is what to do where the registry wants a login that it was not given; "" is what
	// somebody at a terminal does.
	LogIn string
	// Base, where set, is the registry's address with its scheme.
	Base string
	// Transport, where set, is used in place of NewTransport's.
	Transport http.RoundTripper
	// ManifestBytes is the largest manifest that is read; zero is 64 MiB.
	ManifestBytes int64
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
	if o.ManifestBytes == 0 {
		o.ManifestBytes = manifestLimit
	}
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
	for _, via := range viaOf(ctx) {
		call.Header.Add("Via", via)
	}
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
