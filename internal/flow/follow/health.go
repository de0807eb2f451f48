package follow

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"warthesis/internal/clock"
	"warthesis/internal/oci"
	"warthesis/internal/peer"
	"warthesis/internal/record/bans"
	"warthesis/internal/record/peers"
	"warthesis/internal/record/quota"
)

// health remembers which peers do not answer, so that nobody waits for them each time.
type health struct {
	clock clock.Clock
	mu    sync.Mutex
	down  map[int64]*outage
}

// outage is a peer that did not answer.
type outage struct {
	version, until int64
	tries          int
}

// The pauses before a peer that did not answer is asked again.
const (
	firstPause = 5 * time.Second
	mostPause  = 2 * time.Minute
)

// unavailable is that a peer does not answer. Readers are not told where it stands: why is in
// the log.
func unavailable(p peers.Peer) error {
	return oci.Errorf(oci.CodeUnavailable, "the peer %s does not answer; whoever runs this registry finds the reason in its log", p.Name)
}

// ready fails where a peer did not answer a moment ago.
func (h *health) ready(p peers.Peer) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	o := h.down[p.ID]
	if o == nil || o.version != p.Version || o.until <= int64(h.clock.Served()) {
		return nil
	}
	return unavailable(p)
}

// judge notes how a peer answered, and returns the error as it is to be told: what the peer
// said about what was asked is one thing, that it does not answer another.
func (h *health) judge(p peers.Peer, err error) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if err == nil || isAnswer(err) {
		delete(h.down, p.ID)
		return err
	}
	if errors.Is(err, context.Canceled) {
		return err
	}
	if h.down == nil {
		h.down = map[int64]*outage{}
	}
	o := h.down[p.ID]
	if o == nil || o.version != p.Version {
		o = &outage{version: p.Version}
		h.down[p.ID] = o
	}
	pause := min(firstPause<<o.tries, mostPause)
	o.tries = min(o.tries+1, 10)
	var spent peer.Spent
	if errors.As(err, &spent) {
		pause = max(pause, min(spent.After, time.Hour))
	}
	o.until = int64(h.clock.Served() + pause)
	slog.Warn("a peer does not answer", "peer", p.Name, "error", err, "asked_again_in", pause)
	return unavailable(p)
}

// isAnswer reports whether an error is an answer of the peer to what was asked.
func isAnswer(err error) bool {
	var spent peer.Spent
	var said *oci.Error
	return !errors.As(err, &spent) && errors.As(err, &said) && said.Code != oci.CodeDistrusted
}

// isAbsence reports whether a peer has not what was asked, or does not let us know.
func isAbsence(err error) bool {
	for _, code := range []oci.Code{oci.CodeManifestUnknown, oci.CodeNameUnknown, oci.CodeBlobUnknown, oci.CodeLoop, oci.CodeUnauthorized, oci.CodeDenied} {
		if errors.Is(err, code) {
			return true
		}
	}
	return false
}

// ask asks peers in order, each within a span, and returns the first answer. It fails with
// errNowhere where all of them said that they have it not; else with what the first said that
// did not answer.
func ask[T any](ctx context.Context, f *Follower, among []candidate, within time.Duration, question func(context.Context, *peer.Client, candidate) (T, error)) (from candidate, found T, err error) {
	var failed error
	for _, c := range among {
		// What others left of the time must be worth asking: else a peer counts as dead that is
		// not.
		if until, bound := ctx.Deadline(); bound && time.Until(until) < within/2 {
			failed = errors.Join(failed, unavailable(c.Peer))
			break
		}
		if err := f.health.ready(c.Peer); err != nil {
			failed = errors.Join(failed, err)
			continue
		}
		client, err := f.peers.Once(c.Peer)
		if err == nil {
			asking, end := context.WithTimeout(ctx, within)
			found, err = question(asking, client, c)
			if errors.Is(asking.Err(), context.DeadlineExceeded) && !errors.Is(ctx.Err(), context.Canceled) {
				err = fmt.Errorf("no answer within %s: %w", within, context.DeadlineExceeded)
			}
			end()
			err = f.health.judge(c.Peer, err)
		}
		switch {
		case err == nil:
			return c, found, nil
		case !isAbsence(err):
			if !errors.Is(err, oci.CodeUnavailable) {
				slog.Warn("a peer answers what cannot be used", "peer", c.Name, "repository", c.there, "error", err)
			}
			failed = errors.Join(failed, err)
		}
	}
	if failed != nil {
		return from, found, first(failed)
	}
	return from, found, errNowhere
}

// first is the first of joined errors.
func first(err error) error {
	var joined interface{ Unwrap() []error }
	if errors.As(err, &joined) && len(joined.Unwrap()) > 0 {
		return first(joined.Unwrap()[0])
	}
	return err
}

// told is an error as whoever asked is told: what a peer said or sent, and where it stands, is
// for the log.
func told(err error) error {
	for _, code := range []oci.Code{oci.CodeUnavailable, oci.CodeTooManyRequests, oci.CodeStorageFull, oci.CodeBlobTooLarge, oci.CodeManifestTooLarge} {
		if errors.Is(err, code) {
			return err
		}
	}
	var full *quota.Exceeded
	var banned bans.Refusal
	if errors.As(err, &banned) {
		return withoutReason(err)
	}
	if err == nil || errors.As(err, &full) || errors.Is(err, context.Canceled) {
		return err
	}
	return oci.Errorf(oci.CodeUnavailable, "what a peer has of it cannot be taken; whoever runs this registry finds the reason in its log")
}

// withoutReason is an error as readers are told: why something is kept out is for those who
// keep it out.
func withoutReason(err error) error {
	var banned bans.Refusal
	if errors.As(err, &banned) {
		return oci.Errorf(oci.CodeDenied, "%s was erased here and is kept out; whoever looks after the namespace can have the ban lifted", banned.Digest)
	}
	return err
}
