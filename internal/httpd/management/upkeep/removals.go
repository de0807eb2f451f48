package upkeep

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	rights "warthesis/internal/access"
	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/removals"
	"warthesis/internal/record/seals"
	"warthesis/internal/registry"
)

type removalsInput struct {
	Place  string `query:"place" maxLength:"255" doc:"Only those in this namespace or repository"`
	Run    int64  `query:"run" minimum:"0" doc:"Only those by this run of retention rules"`
	Undone bool   `query:"undone" doc:"Also those that were undone"`
	Before int64  `query:"before" minimum:"0" doc:"The next of the page before"`
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}

// removals lists what the caller could undo.
func (d *door) removals(ctx context.Context, in *removalsInput) (*desk.Reply[api.RemovalList], error) {
	c := callers.From(ctx)
	if err := d.Access.AsLoggedIn(c); err != nil {
		return nil, desk.Refusal(err)
	}
	filter := removals.Filter{Before: in.Before, RunID: in.Run, Undone: in.Undone, Limit: in.Limit + 1}
	view := d.Records.View(ctx)
	if in.Place != "" {
		name, err := oci.ParseName(in.Place)
		if err != nil {
			return nil, desk.Refusal(err)
		}
		key, err := d.Access.Place(ctx, name)
		if errors.Is(err, oci.CodeNameUnknown) {
			// Said of what the caller may not know of as well.
			return desk.OK(api.RemovalList{Removals: []api.Removal{}}, nil)
		}
		if err != nil {
			return nil, desk.Refusal(err)
		}
		filter.NamespaceID, filter.RepositoryID = key.NamespaceID, key.RepositoryID
	}
	rows, err := view.ListRemovals(filter, d.Upkeep.SeesRemovals(c))
	list := api.RemovalList{Removals: []api.Removal{}}
	if len(rows) > in.Limit {
		rows = rows[:in.Limit]
		list.Next = rows[in.Limit-1].ID
	}
	for _, row := range rows {
		// Scopes of a token say less than its account may.
		if d.Upkeep.CanUndo(ctx, c, row) {
			list.Removals = append(list.Removals, d.removalOf(row))
		}
	}
	return desk.OK(list, err)
}

func (d *door) removalOf(row removals.Row) api.Removal {
	shown := api.Removal{
		ID: row.ID, Kind: row.Kind, Namespace: row.Namespace, Repository: row.Repository, Name: row.Name, At: record.Stamp(row.RemovedAt).Time(),
		By: d.NameOf(row.RemovedBy), Run: row.RunID, Token: row.Token, Reason: row.Reason, Tags: row.Tags, Images: row.Images,
		UndoneAt: desk.Moment(record.Stamp(row.UndoneAt)), UndoneBy: d.NameOf(row.UndoneBy),
	}
	left := d.Access.Settings().Window(time.Duration(row.Window)) - (d.Upkeep.Clock.Served() - time.Duration(row.RemovedServed))
	if row.UndoneAt == 0 && row.OverAt == 0 && left > 0 {
		until := d.Upkeep.Clock.Now().Add(left)
		shown.Until = &until
	}
	return shown
}

// RemovalInput names a removal. It is exported for the API library.
type RemovalInput struct {
	ID int64 `path:"id" minimum:"1"`
}

// removal finds a removal that the caller may undo.
func (d *door) findRemoval(ctx context.Context, id int64) (removals.Row, error) {
	if err := d.Access.AsLoggedIn(callers.From(ctx)); err != nil {
		return removals.Row{}, err
	}
	row, err := d.Records.View(ctx).Removals().Get(id)
	if errors.Is(err, removals.ErrNone) {
		err = oci.Errorf(oci.CodeNameUnknown, "there is no removal %d that %s may know of", id, callers.From(ctx).Who())
	}
	if err == nil {
		err = d.Upkeep.MayUndo(ctx, callers.From(ctx), row)
	}
	return row, err
}

// mostGone is how many things that went are listed of each kind.
const mostGone = 1000

func (d *door) removal(ctx context.Context, in *RemovalInput) (*desk.Reply[api.RemovalContents], error) {
	row, err := d.findRemoval(ctx, in.ID)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	records := d.Records.View(ctx).Removals()
	tags, err := records.Tags(row.ID, mostGone)
	images, other := records.Images(row.ID, mostGone)
	shown := api.RemovalContents{Removal: d.removalOf(row), TagList: tagsOf(tags), ImageList: imagesOf(images)}
	for i, t := range tags {
		if t.Now != "" && t.Now != t.Digest {
			offer, lost := records.Offer(row.RepositoryID, t.Name)
			shown.TagList[i].Offer, other = offer, errors.Join(other, lost)
		}
	}
	return desk.OK(shown, errors.Join(err, other))
}

func tagsOf(tags []removals.Tag) []api.GoneTag {
	shown := make([]api.GoneTag, len(tags))
	for i, t := range tags {
		shown[i] = api.GoneTag{Tag: t.Name, Digest: t.Digest, Now: t.Now}
	}
	return shown
}

func imagesOf(images []removals.Image) []api.GoneImage {
	shown := make([]api.GoneImage, len(images))
	for i, m := range images {
		shown[i] = imageOf(m)
	}
	return shown
}

func imageOf(m removals.Image) api.GoneImage {
	return api.GoneImage{Digest: m.Digest, MediaType: m.MediaType, ArtifactType: m.ArtifactType, Platforms: desk.Words(m.Platforms), Size: m.Size}
}

func (d *door) undo(ctx context.Context, in *struct {
	RemovalInput
	Body api.UndoRemoval
}) (*desk.Reply[api.RemovalUndone], error) {
	row, err := d.findRemoval(ctx, in.ID)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	for _, other := range in.Body.As {
		if _, err := oci.ParseTag(string(other)); err != nil {
			return nil, desk.Refusal(err)
		}
	}
	done, err := d.Upkeep.Undo(ctx, callers.From(ctx), row.ID, in.Body.As, in.Body.Name)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	now, err := d.Records.View(ctx).Removals().Get(row.ID)
	return desk.OK(api.RemovalUndone{Removal: d.removalOf(now), TagList: tagsOf(done.Tags), ImageList: imagesOf(done.Images)}, err)
}

type planInput struct {
	Namespace  string `query:"namespace" maxLength:"255" doc:"A namespace, to be removed as a whole"`
	Repository string `query:"repository" maxLength:"255" doc:"A repository, to be removed as a whole where no reference is given"`
	Reference  string `query:"reference" maxLength:"256" doc:"A tag or a digest: the image"`
	Whole      bool   `query:"whole" doc:"Of an image: with the children that nothing else names, and what refers to all that goes"`
}

// plan says what a removal would take, to whoever could remove it.
func (d *door) plan(ctx context.Context, in *planInput) (*desk.Reply[api.RemovalPlan], error) {
	if (in.Namespace == "") == (in.Repository == "") || in.Namespace != "" && in.Reference != "" {
		return nil, desk.Refusal(oci.Errorf(oci.CodeQueryInvalid, "give a namespace, a repository, or a repository with a reference"))
	}
	if in.Reference == "" {
		return d.planPlace(ctx, in)
	}
	name, err := oci.ParseName(in.Repository)
	if err == nil {
		err = d.May(ctx, name, rights.Delete)
	}
	if err != nil {
		return nil, desk.Refusal(err)
	}
	m, err := d.Registry.Manifest(ctx, name, in.Reference)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	plan, err := d.Registry.PlanImage(ctx, name, m.Digest, in.Whole, d.Seen(ctx))
	shown := api.RemovalPlan{
		Kind: "manifest", Tags: tagsOf(plan.Tags), Images: imagesOf(plan.Images), Kept: []api.Kept{}, TagCount: int64(len(plan.Tags)), ImageCount: int64(len(plan.Images)),
		Freed: plan.Freed, Sealed: []string{},
	}
	if errors.Is(err, oci.CodeDenied) {
		shown.Sealed, err = append(shown.Sealed, err.Error()), nil
	}
	if err != nil {
		return nil, desk.Refusal(err)
	}
	for _, k := range plan.Kept {
		shown.Kept = append(shown.Kept, api.Kept{GoneImage: imageOf(k.Image), Relation: string(k.Relation), Why: k.Why})
	}
	found, err := d.Records.View(ctx).Namespace(name.Namespace())
	shown.Until = d.window(found.RestoreWindow)
	return desk.OK(shown, err)
}

func (d *door) planPlace(ctx context.Context, in *planInput) (*desk.Reply[api.RemovalPlan], error) {
	place := oci.Name(in.Namespace + in.Repository)
	c := callers.From(ctx)
	var err error
	if in.Namespace != "" {
		if _, err = rights.CheckNamespace(in.Namespace); err == nil {
			err = d.Access.MayManage(ctx, c, place)
		}
	} else if _, err = oci.ParseName(in.Repository); err == nil {
		err = d.Access.MayManageRepository(ctx, c, place)
	}
	if err != nil {
		return nil, desk.Refusal(err)
	}
	view := d.Records.View(ctx)
	n, err := view.Namespace(place.Namespace())
	at := record.Repository{NamespaceID: n.ID, Name: place}
	if err == nil && in.Repository != "" {
		at, err = view.Repository(place)
	}
	if errors.Is(err, record.ErrNotFound) {
		err = oci.Errorf(oci.CodeNameUnknown, "there is no %s here", place)
	}
	if err != nil {
		return nil, desk.Refusal(err)
	}
	shown := api.RemovalPlan{Kind: "namespace", Tags: []api.GoneTag{}, Images: []api.GoneImage{}, Kept: []api.Kept{}, Sealed: []string{}, Until: d.window(n.RestoreWindow)}
	if in.Repository != "" {
		shown.Kind = "repository"
	}
	counts, err := view.Removals().Counts(at.NamespaceID, at.ID)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	shown.Repositories, shown.TagCount, shown.ImageCount = counts.Repositories, counts.Tags, counts.Images
	if shown.Freed, err = view.Removals().FreedWithPlace(at.NamespaceID, at.ID, d.Seen(ctx).Condition()); err != nil {
		return nil, desk.Refusal(err)
	}
	judged, err := d.Records.Judge(ctx, at)
	shown.Sealed = d.saySealed(judged)
	return desk.OK(shown, err)
}

// saySealed says which tags are sealed and why, each reason once.
func (d *door) saySealed(j seals.Judged) []string {
	said := []string{}
	named := map[string][]string{}
	var reasons []string
	for _, s := range j.Sealed {
		why := d.Registry.WhySealed(s)
		if named[why] == nil {
			reasons = append(reasons, why)
		}
		named[why] = append(named[why], fmt.Sprintf("%s:%s", s.Repository, s.Tag.Name))
	}
	for _, why := range reasons {
		said = append(said, fmt.Sprintf("sealed: %s; %s", strings.Join(named[why], ", "), why))
	}
	if more := j.Count - len(j.Sealed); more > 0 {
		said = append(said, fmt.Sprintf("%d more tags are sealed", more))
	}
	return said
}

type removeImageInput struct {
	desk.RepositoryInput
	Digest string `query:"digest" required:"true" maxLength:"256" doc:"The image"`
	Whole  bool   `query:"whole" doc:"With the children that nothing else names, and what refers to all that goes"`
	Reason string `query:"reason" maxLength:"500" doc:"Why, for the list of removals"`
}

func (d *door) removeImage(ctx context.Context, in *removeImageInput) (*desk.Reply[api.RemovedBy], error) {
	name, err := oci.ParseName(in.Repository)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	digest, err := oci.ParseDigest(in.Digest)
	if err == nil {
		err = d.May(ctx, name, rights.Delete)
	}
	if err != nil {
		return nil, desk.Refusal(err)
	}
	id, err := d.Registry.RemoveImage(ctx, name, digest, registry.Removing{Whole: in.Whole, Reason: in.Reason})
	if err != nil {
		return nil, desk.Refusal(err)
	}
	n, err := d.Records.View(ctx).Namespace(name.Namespace())
	return desk.OK(api.RemovedBy{Removal: id, Until: d.window(n.RestoreWindow)}, err)
}
