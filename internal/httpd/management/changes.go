package management

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"warthesis/internal/access"
	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/record"
)

// quiet is how long a stream of changes is silent at most.
const quiet = 20 * time.Second

// registerChanges serves what happens as server-sent events. A listener that
// missed something asks the lists again: the stream says that, not what.
func (d *door) registerChanges(a huma.API, operation huma.Operation) {
	kinds := map[string]any{"change": api.Change{}, "still-there": api.StillThere{}}
	sse.Register(a, operation, kinds, func(ctx context.Context, _ *struct{}, send sse.Sender) {
		events, end := d.Records.Listen()
		defer end()
		pulse := time.NewTicker(quiet)
		defer pulse.Stop()
		// The first word goes out at once, so that the listener knows the line is open.
		if send.Data(api.StillThere{At: time.Now().UTC()}) != nil {
			return
		}
		for {
			var err error
			select {
			case e, open := <-events:
				if !open {
					return
				}
				if !d.Access.IsGood(ctx, callers.From(ctx)) {
					return
				}
				if !d.hears(ctx, e) {
					continue
				}
				err = send.Data(api.Change{Kind: string(e.Kind), Repository: e.Repository, Tag: e.Tag, Digest: e.Digest, At: e.At.Time()})
			case now := <-pulse.C:
				if !d.Access.IsGood(ctx, callers.From(ctx)) {
					return
				}
				err = send.Data(api.StillThere{At: now.UTC()})
			case <-ctx.Done():
				return
			case <-d.Stopping:
				return
			}
			if err != nil {
				return
			}
		}
	})
}

// hears reports whether a listener is told of an event: one about content that it
// may pull.
func (d *door) hears(ctx context.Context, e record.Event) bool {
	if e.Repository == "" || e.Verdict != record.VerdictDone {
		return false
	}
	v, err := d.Access.Verdict(ctx, callers.From(ctx), e.Repository, access.Pull)
	return err == nil && v.Allowed
}
