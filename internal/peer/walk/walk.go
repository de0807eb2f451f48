// Package walk goes the way to a registry step by step, as a pull or a push would, and
// stops at the first step that fails, with what to do.
package walk

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"warthesis/internal/oci"
	"warthesis/internal/peer"
)

// Step is what one step found.
type Step struct {
	Step string `json:"step"`
	Well bool   `json:"well"`
	Says string `json:"says"`
}

// Way is how a registry is reached.
type Way struct {
	// Registry is its address, host or host:port, and Base that with its scheme.
	Registry string
	Base     *url.URL
	// Transport sends requests. What it says of a connection that cannot be believed has the
	// code oci.CodeDistrusted.
	Transport http.RoundTripper
	// Dial, where set, makes the connections.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
	// Proxy is that through which the registry is reached, nil for none.
	Proxy *url.URL
	// Plainly says why plain HTTP is spoken, where it is; Unchecked that its certificate is
	// not checked.
	Plainly   string
	Unchecked string
	// Client talks to it.
	Client *peer.Client
}

// Walk is a walk along steps.
type Walk struct {
	way   Way
	steps []Step
	told  func(Step)
	// failed is the name of the step that failed, "" for none.
	failed string
	// Err is what that step failed with.
	Err error
}

// Begin begins a walk. told, where given, hears of each step as it is done.
func Begin(way Way, told func(Step)) *Walk { return &Walk{way: way, told: told} }

// Steps returns what was found, and the name of the step that failed, "" for none.
func (w *Walk) Steps() (steps []Step, failed string) { return w.steps, w.failed }

// Step goes one step, unless one before it failed: what was found, or why not and what to
// do.
func (w *Walk) Step(name string, look func() (found string, err error)) {
	if w.failed != "" {
		return
	}
	found, err := look()
	if err != nil {
		found, w.failed, w.Err = err.Error(), name, err
	}
	step := Step{name, err == nil, strings.NewReplacer("\r", " ", "\n", " ").Replace(found)}
	w.steps = append(w.steps, step)
	if w.told != nil {
		w.told(step)
	}
}

// ToAPI goes as far as the registry's API: name, port, TLS, API.
func (w *Walk) ToAPI(ctx context.Context) {
	w.Step("name", func() (string, error) { return w.way.LookName(ctx) })
	w.Step("port", func() (string, error) { return w.way.lookPort(ctx) })
	w.Step("TLS", func() (string, error) { return w.way.lookTLS(ctx) })
	w.Step("API", func() (string, error) { return w.way.lookAPI(ctx) })
}

// Read looks whether a tag or a digest, or with "" the tags, of a repository may be read.
func (w *Walk) Read(ctx context.Context, name oci.Name, target string) {
	w.Step("read", func() (string, error) { return lookRead(ctx, w.way.Client, name, target) })
}

// ReadOrMake is Read of a repository that a push may make.
func (w *Walk) ReadOrMake(ctx context.Context, name oci.Name) {
	w.Step("read", func() (string, error) {
		found, err := lookRead(ctx, w.way.Client, name, "")
		if errors.Is(err, oci.CodeNameUnknown) {
			return fmt.Sprintf("%s is not there, or not for you to know of; a push may make it", name), nil
		}
		return found, err
	})
}

// Push looks whether a repository may be pushed to, and leaves nothing behind.
func (w *Walk) Push(ctx context.Context, name oci.Name) {
	w.Step("push", func() (string, error) {
		if err := w.way.Client.TryUpload(ctx, name); err != nil {
			return "", err
		}
		return fmt.Sprintf("%s may be pushed to (an upload was begun and cancelled)", name), nil
	})
}

// LookName looks up a registry's name.
func (w Way) LookName(ctx context.Context) (string, error) {
	host := HostOf(w.Registry)
	if ip := net.ParseIP(host); ip != nil {
		return host + " is an address; there is no name to look up", nil
	}
	if w.Proxy != nil {
		return fmt.Sprintf("%s is looked up by the proxy %s", host, w.Proxy.Host), nil
	}
	found, err := net.DefaultResolver.LookupHost(ctx, host)
	if err != nil {
		return "", fmt.Errorf("%s cannot be looked up: %w. Is it written right? Does this machine ask the right name server?", host, err)
	}
	return fmt.Sprintf("%s is %s", host, strings.Join(found, ", ")), nil
}

// patience is how long a connection may take to come about.
const patience = 10 * time.Second

func (w Way) lookPort(ctx context.Context) (string, error) {
	at, through := WithPort(w.Registry, PortOf(w.Base.Scheme)), ""
	if w.Proxy != nil {
		// Nothing but the proxy can be reached from here, as far as anybody knows.
		at, through = WithPort(w.Proxy.Host, PortOf(w.Proxy.Scheme)), "the proxy of the environment, "
	}
	dial := w.Dial
	if dial == nil {
		dial = (&net.Dialer{Timeout: patience}).DialContext
	}
	conn, err := dial(ctx, "tcp", at)
	var known *oci.Error
	switch {
	case errors.As(err, &known):
		return "", known
	case err != nil && w.Proxy != nil:
		return "", fmt.Errorf("%s%s, does not answer: %w. Are HTTPS_PROXY, HTTP_PROXY and NO_PROXY right?", through, at, err)
	case err != nil:
		return "", fmt.Errorf("nothing answers at %s: %w. Does the service run, is the port right (a registry's address has it), does a firewall stand between?", at, err)
	case w.Proxy != nil:
		return through + at + ", answers", conn.Close()
	}
	return "something answers at " + at, conn.Close()
}

// ask sends a request on the way to the registry, and returns the answer's head.
func (w Way) ask(ctx context.Context, path string) (*http.Response, error) {
	call, err := http.NewRequestWithContext(ctx, http.MethodGet, w.Base.JoinPath(path).String(), nil)
	if err != nil {
		return nil, err
	}
	client := http.Client{Transport: w.Transport, Timeout: 3 * patience, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	answer, err := client.Do(call)
	if err != nil {
		var of *url.Error
		if errors.As(err, &of) {
			err = of.Err
		}
		return nil, err
	}
	return answer, answer.Body.Close()
}

func (w Way) lookTLS(ctx context.Context) (string, error) {
	answer, err := w.ask(ctx, "v2/")
	if errors.Is(err, oci.CodeDistrusted) {
		return "", err
	}
	if w.Base.Scheme != "https" {
		return "plain HTTP is spoken to this registry: " + w.Plainly, nil
	}
	if err != nil {
		return "", fmt.Errorf("no TLS connection comes about: %w", err)
	}
	state := answer.TLS
	leaf := state.PeerCertificates[0]
	said := fmt.Sprintf("%s, certificate for %s, signed by %s, good until %s", tls.VersionName(state.Version),
		strings.Join(Certified(leaf), ", "), leaf.Issuer.CommonName, leaf.NotAfter.Format(time.DateOnly))
	if w.Unchecked != "" {
		said += " (" + w.Unchecked + ")"
	}
	return said, nil
}

func (w Way) lookAPI(ctx context.Context) (string, error) {
	answer, err := w.ask(ctx, "v2/")
	if err != nil {
		return "", fmt.Errorf("no answer comes: %w", err)
	}
	if answer.StatusCode != http.StatusOK && answer.StatusCode != http.StatusUnauthorized {
		return "", fmt.Errorf("it answers %s at /v2/, and so is no registry; is the address right, and the port?", answer.Status)
	}
	skew := ""
	if at, err := http.ParseTime(answer.Header.Get("Date")); err == nil {
		if off := time.Since(at).Round(time.Second); off.Abs() > time.Minute {
			skew = fmt.Sprintf("; its clock and this one differ by %s", off.Abs())
		}
	}
	return "it is a registry" + skew, nil
}

func lookRead(ctx context.Context, client *peer.Client, name oci.Name, target string) (string, error) {
	if target != "" {
		d, err := client.Resolve(ctx, name, target)
		if err != nil {
			return "", err
		}
		return fmt.Sprintf("%s of %s is there: %s", target, name, d.Digest), nil
	}
	tags, err := client.SomeTags(ctx, name)
	if err != nil {
		return "", err
	}
	some := "none so far"
	if len(tags) > 0 {
		some = "such as " + strings.Join(tags, ", ")
	}
	return fmt.Sprintf("%s may be read; it has tags, %s", name, some), nil
}
