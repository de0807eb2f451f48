package follow

import (
	"context"
	"errors"
	"log/slog"
	"time"

	"warthesis/internal/oci"
	"warthesis/internal/peer"
	"warthesis/internal/record"
	"warthesis/internal/registry"
	"warthesis/internal/work"
)

// completeEvery is how often it is looked for what nobody asked for.
const completeEvery = 5 * time.Second

// mostCompleted is how much of one namespace is brought in one look, deepest how often what
// came names more.
const (
	mostCompleted = 500
	deepest       = 10
	// leftAlone is for how long what did not come is left alone, in served time.
	leftAlone = 5 * time.Minute
)

// Kinds are the work beside requests: where namespaces want all of what came in part, the rest
// is fetched, and it is written what came from where.
func (f *Follower) Kinds() []work.Kind {
	return []work.Kind{
		{
			Name: "complete-followed", About: "Fetches what nobody asked for, of images that came from peers, where a namespace wants them whole",
			When: work.Every(completeEvery), Light: true, Do: f.complete,
		},
		{
			Name: "idle-known", About: "Removes images that came in part from peers, have no tag, and nobody pulled for 30 days",
			When: work.Every(time.Hour), Light: true,
			Do: func(ctx context.Context, g *work.Going) error { return f.letGo(ctx, g.Breathe) },
		},
		{Name: "follow-served", About: "Writes what followed namespaces served from here and from their peers", When: work.Every(3 * time.Second), Light: true, Do: f.flush},
	}
}

// knownFor is for how long what came in part and has no tag stays without a pull, in served
// time.
const knownFor = 30 * 24 * time.Hour

// letGo removes what came in part, has no tag, and nobody pulled for a while. As any removal
// it can be undone.
func (f *Follower) letGo(ctx context.Context, breathe func() error) error {
	for {
		all, err := f.records.View(ctx).Follows().Idles(f.served()-int64(knownFor), mostCompleted)
		if err != nil || len(all) == 0 {
			return err
		}
		for _, one := range all {
			_, err := f.registry.RemoveImage(ctx, one.Repository, one.Digest, registry.Removing{Reason: "it came in part from a peer, has no tag, and nobody pulled it for 30 days"})
			if err := errors.Join(err, breathe()); err != nil {
				return err
			}
		}
	}
}

// itself is who asks for what nobody asked for.
var itself = Asker{Who: "the registry itself", Seen: record.Seen{Nothing: true}}

func (f *Follower) complete(ctx context.Context, g *work.Going) error {
	for namespace, of := range *f.follows.Load() {
		for pass := 0; of.Complete && pass < deepest; pass++ {
			more, err := f.completeSome(ctx, g, namespace)
			if err != nil {
				return err
			}
			if !more {
				break
			}
		}
	}
	return ctx.Err()
}

// completeSome brings some of what a namespace lacks, and reports whether any came.
func (f *Follower) completeSome(ctx context.Context, g *work.Going, namespace int64) (some bool, err error) {
	lacking, err := f.records.View(ctx).Follows().Lacking(namespace, mostCompleted)
	if err != nil {
		return false, err
	}
	for _, l := range lacking {
		if err := errors.Join(g.Breathe(), ctx.Err()); err != nil {
			return false, err
		}
		what := "left alone: " + string(l.Repository) + "@" + l.Digest.String()
		if f.isAbsent(what) {
			continue
		}
		if oci.IsManifest(l.MediaType) {
			err = f.Manifest(ctx, l.Repository, l.Digest, itself)
		} else {
			err = f.bring(ctx, l.Repository, l.Digest)
		}
		if err != nil && ctx.Err() == nil {
			// It neither keeps back what stands behind it, nor comes again and again in vain.
			slog.Debug("what nobody asked for did not come", "repository", l.Repository, "digest", l.Digest, "error", err)
			f.remember(what, int64(leftAlone))
			continue
		}
		some = true
	}
	return some, ctx.Err()
}

// bring fetches content, and returns once it is here.
func (f *Follower) bring(ctx context.Context, name oci.Name, digest oci.Digest) error {
	s, err := f.Blob(ctx, name, digest, itself)
	if err != nil || s == nil {
		return err
	}
	defer s.Close()
	_, err = s.ready(ctx, s.Size-1)
	return err
}

// Referrers brings what a peer has that refers to a manifest, at most once while it is fresh.
// What cannot be had is no error: what is here is listed.
func (f *Follower) Referrers(ctx context.Context, name oci.Name, digest oci.Digest, by Asker) error {
	of := f.of(name)
	if of == nil || registry.Hidden(ctx) {
		return nil
	}
	// What nobody has here is not asked for.
	if _, err := f.registry.Manifest(ctx, name, digest.String()); err != nil {
		return nil
	}
	what := by.names("what refers to " + string(name) + "@" + digest.String())
	if f.isAbsent(what) {
		return nil
	}
	among, err := f.candidates(ctx, of, name, "", by)
	if err != nil || len(among) == 0 {
		return err
	}
	end, err := f.wait(by.Who)
	if err != nil {
		return nil
	}
	defer end()
	return answer(ctx, f.together(what, by, func(asking context.Context) (string, error) {
		from, found, err := ask(asking, f, among, patienceHere, func(ctx context.Context, client *peer.Client, c candidate) ([]oci.Descriptor, error) {
			return client.Referrers(ctx, c.there, digest)
		})
		if err != nil {
			return "", nil
		}
		f.remember(what, int64(of.FreshFor))
		for _, d := range found {
			if _, err := f.registry.Manifest(asking, name, d.Digest.String()); err == nil {
				continue
			}
			if err := f.take(asking, from, name, "", d); err != nil {
				slog.Debug("what refers to a manifest did not come", "repository", name, "digest", d.Digest, "error", err)
			}
		}
		return "", nil
	}))
}
