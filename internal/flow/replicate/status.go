package replicate

import (
	"context"
	"slices"
	"time"

	"warthesis/internal/record/replication"
	"warthesis/internal/rule"
)

// Status is how it stands with a rule.
type Status struct {
	replication.Sums
	// Lag is the age of the oldest thing due, in served time.
	Lag time.Duration
	// Going is what travels now, Rate how many bytes a second.
	Going []Going
	Rate  int64
	// Left is how many bytes are left, at most; In is how long that takes at the rate, 0
	// where that is not known.
	Left int64
	In   time.Duration
	// Says is why the peer is left alone now, "" where it is not; AgainIn until when.
	Says    string
	AgainIn time.Duration
	// Closed tells that the rule's hours are not now.
	Closed bool
	// NextIn is when a rule that runs at times does again, below zero for never.
	NextIn time.Duration
}

// Status returns how it stands with a rule.
func (r *Replicator) Status(ctx context.Context, row replication.Rule) (s Status, err error) {
	if s.Sums, err = r.records.View(ctx).Replication().Of(row.ID); err != nil {
		return s, err
	}
	s.Lag, s.NextIn = r.lag(s.Sums), -1
	a := r.rule(row.ID)
	if a == nil {
		return s, nil
	}
	s.Going, s.Rate = a.meter.look()
	slices.SortFunc(s.Going, func(x, y Going) int { return x.Began.Compare(y.Began) })
	s.Left = s.Bytes
	for _, g := range s.Going {
		s.Left -= g.Moved
	}
	if s.Left = max(0, s.Left); s.Rate > 0 {
		s.In = time.Duration(s.Left / s.Rate * int64(time.Second))
	}
	s.Closed = !a.rule.Open(r.clock.Now())
	if !a.when.Never() {
		s.NextIn = a.when.In(a.row.RanAt.Time(), r.clock.Now(), time.Duration(a.row.RanServed), r.clock.Served())
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if o := r.outages[a.peer.ID]; o != nil && o.version == a.peer.Version && s.Due+s.Places > 0 {
		s.Says, s.AgainIn = o.says, max(0, o.until-r.clock.Served())
	}
	return s, nil
}

// lag is the age of the oldest thing due.
func (r *Replicator) lag(s replication.Sums) time.Duration {
	if s.Oldest == 0 {
		return 0
	}
	return max(0, r.clock.Served()-time.Duration(s.Oldest))
}

// Facing returns the name of a rule that stands against another one: both would overwrite what
// the other brings, without end. It is "" where there is none.
func Facing(all []replication.Rule, of replication.Rule) (string, error) {
	is, err := rule.ReadReplication(of.Spec)
	if err != nil {
		return "", err
	}
	source, _ := wins(is)
	for _, other := range all {
		if other.ID == of.ID || other.PeerID != of.PeerID || other.Inward == of.Inward || !source {
			continue
		}
		said, err := rule.ReadReplication(other.Spec)
		if err != nil {
			return "", err
		}
		if wins, _ := wins(said); wins && said.Overlaps(is) {
			return other.Name, nil
		}
	}
	return "", nil
}
