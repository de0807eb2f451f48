// Package mend brings good copies of content that is hurt here from peers that have it.
//
// It asks only where the content is meant to be: what a namespace follows, and what rules copy
// to and from. What comes is checked against its digest, and changes who holds it for nobody.
package mend

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"time"

	"warthesis/internal/clock"
	"warthesis/internal/flow"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/hurts"
	"warthesis/internal/registry"
	"warthesis/internal/work"
)

const (
	// every is how often it is looked for what is hurt, again when what no peer had is asked
	// for once more, in served time.
	every = 20 * time.Second
	again = time.Hour
	// mostHurts are looked at in one go, mostPlaces asked for each.
	mostHurts  = 200
	mostPlaces = 50
)

// Places tells where peers have what a repository here has.
type Places func(context.Context, oci.Name) ([]flow.Place, error)

// Mender mends. Its kind of work is done by one run at a time.
type Mender struct {
	registry *registry.Registry
	records  *record.Store
	peers    *flow.Peers
	clock    clock.Clock
	places   []Places
	// later is until when what no peer had is left alone.
	later map[oci.Digest]time.Duration
}

// New returns a mender that asks where places tell, in order.
func New(reg *registry.Registry, records *record.Store, p *flow.Peers, clk clock.Clock, places ...Places) *Mender {
	return &Mender{registry: reg, records: records, peers: p, clock: clk, places: places, later: map[oci.Digest]time.Duration{}}
}

// Kind is the work beside requests.
func (m *Mender) Kind() work.Kind {
	return work.Kind{Name: "mend-hurt", About: "Brings good copies of content that is hurt from peers that have it", When: work.Every(every), Light: true, Do: m.mend}
}

func (m *Mender) mend(ctx context.Context, g *work.Going) error {
	all, err := m.records.View(ctx).Hurts().List(false, 0, mostHurts)
	if err != nil {
		return err
	}
	for _, h := range all {
		if m.later[h.Digest] > m.clock.Served() {
			continue
		}
		if err := errors.Join(g.Breathe(), ctx.Err()); err != nil {
			return err
		}
		mended, err := m.one(ctx, h)
		if err != nil {
			return err
		}
		if !mended {
			m.later[h.Digest] = m.clock.Served() + again
		}
	}
	return nil
}

// one mends one hurt, and reports whether a peer had a good copy.
func (m *Mender) one(ctx context.Context, h hurts.Hurt) (bool, error) {
	holders, err := m.records.View(ctx).Hurts().Holders(h.Digest, mostPlaces)
	if err != nil {
		return false, err
	}
	asked := map[string]bool{}
	for _, holder := range holders {
		for _, places := range m.places {
			all, err := places(ctx, holder.Repository)
			if err != nil {
				return false, err
			}
			for _, at := range all {
				key := fmt.Sprint(at.Peer.ID, " ", at.Name)
				if asked[key] || len(asked) == mostPlaces {
					continue
				}
				asked[key] = true
				if err := m.from(ctx, at, holder, h); err != nil {
					slog.Info("a peer has no good copy of what is hurt here", "digest", h.Digest, "peer", at.Peer.Name, "repository", at.Name, "error", err)
					continue
				}
				slog.Info("content that was hurt is mended", "digest", h.Digest, "peer", at.Peer.Name, "repository", at.Name)
				return true, nil
			}
		}
	}
	return false, ctx.Err()
}

// from brings a good copy from a place.
func (m *Mender) from(ctx context.Context, at flow.Place, holder hurts.Holder, h hurts.Hurt) error {
	client, err := m.peers.Once(at.Peer)
	if err != nil {
		return err
	}
	if holder.Manifest {
		_, raw, err := client.Manifest(ctx, at.Name, h.Digest.String())
		if err != nil {
			return err
		}
		return m.registry.Mend(ctx, h.Digest, h.Size, bytes.NewReader(raw))
	}
	body, _, err := client.OpenBlob(ctx, at.Name, oci.Descriptor{Digest: h.Digest, Size: h.Size}, 0)
	if err != nil {
		return err
	}
	defer body.Close()
	return m.registry.Mend(ctx, h.Digest, h.Size, io.Reader(body))
}
