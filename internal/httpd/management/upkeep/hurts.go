package upkeep

import (
	"context"
	"errors"
	"time"

	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/hurts"
)

type hurtsInput struct {
	Ended  bool  `query:"ended" doc:"Also what was mended or went"`
	Before int64 `query:"before" minimum:"0" doc:"The next of the page before"`
	Limit  int   `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}

func (d *door) hurts(ctx context.Context, in *hurtsInput) (*desk.Reply[api.HurtList], error) {
	if err := d.Access.MaySeeRuns(callers.From(ctx)); err != nil {
		return nil, desk.Refusal(err)
	}
	rows, err := d.Records.View(ctx).Hurts().List(in.Ended, in.Before, in.Limit+1)
	list := api.HurtList{Hurts: make([]api.Hurt, min(len(rows), in.Limit))}
	for i := range list.Hurts {
		list.Hurts[i] = hurtOf(rows[i])
	}
	if len(rows) > in.Limit {
		list.Next = rows[in.Limit-1].ID
	}
	return desk.OK(list, err)
}

func hurtOf(h hurts.Hurt) api.Hurt {
	return api.Hurt{
		ID: h.ID, Digest: h.Digest, What: string(h.What), Size: h.Size, FoundSize: h.FoundSize, FoundAt: h.FoundAt.Time(), EndedAt: desk.Moment(h.EndedAt), EndedHow: h.EndedHow,
	}
}

// DigestInput names content. It is exported for the API library.
type DigestInput struct {
	Digest string `path:"digest" maxLength:"256"`
}

// pulledLately is how far back it is looked who pulled what is hurt.
const pulledLately = 30 * 24 * time.Hour

func (d *door) hurt(ctx context.Context, in *DigestInput) (*desk.Reply[api.HurtDetail], error) {
	if err := d.Access.MaySeeRuns(callers.From(ctx)); err != nil {
		return nil, desk.Refusal(err)
	}
	digest, err := oci.ParseDigest(in.Digest)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	view := d.Records.View(ctx)
	h, err := view.Hurts().Get(digest)
	if errors.Is(err, hurts.ErrNone) {
		err = oci.Errorf(oci.CodeNameUnknown, "the content %s is not hurt, or is not here", digest)
	}
	if err != nil {
		return nil, desk.Refusal(err)
	}
	images, err := view.Hurts().Images(digest, record.StampOf(d.Upkeep.Clock.Now().Add(-pulledLately)))
	shown := api.HurtDetail{Hurt: hurtOf(h), Images: make([]api.HurtImage, len(images))}
	for i, m := range images {
		shown.Images[i] = api.HurtImage{
			Repository: m.Repository, Digest: m.Digest, Tags: m.Tags(), Pulls: m.Pulls, PulledAt: desk.Moment(m.PulledAt), PulledBy: m.Pullers(),
		}
	}
	return desk.OK(shown, err)
}

// health says how well the registry is.
func (d *door) health(ctx context.Context, _ *struct{}) (*desk.Reply[api.RegistryHealth], error) {
	if err := d.Access.MaySeeRuns(callers.From(ctx)); err != nil {
		return nil, desk.Refusal(err)
	}
	shown := api.RegistryHealth{
		Grace: desk.SpanOf(d.Upkeep.Grace), ScrubGoal: desk.SpanOf(d.Sweeper.ScrubWithin()), ShortSpans: d.Access.Settings().ShortWindows,
	}
	var err error
	if shown.DiskFree, shown.DiskSize, shown.DiskFloor, err = d.Registry.Space(); err != nil {
		return nil, desk.Refusal(err)
	}
	err = d.figures(ctx, &shown)
	for _, damage := range d.Records.Damages() {
		shown.Damages = append(shown.Damages, api.RecordsDamage{Table: damage.Table, Index: damage.Index, What: damage.What, Says: damage.String(), FoundAt: damage.FoundAt})
		shown.Remedy = record.DamageRemedy + "."
	}
	// Damaged records must not hide that they are damaged.
	if err != nil && len(shown.Damages) > 0 {
		shown.Incomplete, err = true, nil
	}
	return desk.OK(shown, err)
}

// figures counts what the records know.
func (d *door) figures(ctx context.Context, shown *api.RegistryHealth) error {
	view := d.Records.View(ctx)
	bytes, err := d.Sweeper.Stock(ctx)
	if err != nil {
		return err
	}
	shown.Files, shown.Bytes = bytes.Files, bytes.Bytes
	if bytes.Files > 0 {
		shown.ReadWithin = desk.SpanOf((d.Upkeep.Clock.Served() - time.Duration(bytes.Oldest)).Round(time.Minute))
	}
	counts, err := view.Unheld().CountStrays()
	if err != nil {
		return err
	}
	shown.Strays, shown.StrayBytes = counts.Strays, counts.Bytes
	if shown.Hurt, err = view.Hurts().Count(); err != nil {
		return err
	}
	shown.Records, err = view.Unheld().Size()
	return err
}
