package follow

import (
	"context"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/follows"
	"warthesis/internal/work"
)

// servedFigure tells what followed namespaces served, from here and from their peers.
var servedFigure = prometheus.NewDesc("warthesis_follow_bytes_total", "Bytes of blobs that followed namespaces served since the service started, from here or while they came from a peer.", []string{"namespace", "from"}, nil)

// Describe tells of the figures.
func (f *Follower) Describe(to chan<- *prometheus.Desc) { to <- servedFigure }

// Collect gathers the figures.
func (f *Follower) Collect(to chan<- prometheus.Metric) {
	f.tally.mu.Lock()
	defer f.tally.mu.Unlock()
	for id, s := range f.tally.all {
		n, there := f.records.Rights().NamespaceByID(id)
		if !there {
			continue
		}
		for from, bytes := range map[string]int64{"here": s.HereBytes, "peer": s.ThereBytes} {
			to <- prometheus.MustNewConstMetric(servedFigure, prometheus.CounterValue, float64(bytes), n.Name, from)
		}
	}
}

// tally counts what followed namespaces serve, until it is written. It is safe for concurrent
// use.
type tally struct {
	mu sync.Mutex
	// of is what is not written yet, all what was counted since the service started.
	of, all map[int64]follows.Share
}

// Count counts an answer of a followed namespace, with its bytes, that came from here or from
// a peer.
func (f *Follower) Count(name oci.Name, fromPeer bool, bytes int64) {
	n, there := f.records.Rights().Namespace(name.Namespace())
	if !there {
		return
	}
	f.tally.mu.Lock()
	defer f.tally.mu.Unlock()
	for _, of := range []*map[int64]follows.Share{&f.tally.of, &f.tally.all} {
		if *of == nil {
			*of = map[int64]follows.Share{}
		}
		s := (*of)[n.ID]
		if fromPeer {
			s.There, s.ThereBytes = s.There+1, s.ThereBytes+bytes
		} else {
			s.Here, s.HereBytes = s.Here+1, s.HereBytes+bytes
		}
		(*of)[n.ID] = s
	}
}

// flush writes what was counted, by the day it is by the clock on the wall.
func (f *Follower) flush(ctx context.Context, _ *work.Going) error {
	f.tally.mu.Lock()
	of := f.tally.of
	f.tally.of = nil
	f.tally.mu.Unlock()
	if len(of) == 0 {
		return nil
	}
	day := f.clock.Now().UTC().Truncate(24 * time.Hour)
	err := f.records.Update(ctx, "follow-served", func(tx *record.Tx) error {
		for namespace, s := range of {
			s.NamespaceID, s.Day = namespace, record.StampOf(day)
			if err := tx.Follows().AddShare(s, record.StampOf(day.Add(-keepShares))); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		f.tally.mu.Lock()
		defer f.tally.mu.Unlock()
		for namespace, s := range f.tally.of {
			was := of[namespace]
			of[namespace] = follows.Share{Here: was.Here + s.Here, HereBytes: was.HereBytes + s.HereBytes, There: was.There + s.There, ThereBytes: was.ThereBytes + s.ThereBytes}
		}
		f.tally.of = of
	}
	return err
}

// keepShares is for how long it is kept what came from where.
const keepShares = 90 * 24 * time.Hour
