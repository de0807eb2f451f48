package serve

import (
	"context"
	"slices"
	"time"

	"warthesis/internal/clock"
	"warthesis/internal/flow/mend"
	"warthesis/internal/record"
	"warthesis/internal/work"
)

// chores are the kinds of work of the rooms that know nothing of work. What is
// gathered is written once more when those rooms are closed.
func chores(h *Home, clk clock.Clock) []work.Kind {
	r, a := h.Registry, h.Access
	light := func(name, about string, every time.Duration, do func(context.Context, *work.Going) error) work.Kind {
		return work.Kind{Name: name, About: about, When: work.Every(every), Light: true, Do: do}
	}
	ask := func(ctx context.Context, wish work.Wish) error {
		_, _, err := h.Work.Ask(ctx, wish)
		return err
	}
	return append(slices.Concat(h.Sweeper.Kinds(), h.Replicator.Kinds(), h.Follower.Kinds(), h.Bringer.Kinds(ask), []work.Kind{mend.New(r, h.Records, h.Peers, clk, h.Follower.Places, h.Replicator.Places).Kind()}),
		light("pull-counts", "Writes how often images were pulled", 3*time.Second, func(context.Context, *work.Going) error { return r.FlushPulls() }),
		light("touches", "Writes what was said to be there, so that sweeps leave it", 3*time.Second, func(context.Context, *work.Going) error { return r.FlushTouches() }),
		light("refusals", "Writes refusals into the audit log, and when roles and tokens were used", 2*time.Second, func(context.Context, *work.Going) error { return a.Flush() }),
		light("served-time", "Writes how long the registry has served", time.Minute, func(context.Context, *work.Going) error { return r.KeepServed() }),
		light("generation", "Notes how new the records and the blobs are, so that restored records are recognised", time.Hour, func(ctx context.Context, _ *work.Going) error { return r.RaiseGeneration(ctx) }),
		light("records-damage", "Says in the audit log when records are found to be damaged", 10*time.Second, func(ctx context.Context, g *work.Going) error {
			return h.Records.TellDamage(ctx, func(int) error { return g.Breathe() })
		}),
		light("quotas", "Says which quotas are nearly full", 2*time.Second, func(ctx context.Context, _ *work.Going) error { return r.SayNearly(ctx) }),
		light("old-arrivals", "Waits no longer for what is carried in and was not heard of for its time", time.Hour, func(ctx context.Context, _ *work.Going) error {
			return h.Records.Update(ctx, "old-arrivals", func(tx *record.Tx) error { return tx.Arrivals().Drop(tx.Now(), tx.Served()) })
		}),
		light("idle-uploads", "Ends uploads that nobody sends to", time.Minute, func(ctx context.Context, _ *work.Going) error { return r.EndIdleUploads(ctx) }),
		light("old-keys", "Lets new bearer tokens be signed by a new key", time.Hour, func(context.Context, *work.Going) error { return a.RotateOldKeys() }),
		light("ended-logins", "Forgets logins and sessions that have ended", time.Hour, func(_ context.Context, g *work.Going) error { return a.DropEnded(g.Breathe) }),
		light("read-configs", "Reads configs of images that came before this version, to find layers by what they unpack to, and labels", 10*time.Second, func(ctx context.Context, g *work.Going) error { return r.ReadConfigs(ctx, g.Breathe) }),
		work.OldRuns(h.Records, clk),
	)
}
