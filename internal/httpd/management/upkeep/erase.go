package upkeep

import (
	"context"
	"fmt"

	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/oci"
	"warthesis/internal/record/bans"
	"warthesis/internal/registry"
)

type erasePlanInput struct {
	Digest    string `query:"digest" required:"true" maxLength:"256"`
	Namespace string `query:"namespace" maxLength:"255" doc:"Of which namespace; without it, of the registry"`
}

func (d *door) erasePlan(ctx context.Context, in *erasePlanInput) (*desk.Reply[api.ErasePlan], error) {
	digest, err := oci.ParseDigest(in.Digest)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	namespace, err := d.Upkeep.MayErase(ctx, callers.From(ctx), in.Namespace, false)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	end, err := d.Upkeep.Look(callers.From(ctx))
	if err != nil {
		return nil, desk.Refusal(err)
	}
	defer end()
	e, err := d.Registry.PlanErase(ctx, namespace, digest)
	return desk.OK(d.erasingOf(e, in.Namespace), err)
}

func (d *door) erase(ctx context.Context, in *struct{ Body api.Erase }) (*desk.Reply[api.ErasePlan], error) {
	digest, err := oci.ParseDigest(in.Body.Digest.String())
	if err != nil {
		return nil, desk.Refusal(err)
	}
	c := callers.From(ctx)
	namespace, err := d.Upkeep.MayErase(ctx, c, in.Body.Namespace, in.Body.OverSeals)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	end, err := d.Upkeep.Look(callers.From(ctx))
	if err != nil {
		return nil, desk.Refusal(err)
	}
	defer end()
	e, err := d.Registry.Erase(ctx, namespace, digest, registry.EraseHow{
		Mark: in.Body.Mark, Reason: in.Body.Reason, OverSeals: in.Body.OverSeals, May: d.Upkeep.StillMayErase(c, namespace),
	})
	return desk.OK(d.erasingOf(e, in.Body.Namespace), err)
}

func (d *door) erasingOf(e registry.Erasing, namespace string) api.ErasePlan {
	shown := api.ErasePlan{
		Digest: e.Digest, Twin: e.Twin, Unpacked: e.Unpacked, Size: e.Size, Here: len(e.Places) > 0, Namespace: namespace, Mark: e.Mark(),
		Images: make([]api.ErasedImage, len(e.Images)), Repositories: make([]oci.Name, len(e.Places)), Sealed: []string{},
	}
	names := map[int64]oci.Name{}
	for i, p := range e.Places {
		shown.Repositories[i] = p.Name
		names[p.ID] = p.Name
	}
	for i, m := range e.Images {
		shown.Images[i] = api.ErasedImage{Repository: names[m.RepositoryID], Digest: m.Digest, MediaType: m.MediaType, Live: m.Live, Tags: []oci.Tag{}}
		for _, t := range m.Tags {
			if t.Live {
				shown.Images[i].Tags = append(shown.Images[i].Tags, t.Name)
			}
		}
	}
	for _, s := range e.Sealed {
		shown.Sealed = append(shown.Sealed, fmt.Sprintf("sealed: %s:%s; %s", s.Repository, s.Tag.Name, d.Registry.WhySealed(s)))
	}
	shown.OutOfReach = []string{
		"copies that somebody pulled, and downloads that are under way",
		"uploads under way: they are refused when they end, and until then their bytes lie on the disk",
		"backups of this registry: a restored one has it again, and the ban only where that is newer than the ban",
	}
	if namespace != "" {
		shown.OutOfReach = append(shown.OutOfReach, "other namespaces, if they have it: a registry admin erases it everywhere")
	}
	return shown
}

type bansInput struct {
	Namespace string `query:"namespace" maxLength:"255" doc:"Only those of a namespace, which its owners may see"`
	Lifted    bool   `query:"lifted" doc:"Also those that were lifted"`
	Before    int64  `query:"before" minimum:"0" doc:"The next of the page before"`
	Limit     int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}

func (d *door) bans(ctx context.Context, in *bansInput) (*desk.Reply[api.BanList], error) {
	namespace, err := int64(0), error(nil)
	if in.Namespace == "" {
		err = d.Access.MaySeeRuns(callers.From(ctx))
	} else {
		namespace, err = d.Upkeep.MayErase(ctx, callers.From(ctx), in.Namespace, false)
	}
	if err != nil {
		return nil, desk.Refusal(err)
	}
	rows, err := d.Records.View(ctx).Bans().List(namespace, in.Lifted, in.Before, in.Limit+1)
	list := api.BanList{Bans: make([]api.Ban, min(len(rows), in.Limit))}
	for i := range list.Bans {
		list.Bans[i] = d.banOf(rows[i])
	}
	if len(rows) > in.Limit {
		list.Next = rows[in.Limit-1].ID
	}
	return desk.OK(list, err)
}

func (d *door) banOf(b bans.Ban) api.Ban {
	return api.Ban{
		ID: b.ID, Digest: b.Digest, Twin: b.Twin, Unpacked: b.Unpacked, Namespace: b.Namespace, Size: b.Size, Reason: b.Reason, At: b.BannedAt.Time(), By: d.NameOf(b.BannedBy),
		LiftedAt: desk.Moment(b.LiftedAt), LiftedBy: d.NameOf(b.LiftedBy),
	}
}

func (d *door) liftBan(ctx context.Context, in *struct {
	ID   int64 `path:"id" minimum:"1"`
	Body api.LiftBan
}) (*desk.None, error) {
	return desk.Done(d.Upkeep.LiftBan(ctx, callers.From(ctx), in.ID, in.Body.Reason))
}
