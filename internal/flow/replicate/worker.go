package replicate

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"strings"
	"sync"
	"time"

	"warthesis/internal/oci"
	"warthesis/internal/peer"
	"warthesis/internal/record"
	"warthesis/internal/record/peers"
	"warthesis/internal/record/replication"
)

// pageOfDue is how much of what is due by one rule is read at a time.
const pageOfDue = 100

// worker works for one peer: its rules take turns, and some tags travel at the same time.
type worker struct {
	r      *Replicator
	is     peers.Peer
	client *peer.Client
	stop   context.CancelCauseFunc
	slots  chan struct{}
	going  sync.WaitGroup

	// queues are what was read of what is due, by rule, after how far.
	queues map[int64][]replication.Due
	after  map[int64]int64
	// begun are the marks that were taken up: no mark is taken up twice in one go.
	begun map[int64]int64

	mu sync.Mutex
	// flying are the marks that are being followed: one that is made again meanwhile waits.
	flying map[int64]bool
}

// fly notes that a mark is being followed, and reports false where it is already.
func (w *worker) fly(id int64) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.flying[id] {
		return false
	}
	w.flying[id] = true
	return true
}

func (w *worker) land(id int64) {
	w.mu.Lock()
	defer w.mu.Unlock()
	delete(w.flying, id)
}

// workFor works off what is due with a peer, and returns why it ended before.
func (r *Replicator) workFor(ctx context.Context, p peers.Peer) error {
	client, err := r.peers.Client(p)
	if err != nil {
		return err
	}
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	w := &worker{
		r: r, is: p, client: client, stop: stop, slots: make(chan struct{}, tagsAtOnce),
		queues: map[int64][]replication.Due{}, after: map[int64]int64{}, begun: map[int64]int64{}, flying: map[int64]bool{},
	}
	err = w.run(ctx)
	w.going.Wait()
	if cause := context.Cause(ctx); cause != nil && !errors.Is(cause, context.Canceled) {
		return cause
	}
	return err
}

func (w *worker) run(ctx context.Context) error {
	for ctx.Err() == nil {
		a, due, err := w.next(ctx)
		if err != nil || a == nil {
			return err
		}
		if due.Tag == "" && due.Digest == "" {
			// A whole place is taken apart while nothing else of the peer begins.
			w.settle(ctx, a, due, w.r.takeApart(ctx, a, w.client, due))
			w.land(due.ID)
			delete(w.queues, a.row.ID)
			w.after[a.row.ID] = 0
			continue
		}
		select {
		case w.slots <- struct{}{}:
		case <-ctx.Done():
			return nil
		}
		w.going.Go(func() {
			defer func() { w.land(due.ID); <-w.slots }()
			w.settle(ctx, a, due, w.r.one(ctx, a, w.client, due))
		})
	}
	return nil
}

// next returns what is due next: the rules take turns.
func (w *worker) next(ctx context.Context) (*active, replication.Due, error) {
	all := w.r.rulesOf(w.is)
	for range all {
		w.r.mu.Lock()
		w.r.turn[w.is.ID]++
		a := all[w.r.turn[w.is.ID]%len(all)]
		w.r.mu.Unlock()
		due, found, err := w.of(ctx, a)
		if err != nil || found {
			return a, due, err
		}
	}
	return nil, replication.Due{}, nil
}

// of returns what is due next by a rule, and was not taken up yet as it is.
func (w *worker) of(ctx context.Context, a *active) (due replication.Due, found bool, err error) {
	for {
		for len(w.queues[a.row.ID]) > 0 {
			due = w.queues[a.row.ID][0]
			w.queues[a.row.ID] = w.queues[a.row.ID][1:]
			if w.begun[due.ID] < due.Number && w.fly(due.ID) {
				w.begun[due.ID] = due.Number
				return due, true, nil
			}
		}
		page, err := w.r.records.View(ctx).Replication().Next(a.row.ID, w.after[a.row.ID], int64(w.r.clock.Served()), pageOfDue)
		if err != nil || len(page) == 0 {
			// From the beginning the next time: marks may have been made again.
			w.after[a.row.ID] = 0
			return due, false, err
		}
		w.queues[a.row.ID], w.after[a.row.ID] = page, page[len(page)-1].ID
	}
}

// mostError is how much of what went wrong is kept, in bytes.
const mostError = 1000

// outcome is what came of something that was due.
type outcome struct {
	// note writes what was learned, in the change that takes the mark away; nil for nothing.
	note func(*record.Tx) error
	// put, where it is set, leaves the mark as it says.
	put *replication.Due
	err error
}

// settle writes what came of something that was due.
func (w *worker) settle(ctx context.Context, a *active, due replication.Due, o outcome) {
	if ctx.Err() != nil && o.err != nil {
		return
	}
	if o.err != nil && w.isOfPeer(ctx, o.err) {
		// Nothing waits behind a peer that does not answer, and nothing that waits for it is to
		// blame.
		w.stop(o.err)
		return
	}
	if o.err != nil {
		slog.Warn("replication: something did not travel", "rule", a.row.Name, "what", nameIn(due.Repository, due), "error", o.err)
		due.Tries++
		// What a peer says is as long as it likes.
		due.Error = oci.Cut(strings.ToValidUTF8(o.err.Error(), "?"), mostError)
		pause := min(itemPause<<min(due.Tries-1, 12), mostWait)
		if errors.Is(o.err, oci.CodeTagMoved) && due.Tries < 5 {
			// It was moved between the look and the copy: it is looked at once more.
			pause = firstPause
		}
		due.NotBefore = int64(w.r.clock.Served() + pause + rand.N(pause/4))
		o.put = &due
	}
	err := w.r.records.Update(context.WithoutCancel(ctx), "replicated", func(tx *record.Tx) error {
		if o.note != nil {
			if err := o.note(tx); err != nil {
				return err
			}
		}
		if o.put != nil {
			return tx.Replication().Put(*o.put)
		}
		return tx.Replication().Done(due)
	})
	if err != nil {
		slog.Error("replication: what came of a copy could not be recorded; it is compared again", "rule", a.row.Name, "what", nameIn(due.Repository, due), "error", err)
		w.stop(fmt.Errorf("what came of a copy could not be recorded: %w", err))
	}
}

// isOfPeer reports whether an error says that the peer cannot be used at all now. One that
// wants a login for a place may lack a right there alone: then it takes the login elsewhere.
func (w *worker) isOfPeer(ctx context.Context, err error) bool {
	var spent peer.Spent
	var said *oci.Error
	if errors.As(err, &spent) || !errors.As(err, &said) {
		return true
	}
	return said.Code == oci.CodeDistrusted || said.Code == oci.CodeUnauthorized && w.client.Check(ctx) != nil
}

// judge notes how work for a peer ended. The mutex is held.
func (r *Replicator) judge(p peers.Peer, err error) {
	if err == nil || errors.Is(err, context.Canceled) {
		if err == nil {
			delete(r.outages, p.ID)
		}
		return
	}
	o := r.outages[p.ID]
	if o == nil || o.version != p.Version {
		o = &outage{version: p.Version}
		r.outages[p.ID] = o
	}
	pause := min(firstPause<<min(o.tries, 10), mostPause)
	pause += rand.N(pause / 4)
	o.tries++
	var spent peer.Spent
	if errors.As(err, &spent) {
		pause = max(pause, min(spent.After, time.Hour))
	}
	o.until, o.says = r.clock.Served()+pause, err.Error()
	slog.Warn("replication: a peer does not answer as it should", "peer", p.Name, "error", err, "asked_again_in", pause)
}
