package peer

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"syscall"
	"time"

	"warthesis/internal/oci"
)

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
	var said *oci.Error
	if errors.As(err, &said) {
		// It was said here, before anything was asked.
		return said
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
	if answer.StatusCode == http.StatusTooManyRequests || answer.StatusCode >= 500 && answer.StatusCode != http.StatusInsufficientStorage && answer.StatusCode != http.StatusLoopDetected {
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
		remedy := c.options.LogIn
		if remedy == "" {
			remedy = "log in with: warthesis login " + c.registry
		}
		return oci.Errorf(oci.CodeUnauthorized, "not logged in to %s; %s", c.registry, remedy)
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
	case http.StatusPreconditionFailed:
		return oci.CodeTagMoved
	case http.StatusRequestedRangeNotSatisfiable:
		return oci.CodeRangeInvalid
	case http.StatusTooManyRequests:
		return oci.CodeTooManyRequests
	case http.StatusLoopDetected:
		return oci.CodeLoop
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
