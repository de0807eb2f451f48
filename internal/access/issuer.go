package access

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/sync/singleflight"

	"warthesis/internal/access/crowd"
)

// AskingIssuers bounds who waits for the answer of an issuer.
func AskingIssuers() *crowd.Crowd {
	return crowd.NewCrowd(64, 8, "too many logins wait for the issuer's answer; try again in some seconds")
}

// ErrIssuer: an issuer of identities, the company's login perhaps, does not answer.
var ErrIssuer = errors.New("the issuer cannot be reached")

// issuerRest is how long an issuer that did not answer is not asked again.
const issuerRest = 15 * time.Second

// issuers keeps what issuers say about themselves. It is safe for concurrent use.
type issuers struct {
	asking *crowd.Crowd
	flight singleflight.Group

	mu    sync.Mutex
	known map[string]*oidc.Provider
	// silent is when those that did not answer were asked.
	silent map[string]time.Time
}

func newIssuers() *issuers {
	return &issuers{asking: AskingIssuers(), known: map[string]*oidc.Provider{}, silent: map[string]time.Time{}}
}

// Provider returns an issuer, which is asked once for where it does what: once for
// all who wait for it, and not again for a while where it does not answer.
func (a *Access) Provider(ctx context.Context, issuer string) (*oidc.Provider, error) {
	i := a.issuers
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
		found, err := oidc.NewProvider(a.outgoing(context.Background()), issuer)
		i.mu.Lock()
		defer i.mu.Unlock()
		if err != nil {
			slog.Error("an issuer of identities does not answer", "issuer", issuer, "error", err)
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
