package service

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
)

// quiet is how long a stream of changes is silent at most.
const quiet = 20 * time.Second

// registerChanges serves what happens as server-sent events. A listener that
// missed something asks the lists again: the stream says that, not what.
func (d *door) registerChanges(a huma.API, operation huma.Operation) {
	kinds := map[string]any{"change": api.Change{}, "still-there": api.StillThere{}}
	sse.Register(a, operation, kinds, func(ctx context.Context, _ *struct{}, send sse.Sender) {
		caller := callers.From(ctx)
		leave, err := d.streams.Enter(caller.Address)
		if err != nil {
			return
		}
		defer leave()
		events, end := d.Records.Listen()
		defer end()
		over := d.Access.Until(caller)
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
				now, good := d.Access.Again(caller)
				if !good {
					return
				}
				if !d.Access.Hears(ctx, now, e) {
					continue
				}
				err = send.Data(api.Change{Kind: string(e.Kind), Repository: e.Repository, Tag: e.Tag, Digest: e.Digest, At: e.At.Time()})
			case now := <-pulse.C:
				if _, good := d.Access.Again(caller); !good {
					return
				}
				err = send.Data(api.StillThere{At: now.UTC()})
			case <-ctx.Done():
				return
			case <-over:
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

const mostStreams = 2048

const mostStreamsFromOne = 128
