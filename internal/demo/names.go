package demo

import (
	"context"

	"warthesis/internal/access"
	"warthesis/internal/access/upkeep"
	"warthesis/internal/registry"
)

// movingNames frees the names that are meant to move, wherever it is used.
const movingNames = `# Names that are meant to move.
- free: ["*:latest", "*:stable", "*:night"]
  because: these say what is newest or rolled out
`

// signalRules seal what goes to signal boxes.
const signalRules = `# What goes to signal boxes stays what it was.
- use: moving-names
- seal: "*"
  because: signal boxes run what a tag says, and cannot be asked
`

// baseRules leave an hour to mend a base image that was pushed by mistake.
const baseRules = `- use: moving-names
- seal: "*"
  except: "*:fair"
  after: 1h
  because: everything here is built on them
`

// names is what people do so that names can be trusted: rules, a seal by hand, what was
// removed, and a tag that was moved by mistake and can be put back.
func (h *history) names() {
	rules := func(at upkeep.At, words, reason string) func(context.Context, *upkeep.Upkeep, access.Caller) error {
		return func(ctx context.Context, u *upkeep.Upkeep, c access.Caller) error {
			return u.SetRules(ctx, c, at, words, reason)
		}
	}
	h.do(day(52, 8), "ines", rules(upkeep.At{List: "moving-names"}, movingNames, "the same names move everywhere"))
	h.do(day(52, 11), "jun", rules(upkeep.At{Place: "signals"}, signalRules, "the audit of signal boxes asks for it"))
	h.do(day(53, 9), "ines", rules(upkeep.At{Place: "base"}, baseRules, "a base image changed under two teams"))
	h.do(day(87, 10), "teodor", func(ctx context.Context, u *upkeep.Upkeep, c access.Caller) error {
		return u.SealTag(ctx, c, "timetable/planner", "2.4.1", "the winter timetable is planned on it")
	})

	board := applications[1]
	// A build of the night took the name of what the stations run.
	wrong, err := board.build(h.shared, "night-03", baseVersions[len(baseVersions)-1])
	h.push(day(days-1, 15), "teodor", board.name, wrong, err, "stable")

	h.acts = append(h.acts,
		act{at: day(days-5, 14), who: "marit", name: "berths/checkout", action: access.Delete, do: func(ctx context.Context, r *registry.Registry) error {
			_, err := r.ChangeTags(ctx, "berths/checkout", []registry.TagChange{{Act: registry.ActRemove, Tag: "1.4.0"}, {Act: registry.ActRemove, Tag: "1.4.1"}}, "sold beds twice")
			return err
		}},
		act{at: day(days-3, 11), who: "marit", name: "berths/seatmap", action: access.Delete, do: func(ctx context.Context, r *registry.Registry) error {
			m, err := r.Manifest(ctx, "berths/seatmap", "0.9.0")
			if err == nil {
				_, err = r.RemoveImage(ctx, "berths/seatmap", m.Digest, registry.Removing{Whole: true, Reason: "no carriage has these beds any more"})
			}
			return err
		}})
	h.do(day(20, 9), "marit", func(ctx context.Context, u *upkeep.Upkeep, c access.Caller) error {
		return u.Access.MakeRepository(ctx, c, "berths/carpool", access.PlaceChange{Description: ptr("Shared rides to the station, a trial")})
	})
	h.do(day(days-4, 16), "marit", func(ctx context.Context, u *upkeep.Upkeep, c access.Caller) error {
		_, err := u.Access.RemoveRepository(ctx, c, "berths/carpool", access.Removing{Reason: "the trial is over"})
		return err
	})
}

func ptr[T any](v T) *T { return &v }
