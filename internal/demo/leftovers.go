package demo

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"warthesis/internal/access"
	"warthesis/internal/oci"
	"warthesis/internal/record/runs"
	"warthesis/internal/registry"
	"warthesis/internal/sweep"
	"warthesis/internal/work"
)

// leftovers are what a sweep takes: an image that was removed longer ago than it can be
// brought back, and layers of a push that never came to its manifest.
func (h *history) leftovers() {
	pricing := applications[3]
	trial, err := pricing.build(h.shared, "0.1.0-trial", baseVersions[0])
	h.push(day(days-24, 15), "marit", "berths/pricing", trial, err, "0.1.0-trial")
	h.acts = append(h.acts,
		act{at: day(days-20, 10), who: "marit", name: "berths/pricing", action: access.Delete, do: func(ctx context.Context, r *registry.Registry) error {
			m, err := r.Manifest(ctx, "berths/pricing", "0.1.0-trial")
			if err == nil {
				_, err = r.RemoveImage(ctx, "berths/pricing", m.Digest, registry.Removing{Whole: true, Reason: "these prices were never sold"})
			}
			return err
		}},
		act{at: day(days-2, 4), who: "ci-timetable", name: "timetable/board", action: access.Push, do: func(ctx context.Context, r *registry.Registry) error {
			for _, step := range []string{"the night build that was cut", "its fonts"} {
				raw := machineCode(random(step), 300<<10)
				if err := r.PushBlob(ctx, "timetable/board", registry.Part{Body: bytes.NewReader(raw), Offset: -1, Length: int64(len(raw))}, oci.DigestOf(oci.SHA256, raw)); err != nil {
					return err
				}
			}
			return nil
		}})
}

// rots is the image one of whose files rots.
const rots, rotsAt = oci.Name("rolling/telemetry"), "5.0.0"

// Rot flips a bit of a file, as a disk does that grows old, in the data folder of the
// sample world.
func Rot(ctx context.Context, r *registry.Registry, folder string) error {
	m, err := r.Manifest(ctx, rots, rotsAt)
	if err != nil {
		return err
	}
	for {
		raw, err := r.ManifestBytes(ctx, m)
		if err != nil {
			return err
		}
		parsed, err := oci.ParseManifest(m.MediaType, raw)
		if err != nil {
			return err
		}
		if !parsed.IsIndex() {
			return flip(folder, parsed.Layers[len(parsed.Layers)-1].Digest)
		}
		if m, err = r.Manifest(ctx, rots, parsed.Children[0].Digest.String()); err != nil {
			return err
		}
	}
}

func flip(folder string, d oci.Digest) error {
	found, err := filepath.Glob(filepath.Join(folder, "blobs", d.Algorithm().String(), d.Encoded()[:2], d.Encoded()+"*"))
	if err != nil || len(found) != 1 {
		return errors.Join(err, fmt.Errorf("%s lies at %d places", d, len(found)))
	}
	raw, err := os.ReadFile(found[0])
	if err != nil {
		return err
	}
	raw[len(raw)/2] ^= 4
	return errors.Join(os.Chmod(found[0], 0o600), os.WriteFile(found[0], raw, 0o600), os.Chmod(found[0], 0o400))
}

// LookAround lets a scrub and a preview of a sweep run, so that there is something to look
// at.
func LookAround(ctx context.Context, works *work.Works) error {
	works.Start()
	for _, wish := range []work.Wish{
		{Kind: sweep.KindScrub, Cause: runs.BySchedule, Options: sweep.Options{All: true}.Words()},
		{Kind: sweep.KindPreview, Cause: runs.BySomebody},
	} {
		run, _, err := works.Ask(ctx, wish)
		if err != nil {
			return err
		}
		for open := true; open; {
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(10 * time.Millisecond):
			}
			_, open = works.Run(run.ID)
		}
	}
	return nil
}
