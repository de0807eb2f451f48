package upkeep

import (
	"context"
	"errors"
	"strings"

	access "warthesis/internal/access/upkeep"
	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/oci"
	"warthesis/internal/record/quota"
	"warthesis/internal/record/usage"
)

// PlaceInput names a place, or the registry. It is exported for the API library.
type PlaceInput struct {
	Place string `query:"place" maxLength:"255" doc:"A namespace or a repository; absent for the registry"`
}

func (in PlaceInput) name() (oci.Name, error) {
	if in.Place == "" {
		return "", nil
	}
	return oci.ParseName(in.Place)
}

const gib = 1 << 30

// cost is what bytes cost, nil where no price is set.
func (d *door) cost(held, out int64) *api.Cost {
	p := d.Prices
	if p.GiBMonth == 0 && p.GiBOut == 0 {
		return nil
	}
	return &api.Cost{Storage: float64(held) / gib * p.GiBMonth, Out: float64(out) / gib * p.GiBOut, Currency: p.Currency}
}

func (d *door) usage(ctx context.Context, in *struct {
	PlaceInput
	Image string `query:"image" maxLength:"150" doc:"An image of the repository, by a tag or its digest"`
}) (*desk.Reply[api.Usage], error) {
	place, err := in.name()
	if err != nil {
		return nil, desk.Refusal(err)
	}
	c := callers.From(ctx)
	var u access.Usage
	if in.Image != "" {
		u, err = d.Upkeep.ImageUsage(ctx, c, place, in.Image)
	} else {
		u, err = d.Upkeep.Usage(ctx, c, place)
	}
	if err != nil {
		return nil, desk.Refusal(err)
	}
	shown := api.Usage{
		Place: place, Seen: u.Seen, Own: u.Own, Waiting: u.Waiting, Free: u.Free, Held: u.Held, Images: u.Images, Tags: u.Tags, More: u.More,
		Quotas: quotasOf(u.Quotas), Children: make([]api.UsageChild, len(u.Children)), Shared: make([]api.Sharer, len(u.Shared)),
	}
	out := map[int64]int64{}
	// What goes out is counted by namespace.
	if !strings.Contains(in.Place, "/") {
		if out, err = d.Upkeep.Outgoing(ctx, c); err != nil {
			return nil, desk.Refusal(err)
		}
	}
	whole := int64(0)
	for i, child := range u.Children {
		shown.Children[i] = api.UsageChild{
			Kind: child.Kind, Name: child.Name, Digest: child.Digest, Names: child.Names, Seen: child.Seen, Own: child.Own, Waiting: child.Waiting, Images: child.Images, Tags: child.Child.Tags,
		}
		if child.Kind == "namespace" {
			shown.Children[i].Cost = d.cost(child.Seen+child.Waiting, out[child.ID])
			whole += out[child.ID]
		}
	}
	for i, s := range u.Shared {
		shown.Shared[i] = api.Sharer{Name: s.Name, Bytes: s.Bytes}
	}
	if place != "" {
		key, err := d.Access.Place(ctx, place)
		if err == nil && key.RepositoryID == 0 {
			shown.Cost, shown.Reserved = d.cost(u.Held, out[key.NamespaceID]), d.Registry.Reserved(key.NamespaceID)
		}
		return desk.OK(shown, err)
	}
	shown.Cost = d.cost(u.Seen+u.Waiting, whole)
	if d.Access.SeesRuns(c) {
		shown.Parts, err = d.parts(ctx)
	}
	return desk.OK(shown, err)
}

// parts tells what is on the disk.
func (d *door) parts(ctx context.Context) ([]api.UsagePart, error) {
	stock, err := d.Sweeper.Stock(ctx)
	view := d.Records.View(ctx)
	records, failed := view.Unheld().Size()
	uploads, worse := view.Quota().Open()
	staged := int64(0)
	for _, u := range uploads {
		staged += u.Offset
	}
	return []api.UsagePart{
		{Part: "content", Bytes: stock.Bytes}, {Part: "records", Bytes: records}, {Part: "uploads", Bytes: staged}, {Part: "derived", Bytes: d.Sweeper.Reports().Bytes()},
	}, errors.Join(err, failed, worse)
}

func quotasOf(all []quota.Use) []api.Quota {
	shown := make([]api.Quota, len(all))
	for i, use := range all {
		shown[i] = api.Quota{Of: use.Of, Name: use.Name, Used: use.Used, Quota: use.Quota}
	}
	return shown
}

func (d *door) quotas(ctx context.Context, _ *struct{}) (*desk.Reply[api.QuotaList], error) {
	all, err := d.Upkeep.Quotas(ctx, callers.From(ctx))
	return desk.OK(api.QuotaList{Quotas: quotasOf(all)}, err)
}

func (d *door) setQuota(ctx context.Context, in *struct{ Body api.SetQuota }) (*desk.None, error) {
	if in.Body.Place != "" {
		if _, err := oci.ParseName(string(in.Body.Place)); err != nil {
			return nil, desk.Refusal(err)
		}
	}
	return desk.Done(d.Upkeep.SetQuota(ctx, callers.From(ctx), access.Bound{Place: in.Body.Place, Account: in.Body.Account, Most: in.Body.Quota, Reason: in.Body.Reason}))
}

func (d *door) endWindows(ctx context.Context, in *struct{ Body api.EndWindows }) (*desk.None, error) {
	return desk.Done(d.Upkeep.EndWindows(ctx, callers.From(ctx), in.Body.Removals, in.Body.Reason))
}

// DaysInput says how far back is looked. It is exported for the API library.
type DaysInput struct {
	PlaceInput
	Days int64 `query:"days" minimum:"1" maximum:"732" default:"90" doc:"How many days back"`
}

func (d *door) growth(ctx context.Context, in *DaysInput) (*desk.Reply[api.UsageGrowth], error) {
	place, err := in.name()
	if err != nil {
		return nil, desk.Refusal(err)
	}
	samples, err := d.Upkeep.Growth(ctx, callers.From(ctx), place, in.Days)
	all := d.Access.SeesRuns(callers.From(ctx))
	shown := api.UsageGrowth{Samples: make([]api.UsageSample, len(samples))}
	for i, s := range samples {
		shown.Samples[i] = api.UsageSample{Day: usage.TimeOf(s.Day), Seen: s.Seen, Waiting: s.Waiting, Images: s.Images, Tags: s.Tags}
		if all {
			shown.Samples[i].Own = &s.Own
		}
	}
	return desk.OK(shown, err)
}

func (d *door) traffic(ctx context.Context, in *struct {
	DaysInput
	By string `query:"by" enum:"day,namespace,account" default:"day" doc:"In which groups"`
}) (*desk.Reply[api.Traffic], error) {
	place, err := in.name()
	if err != nil {
		return nil, desk.Refusal(err)
	}
	lines, err := d.Upkeep.Traffic(ctx, callers.From(ctx), place, in.By, in.Days)
	shown := api.Traffic{Lines: make([]api.TrafficLine, len(lines))}
	for i, l := range lines {
		shown.Lines[i] = api.TrafficLine{Name: l.Name, Pulls: l.Pulls, Pushes: l.Pushes, BytesOut: l.BytesOut, BytesIn: l.BytesIn, Cost: d.cost(0, l.BytesOut)}
		if in.By == usage.ByDay {
			day := usage.TimeOf(l.Day)
			shown.Lines[i].Day = &day
		}
	}
	return desk.OK(shown, err)
}

func (d *door) labels(ctx context.Context, in *struct {
	Label string `query:"label" required:"true" maxLength:"100" doc:"The name of a label of namespaces"`
}) (*desk.Reply[api.LabelSums], error) {
	sums, err := d.Upkeep.ByLabel(ctx, callers.From(ctx), in.Label)
	shown := api.LabelSums{Sums: make([]api.LabelSum, len(sums))}
	for i, s := range sums {
		shown.Sums[i] = api.LabelSum{
			Value: s.Value, Namespaces: s.Places, Seen: s.Seen, Own: s.Own, Waiting: s.Waiting, Images: s.Images, Tags: s.Tags, BytesOut: s.Out, Cost: d.cost(s.Seen+s.Waiting, s.Out),
		}
	}
	return desk.OK(shown, err)
}
