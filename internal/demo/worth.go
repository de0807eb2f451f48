package demo

import (
	"context"

	"warthesis/internal/access"
	"warthesis/internal/access/upkeep"
	"warthesis/internal/oci"
	"warthesis/internal/record/inuse"
	"warthesis/internal/rule"
)

// The rules of the sample world about what is worth keeping.
const (
	plannerRules = `# What runs stays, and the newest releases; builds of the night go.
- keep: "*"
  in_use: cluster-north
- keep: "*:<release>"
  newest: 4
- keep: ["*:latest", "*:stable", "*:night"]
- drop: ["*:<release>", "*:<commit>"]
  older_than: 8w
  because: old builds are built again from their commits
- drop: "*:<none>"
  untagged_for: 3w
  because: the night leaves three images a day
`
	berthsRules = `- keep: "*"
  in_use: cluster-north
- keep: "*:<release>"
  newest: 3
- drop: "*:<commit>"
  last_pull: "> 30d"
`
)

// worth is what people do so that storage stays in bounds: retention rules, a list of what
// runs in a cluster, and quotas.
func (h *history) worth() {
	retention := func(place, words, reason string) func(context.Context, *upkeep.Upkeep, access.Caller) error {
		return func(ctx context.Context, u *upkeep.Upkeep, c access.Caller) error {
			return u.SetRules(ctx, c, upkeep.At{Kind: rule.Retention.Name, Place: oci.Name(place)}, words, reason)
		}
	}
	h.do(day(60, 9), "ines", func(ctx context.Context, u *upkeep.Upkeep, c access.Caller) error {
		return u.MakeInUse(ctx, c, inuse.List{Name: "cluster-north", Description: "What runs north of the river", FreshFor: upkeep.UsuallyFresh}, "cluster-north")
	})
	h.do(day(61, 9), "teodor", retention("timetable", plannerRules, "builds of the night fill the disk"))
	h.do(day(days-1, 9), "marit", retention("berths", berthsRules, "as the timetable team has it"))
	running := []string{
		"timetable/planner:2.4.1", "timetable/board:1.9.0", "berths/seatmap:1.2.0", "berths/pricing:3.1.0", "signals/relay:4.2.0", "outside/quarry-db:16.3",
		"registry.partner.example/tickets/printer@sha256:7d1e6a0c9f5b4e2d8c3a1f0e9d8c7b6a5f4e3d2c1b0a9f8e7d6c5b4a3f2e1d0c",
	}
	for _, at := range []float64{70, days - 8, days - 1} {
		set := running
		if at < days-1 {
			// An older release ran until last week.
			set = append([]string{"timetable/planner:2.3.0"}, running...)
		}
		h.do(day(at, 20), "cluster-north", func(ctx context.Context, u *upkeep.Upkeep, c access.Caller) error {
			_, err := u.RefreshInUse(ctx, c, "cluster-north", set, nil, false)
			return err
		})
	}
	h.do(day(62, 10), "ines", func(ctx context.Context, u *upkeep.Upkeep, c access.Caller) error {
		for _, b := range []upkeep.Bound{
			{Place: "timetable", Most: 42 << 20, Reason: "as agreed with the team"}, {Place: "berths", Most: 40 << 20, Reason: "as agreed with the team"},
			{Place: "timetable/planner", Most: 50, Reason: "builds pile up"}, {Account: "ci-timetable", Most: 60 << 20, Reason: "a build went wild once"},
		} {
			if err := u.SetQuota(ctx, c, b); err != nil {
				return err
			}
		}
		return nil
	})
}
