// Package issuers asks the issuers of identities, the company's login among them, where
// they do what, and remembers it (OpenID Connect Discovery 1.0).
package issuers

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"regexp"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/sync/singleflight"

	"warthesis/internal/access/crowd"
	"warthesis/internal/oci"
)

// Asking bounds who waits for the answer of an issuer.
func Asking() *crowd.Crowd {
	return crowd.NewCrowd(64, 8, "too many logins wait for the issuer's answer; try again in some seconds")
}

// ErrIssuer: an issuer of identities, the company's login perhaps, does not answer.
var ErrIssuer = errors.New("the issuer cannot be reached")

// issuerRest is how long an issuer that did not answer is not asked again.
const issuerRest = 15 * time.Second

// Issuers keeps what issuers say about themselves. It is safe for concurrent use.
type Issuers struct {
	// Asking bounds who waits for answers.
	Asking *crowd.Crowd
	// outgoing returns a context by which issuers are asked.
	outgoing func(context.Context) context.Context
	flight   singleflight.Group

	mu    sync.Mutex
	known map[string]*oidc.Provider
	// silent is when those that did not answer were asked.
	silent map[string]time.Time
}

// New returns issuers that are asked by a context of the caller's (oauth2.HTTPClient).
func New(outgoing func(context.Context) context.Context) *Issuers {
	return &Issuers{Asking: Asking(), outgoing: outgoing, known: map[string]*oidc.Provider{}, silent: map[string]time.Time{}}
}

// status begins the error of an answer that is no success.
var status = regexp.MustCompile(`^[1-5][0-9][0-9] `)

// mostSaid is how much of what an issuer answered is repeated, in bytes.
const mostSaid = 200

// Check fails where an address is none of an issuer that answers as one now
// (OpenID Connect Discovery 1.0, section 4). Whoever names it is told what is wrong.
func (i *Issuers) Check(ctx context.Context, issuer string) error {
	u, err := url.Parse(issuer)
	if err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" || u.User != nil || u.RawQuery != "" || u.Fragment != "" {
		return oci.Errorf(oci.CodeQueryInvalid, "the issuer is %q: write its address, as in https://builds.larkspur.example", issuer)
	}
	if _, err := oidc.NewProvider(i.outgoing(ctx), issuer); err != nil {
		// Of a refusal the status is told, and nothing of what stood in it: the address may
		// be that of anything.
		said, _, _ := strings.Cut(strings.Join(strings.Fields(err.Error()), " "), ": {")
		if status.MatchString(said) {
			said, _, _ = strings.Cut(said, ": ")
		}
		var denied *oci.Error
		if errors.As(err, &denied) {
			// Where this registry does not connect to, and what whoever runs it can do.
			return oci.Errorf(denied.Code, "the issuer %s can't be reached: %s", issuer, denied.Message)
		}
		return fmt.Errorf("%w: %s does not answer as an issuer of identities, so that nobody could log in by it, and the rule is not made: %s", ErrIssuer, issuer, oci.Cut(said, mostSaid))
	}
	return nil
}

// Provider returns an issuer, which is asked once for where it does what: once for
// all who wait for it, and not again for a while where it does not answer.
// what names it in the log.
func (i *Issuers) Provider(ctx context.Context, issuer, what string) (*oidc.Provider, error) {
	i.mu.Lock()
	known, asked := i.known[issuer], i.silent[issuer]
	i.mu.Unlock()
	if known != nil {
		return known, nil
	}
	silent := fmt.Errorf("%w: %s does not answer as an issuer", ErrIssuer, issuer)
	if time.Since(asked) < issuerRest {
		return nil, silent
	}
	done := i.flight.DoChan(issuer, func() (any, error) {
		// The keys are fetched later by the same context: it must not end with a request.
		found, err := oidc.NewProvider(i.outgoing(context.Background()), issuer)
		i.mu.Lock()
		defer i.mu.Unlock()
		if err != nil {
			slog.Error(what+" does not answer", "issuer", issuer, "error", err)
			i.silent[issuer] = time.Now()
			return nil, silent
		}
		delete(i.silent, issuer)
		i.known[issuer] = found
		return found, nil
	})
	select {
	case r := <-done:
		if r.Err != nil {
			return nil, r.Err
		}
		return r.Val.(*oidc.Provider), nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}
