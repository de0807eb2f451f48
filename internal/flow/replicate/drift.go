package replicate

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/replication"
	"warthesis/internal/rule"
	"warthesis/internal/work"
)

// DriftKind is the kind of the run that compares both sides of a rule.
const DriftKind = "drift"

// DriftOptions are how a comparison is asked for.
type DriftOptions struct {
	Rule int64 `json:"rule"`
	// Right tells that what is found is put right.
	Right bool `json:"right,omitempty"`
}

// String writes the options as a run keeps them.
func (o DriftOptions) String() string {
	raw, _ := json.Marshal(o)
	return string(raw)
}

// DriftFacts are the figures of a comparison.
type DriftFacts struct {
	Compared  int64 `json:"compared"`
	Missing   int64 `json:"missing"`
	Different int64 `json:"different"`
	Extra     int64 `json:"extra"`
}

// samplesEvery is how often it is noted how rules fare, keepSamples for how long that is kept.
const (
	samplesEvery = time.Minute
	keepSamples  = 14 * 24 * time.Hour
)

// Kinds are the work beside requests: comparisons that somebody asks for, and samples for
// charts.
func (r *Replicator) Kinds() []work.Kind {
	return []work.Kind{
		{Name: DriftKind, About: "Compares both sides of a replication rule, tag by tag, by digest", Do: r.drift},
		{Name: "flow-samples", About: "Notes how replication rules fare, for charts", When: work.Every(samplesEvery), Light: true, Do: func(ctx context.Context, _ *work.Going) error { return r.sample(ctx) }},
	}
}

func (r *Replicator) rule(id int64) *active {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.rules[id]
}

func (r *Replicator) drift(ctx context.Context, g *work.Going) error {
	var o DriftOptions
	if err := json.Unmarshal([]byte(g.Options()), &o); err != nil {
		return fmt.Errorf("the options of the run: %w", err)
	}
	a := r.rule(o.Rule)
	if a == nil {
		return oci.Errorf(oci.CodeQueryInvalid, "the replication rule is not there any more")
	}
	client, err := r.peers.Client(a.peer)
	if err != nil {
		return err
	}
	err = r.records.Update(ctx, "drift", func(tx *record.Tx) error { return tx.Replication().DropDrift(a.row.ID) })
	if err != nil {
		return err
	}
	g.Step("comparing", "tags", 0)
	var f DriftFacts
	c := r.comparison(a, client)
	c.extras = true
	c.done = func(tags int) error {
		// It waits for the peer for most of the time, and takes next to nothing from requests.
		g.Did(int64(tags))
		return ctx.Err()
	}
	c.visit = func(some []compared) error {
		room := max(0, replication.MostDrift-int(f.Missing+f.Different+f.Extra))
		found := drifted(a, some, &f)
		if err := r.records.Update(ctx, "drift", func(tx *record.Tx) error {
			if err := tx.Replication().AddDrift(found[:min(len(found), room)]); err != nil || !o.Right {
				return err
			}
			return putRight(tx, a, some)
		}); err != nil {
			return err
		}
		return ctx.Err()
	}
	if err := c.all(ctx); err != nil {
		return err
	}
	words := fmt.Sprintf("compared %d tags: %d missing, %d different, %d extra", f.Compared, f.Missing, f.Different, f.Extra)
	if o.Right && f.Missing+f.Different+f.Extra > 0 {
		words += "; what can be put right is due now"
	}
	raw, err := json.Marshal(f)
	g.SetFacts(string(raw))
	g.Report(words)
	return err
}

// drifted returns the tags about which both sides differ, and counts them.
func drifted(a *active, some []compared, f *DriftFacts) (all []replication.Drift) {
	for _, one := range some {
		if one.facts.source == "" && one.facts.target == "" {
			continue
		}
		f.Compared++
		d := replication.Drift{RuleID: a.row.ID, Repository: one.name, Tag: one.tag, Target: one.target(), Here: one.facts.source, There: one.facts.target}
		if a.row.Inward {
			d.Here, d.There = d.There, d.Here
		}
		switch {
		case one.facts.source == one.facts.target:
			continue
		case one.facts.target == "":
			d.Kind = replication.Missing
			f.Missing++
		case one.facts.source == "":
			d.Kind = replication.Extra
			f.Extra++
		default:
			d.Kind = replication.Different
			f.Different++
		}
		all = append(all, d)
	}
	return all
}

// putRight marks what differs as due: what is missing or different at the target is made as it
// is at the source, whoever moved it; what is extra goes only where the rule removes, put it
// there itself, and nobody moved it since.
func putRight(tx *record.Tx, a *active, some []compared) error {
	for _, one := range some {
		due := replication.Due{RuleID: a.row.ID, Repository: one.name, Tag: one.tag, Released: true, MarkedAt: tx.Now(), MarkedServed: tx.Served()}
		switch {
		case one.facts.source == one.facts.target:
			continue
		case one.facts.source != "":
			due.Forced = replication.Overwrites
		case a.rule.Removals != rule.TakeRemoved || !one.replica.Put || one.replica.Digest != one.facts.target:
			continue
		}
		if err := tx.Replication().Mark(due); err != nil {
			return err
		}
	}
	return nil
}

// sample notes how rules fare.
func (r *Replicator) sample(ctx context.Context) error {
	var samples []replication.Sample
	now := record.StampOf(r.clock.Now())
	for _, a := range r.inForce() {
		sums, err := r.records.View(ctx).Replication().Of(a.row.ID)
		if err != nil {
			return err
		}
		s := replication.Sample{RuleID: a.row.ID, At: now, Lag: int64(r.lag(sums)), Due: sums.Due}
		s.Bytes, s.Images = a.meter.sample()
		samples = append(samples, s)
	}
	return r.records.Update(ctx, "flow-samples", func(tx *record.Tx) error {
		return errors.Join(tx.Replication().AddSamples(samples, record.StampOf(r.clock.Now().Add(-keepSamples))), tx.Replication().DropRemoved(tx.Served()-int64(removalsOver)))
	})
}
