package peer

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"warthesis/internal/oci"
)

// origin is from where an answer comes: scheme, host and port.
func origin(u *url.URL) string {
	port := u.Port()
	if port == "" {
		port = map[string]string{"https": "443", "http": "80"}[u.Scheme]
	}
	return u.Scheme + "://" + strings.ToLower(u.Hostname()) + ":" + port
}

// SameOrigin reports whether two addresses have one scheme, host and port.
func SameOrigin(a, b *url.URL) bool { return origin(a) == origin(b) }

// mostRedirects is how often an answer may point elsewhere.
const mostRedirects = 10

// Elsewhere reads where an answer points to, as seen from the address that gave it.
// There is one way to follow an answer: only by http and https, never from https to
// http, and without credentials that stand in the address.
func Elsewhere(from *url.URL, location string) (*url.URL, error) {
	at, err := from.Parse(location)
	switch {
	case err != nil || location == "" || at.Host == "":
		return nil, oci.Errorf(oci.CodeUnsupported, "%s points elsewhere and does not say where", from.Host)
	case at.Scheme != "https" && at.Scheme != "http":
		return nil, oci.Errorf(oci.CodeUnsupported, "%s points to %s, which is no web address", from.Host, at.Scheme+":")
	case from.Scheme == "https" && at.Scheme == "http":
		return nil, oci.Errorf(oci.CodeUnsupported, "%s points to %s without encryption; that is not followed", from.Host, at.Host)
	}
	at.User = nil
	return at, nil
}

// isRedirect reports whether an answer points elsewhere (RFC 9110, section 15.4).
func isRedirect(status int) bool {
	switch status {
	case http.StatusMovedPermanently, http.StatusFound, http.StatusSeeOther, http.StatusTemporaryRedirect, http.StatusPermanentRedirect:
		return true
	}
	return false
}

// reply is an answer, with where it came from in the end.
type reply struct {
	*http.Response
	// away tells that it came from another origin than the registry's.
	away bool
	// digest is what the registry itself said of the content, "" for nothing.
	digest string
}

// errStalled: no byte moved for too long.
var errStalled = errors.New("no byte moved for too long")

// watchdog ends a request in which nothing moves: while it is sent, while its answer
// is waited for, and while that comes.
type watchdog struct {
	cancel context.CancelCauseFunc
	idle   time.Duration

	mu    sync.Mutex
	timer *time.Timer
}

func watch(ctx context.Context, idle time.Duration) (context.Context, *watchdog) {
	ctx, cancel := context.WithCancelCause(ctx)
	w := &watchdog{cancel: cancel, idle: idle}
	w.timer = time.AfterFunc(idle, func() { cancel(errStalled) })
	return ctx, w
}

// moved gives the request another span.
func (w *watchdog) moved(span time.Duration) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.timer.Stop() {
		w.timer.Reset(span)
	}
}

func (w *watchdog) end() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.timer.Stop()
	w.cancel(nil)
}

// outgoing is a request's body that tells the watchdog of its progress; once all is
// sent the registry may take its time to answer.
type outgoing struct {
	io.Reader
	watchdog *watchdog
}

func (o *outgoing) Read(p []byte) (int, error) {
	n, err := o.Reader.Read(p)
	if err != nil {
		o.watchdog.moved(answerWithin)
	} else {
		o.watchdog.moved(o.watchdog.idle)
	}
	return n, err
}

// answerWithin is how long a registry may take to answer what it has whole: it may
// have to write a large blob out.
const answerWithin = 5 * time.Minute

// incoming is an answer's body that must not stall.
type incoming struct {
	io.ReadCloser
	ctx      context.Context
	watchdog *watchdog
}

func (i *incoming) Read(p []byte) (int, error) {
	n, err := i.ReadCloser.Read(p)
	i.watchdog.moved(i.watchdog.idle)
	if err != nil && err != io.EOF && context.Cause(i.ctx) == errStalled {
		err = fmt.Errorf("%w (%s)", errStalled, i.watchdog.idle)
	}
	return n, err
}

func (i *incoming) Close() error {
	err := i.ReadCloser.Close()
	i.watchdog.end()
	return err
}
