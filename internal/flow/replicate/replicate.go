// Package replicate copies images to peers and from them, as rules say.
//
// It works by state, not by replay: something becomes due in the change that brings it about,
// and is compared with the other side when its turn comes. So many moves of a tag are one
// copy, everything may happen twice, and two registries that copy to each other come to rest.
// Blobs travel before the manifests that name them, and the manifest that a tag names last:
// nothing shows before it is whole. A tag is moved only where it still is what was compared.
package replicate

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"warthesis/internal/clock"
	"warthesis/internal/flow"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/peers"
	"warthesis/internal/record/replication"
	"warthesis/internal/registry"
	"warthesis/internal/rule"
	"warthesis/internal/work"
)

const (
	// lookEvery is how often it is looked for what is due, lookSoon how long after something
	// happened.
	lookEvery = 250 * time.Millisecond
	lookSoon  = 20 * time.Millisecond
	// tagsAtOnce is how many tags of one peer travel at the same time, blobsAtOnce how many
	// blobs of one image.
	tagsAtOnce  = 8
	blobsAtOnce = 4
	// The pauses before what failed is tried again: a peer, and a single thing.
	firstPause = 2 * time.Second
	mostPause  = 5 * time.Minute
	itemPause  = 10 * time.Second
	mostWait   = time.Hour
	// conflictsEvery is how often conflicts are looked at again, in served time.
	conflictsEvery = 10 * time.Minute
)

// Replicator copies by rules. It is safe for concurrent use.
type Replicator struct {
	registry *registry.Registry
	records  *record.Store
	peers    *flow.Peers
	clock    clock.Clock
	known    *known
	swings   swings

	ctx   context.Context
	end   context.CancelFunc
	ended sync.WaitGroup
	// wake lets it be looked for what is due at once.
	wake chan struct{}

	mu sync.Mutex
	// rules are those that there are, by number, busy the peers that are being sent to, and
	// outages those that do not answer.
	rules   map[int64]*active
	busy    map[int64]context.CancelFunc
	outages map[int64]*outage
	// turn says which rule of a peer is next.
	turn map[int64]int
}

// active is a rule that is in force.
type active struct {
	row  replication.Rule
	rule rule.Replication
	when work.Schedule
	peer peers.Peer
	// limit bounds the bytes a second, nil for no bound.
	limit *rate.Limiter
	meter *meter
}

// isOf reports whether a rule says, and is of a peer, as it was read.
func (a *active) isOf(row replication.Rule, p peers.Peer) bool {
	return a.row.Version == row.Version && a.peer.ID == p.ID && a.peer.Version == p.Version
}

// outage is a peer that does not answer.
type outage struct {
	version int64
	// until is served time.
	until time.Duration
	tries int
	says  string
}

// New returns a replicator, which begins to work at Start.
func New(reg *registry.Registry, records *record.Store, p *flow.Peers, clk clock.Clock) (*Replicator, error) {
	r := &Replicator{
		registry: reg, records: records, peers: p, clock: clk, known: newKnown(), wake: make(chan struct{}, 1),
		rules: map[int64]*active{}, busy: map[int64]context.CancelFunc{}, outages: map[int64]*outage{}, turn: map[int64]int{},
	}
	r.ctx, r.end = context.WithCancel(context.Background())
	return r, r.Reload(r.ctx)
}

// Start begins to work off what is due.
func (r *Replicator) Start() {
	// That something happened is heard of at once; what is lost of it is found at the next look.
	events, deaf := r.records.Listen()
	r.ended.Go(func() {
		defer deaf()
		tick := time.NewTicker(lookEvery)
		defer tick.Stop()
		for {
			if err := r.look(); err != nil && r.ctx.Err() == nil {
				slog.Error("replication: what is due could not be read", "error", err)
			}
			var soon <-chan time.Time
			for looks := false; !looks; {
				select {
				case e, open := <-events:
					if !open {
						events = nil
					}
					// What happens together is looked at together.
					if travels[e.Kind] && soon == nil {
						soon = time.After(lookSoon)
					}
				case <-soon:
					looks = true
				case <-tick.C:
					looks = true
				case <-r.wake:
					looks = true
				case <-r.ctx.Done():
					return
				}
			}
		}
	})
}

// travels are the kinds of events that make something due.
var travels = map[record.EventKind]bool{
	record.EventTagMoved: true, record.EventTagAdded: true, record.EventTagMovedByHand: true, record.EventManifestPushed: true, record.EventTagDeleted: true,
	record.EventReplicationRun: true, record.EventReplicationMade: true,
}

// Close cuts what travels and waits for it. What was due stays due.
func (r *Replicator) Close() {
	r.end()
	r.ended.Wait()
}

// ReadWhen reads when a rule runs.
func ReadWhen(text string) (work.Schedule, error) {
	if text == rule.AsPushed || text == rule.ByHand {
		return work.Schedule{}, nil
	}
	when, err := work.ParseSchedule(text)
	if err != nil {
		return when, fmt.Errorf("when: %w; or write pushed, or by hand", err)
	}
	return when, nil
}

// Reload reads the rules and their peers anew.
func (r *Replicator) Reload(ctx context.Context) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	rows, err := r.records.View(ctx).Replication().All()
	if err != nil {
		return err
	}
	next := map[int64]*active{}
	for _, row := range rows {
		p, err := r.records.View(ctx).Peers().ByID(row.PeerID)
		if err != nil {
			return fmt.Errorf("the peer of the replication rule %s: %w", row.Name, err)
		}
		if was := r.rules[row.ID]; was != nil && was.isOf(row, p) {
			// Those who work by it read the old one: it is not changed.
			is := *was
			is.row, is.peer = row, p
			next[row.ID] = &is
			continue
		}
		said, err := rule.ReadReplication(row.Spec)
		if err != nil {
			return fmt.Errorf("the replication rule %s: %w", row.Name, err)
		}
		when, err := ReadWhen(said.When)
		if err != nil {
			return fmt.Errorf("the replication rule %s: %w", row.Name, err)
		}
		a := &active{row: row, rule: said, when: when, peer: p, meter: &meter{}}
		if was := r.rules[row.ID]; was != nil {
			a.meter = was.meter
		}
		if bytes := said.BytesASecond(); bytes > 0 {
			a.limit = rate.NewLimiter(rate.Limit(bytes), pieceOf(bytes))
		}
		next[row.ID] = a
	}
	// Whoever copies by what a rule said before begins anew by what it says now.
	for id, was := range r.rules {
		if is := next[id]; is == nil || !was.isOf(is.row, is.peer) || is.row.Paused && !was.row.Paused {
			if stop := r.busy[was.peer.ID]; stop != nil {
				stop()
			}
		}
	}
	r.rules = next
	r.nudge()
	return nil
}

func (r *Replicator) nudge() {
	select {
	case r.wake <- struct{}{}:
	default:
	}
}

// Retry lets a rule act at once: nobody waits for a pause any more.
func (r *Replicator) Retry(rule int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if a := r.rules[rule]; a != nil {
		delete(r.outages, a.peer.ID)
	}
	r.nudge()
}

// look releases what is to run now, and begins to work for peers for which something is due.
func (r *Replicator) look() error {
	served := int64(r.clock.Served())
	for _, a := range r.inForce() {
		if a.row.Paused {
			continue
		}
		if err := r.schedule(a); err != nil {
			return err
		}
		if !r.mayBegin(a) {
			continue
		}
		due, err := r.records.View(r.ctx).Replication().Next(a.row.ID, 0, served, 1)
		if err != nil {
			return err
		}
		if len(due) > 0 {
			r.begin(a.peer)
		}
	}
	return nil
}

// schedule releases what is due by a rule that runs at times.
func (r *Replicator) schedule(a *active) error {
	if a.when.Never() || !a.when.Due(a.row.RanAt.Time(), r.clock.Now(), time.Duration(a.row.RanServed), r.clock.Served(), a.row.RanAt != 0) {
		return nil
	}
	err := r.records.Update(r.ctx, "replication", func(tx *record.Tx) error { return release(tx, a.row) })
	if err == nil {
		err = r.Reload(r.ctx)
	}
	return err
}

// release lets a rule act on all that is due. What a peer has is not known here: rules that
// bring look at all of it.
func release(tx *record.Tx, row replication.Rule) error {
	if row.Inward {
		return RunAll(tx, row)
	}
	return tx.Replication().Release(row.ID, tx.Now(), tx.Served())
}

// RunAll marks all that a rule means as due, and lets it act.
func RunAll(tx *record.Tx, row replication.Rule) error {
	if err := tx.Replication().Mark(replication.Due{RuleID: row.ID, Released: true, MarkedAt: tx.Now(), MarkedServed: tx.Served()}); err != nil {
		return err
	}
	return tx.Replication().Release(row.ID, tx.Now(), tx.Served())
}

// mayBegin reports whether nobody works for the peer of a rule, it is not left alone after a
// failure, and the rule's hours are open.
func (r *Replicator) mayBegin(a *active) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.busy[a.peer.ID] == nil && a.rule.Open(r.clock.Now()) && !r.isOut(a.peer)
}

// isOut reports whether a peer is left alone after a failure. The mutex is held.
func (r *Replicator) isOut(p peers.Peer) bool {
	o := r.outages[p.ID]
	return o != nil && o.version == p.Version && o.until > r.clock.Served()
}

// begin works for a peer until nothing is due, or it fails.
func (r *Replicator) begin(p peers.Peer) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.busy[p.ID] != nil || r.ctx.Err() != nil {
		return
	}
	ctx, stop := context.WithCancel(r.ctx)
	r.busy[p.ID] = stop
	r.ended.Go(func() {
		err := r.workFor(ctx, p)
		cut := ctx.Err() != nil
		stop()
		r.mu.Lock()
		defer r.mu.Unlock()
		delete(r.busy, p.ID)
		if !cut {
			r.judge(p, err)
		}
	})
}

// inForce returns the rules, in the order in which they were made.
func (r *Replicator) inForce() []*active {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.SortedFunc(maps.Values(r.rules), func(a, b *active) int { return cmp.Compare(a.row.ID, b.row.ID) })
}

// rulesOf returns the rules that act on a peer now.
func (r *Replicator) rulesOf(p peers.Peer) (all []*active) {
	for _, a := range r.inForce() {
		if a.peer.ID == p.ID && !a.row.Paused && a.rule.Open(r.clock.Now()) {
			all = append(all, a)
		}
	}
	return all
}

// nameIn is how messages call a tag or a digest of a repository.
func nameIn(repository oci.Name, d replication.Due) string {
	switch {
	case d.Tag != "":
		return string(repository) + ":" + string(d.Tag)
	case d.Digest != "":
		return string(repository) + "@" + d.Digest.String()
	}
	return string(repository)
}
