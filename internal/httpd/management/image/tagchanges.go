package image

import (
	"context"
	"slices"

	"warthesis/internal/access"
	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/taglog"
	"warthesis/internal/registry"
)

type tagChangesInput struct {
	desk.RepositoryInput
	IfMatch string `header:"If-Match" maxLength:"260" doc:"What the tag has to point to, as a digest in quotes; for one change"`
	Body    api.TagChanges
}

// acts are the rights that changes of tags take: moving them by hand is for whoever may
// also remove.
var acts = map[registry.Act][]access.Action{
	registry.ActAdd: {access.Push}, registry.ActMove: {access.Push, access.Delete},
	registry.ActRename: {access.Push, access.Delete}, registry.ActRemove: {access.Delete},
}

func (d *door) changeTags(ctx context.Context, in *tagChangesInput) (*desk.Reply[api.TagsChanged], error) {
	name, err := oci.ParseName(in.Repository)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	changes := make([]registry.TagChange, len(in.Body.Changes))
	var needed []access.Action
	for i, given := range in.Body.Changes {
		if changes[i], err = readTagChange(given); err != nil {
			return nil, desk.Refusal(err)
		}
		needed = append(needed, acts[changes[i].Act]...)
	}
	slices.Sort(needed)
	if err := d.May(ctx, name, slices.Compact(needed)...); err != nil {
		return nil, desk.Refusal(err)
	}
	if in.IfMatch != "" {
		if err := matchOne(in.IfMatch, changes); err != nil {
			return nil, desk.Refusal(err)
		}
	}
	done, err := d.Registry.ChangeTags(ctx, name, changes, in.Body.Reason)
	changed := api.TagsChanged{Changes: make([]api.TagChanged, len(done))}
	for i, c := range done {
		changed.Changes[i] = api.TagChanged{TagChange: in.Body.Changes[i], Before: c.Before, After: c.After}
		changed.Removal = max(changed.Removal, c.Removal)
	}
	if err != nil || changed.Removal == 0 {
		return desk.OK(changed, err)
	}
	namespace, err := d.Records.View(ctx).Namespace(name.Namespace())
	until := d.Upkeep.Clock.Now().Add(d.Access.Settings().Window(namespace.RestoreWindow))
	changed.Until = &until
	return desk.OK(changed, err)
}

// matchOne takes what the header says of the one change there is.
func matchOne(header string, changes []registry.TagChange) error {
	if len(changes) != 1 || changes[0].If != (registry.If{}) {
		return oci.Errorf(oci.CodeQueryInvalid, "If-Match is for one change that has no if of its own")
	}
	digest, err := oci.ParseIfMatch(header)
	if err != nil {
		return err
	}
	changes[0].If.Digest = digest
	return nil
}

func readTagChange(given api.TagChange) (registry.TagChange, error) {
	change := registry.TagChange{Act: registry.Act(given.Act), Tag: given.Tag, To: given.To, Name: given.Name, If: registry.If{Digest: given.If}}
	if _, err := oci.ParseTag(string(given.Tag)); err != nil {
		return change, err
	}
	if given.If != "" {
		if _, err := oci.ParseDigest(string(given.If)); err != nil {
			return change, err
		}
	}
	takesName, takesTarget := change.Act == registry.ActRename, change.Act == registry.ActAdd || change.Act == registry.ActMove
	switch {
	case takesTarget != (given.To != ""):
		return change, oci.Errorf(oci.CodeQueryInvalid, "the change %s of %s: to is for add and move, and they need it", given.Act, given.Tag)
	case takesName != (given.Name != ""):
		return change, oci.Errorf(oci.CodeQueryInvalid, "the change %s of %s: name is for rename, which needs it", given.Act, given.Tag)
	case takesName:
		_, err := oci.ParseTag(string(given.Name))
		return change, err
	}
	return change, nil
}

type tagLogInput struct {
	desk.RepositoryInput
	Tag    string `query:"tag" maxLength:"128" doc:"The tag, which may be gone; without it of all tags"`
	Before int64  `query:"before" minimum:"0" doc:"The next of the page before"`
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"100" doc:"Lines in the page"`
}

func (d *door) tagLog(ctx context.Context, in *tagLogInput) (*desk.Reply[api.TagMoveList], error) {
	name, err := oci.ParseName(in.Repository)
	if err == nil && in.Tag != "" {
		_, err = oci.ParseTag(in.Tag)
	}
	if err == nil {
		err = d.Visible(ctx, name)
	}
	if err != nil {
		return nil, desk.Refusal(err)
	}
	rows, there, err := d.Registry.TagLog(ctx, name, oci.Tag(in.Tag), in.Before, in.Limit+1)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	list := api.TagMoveList{Moves: make([]api.TagMove, 0, len(rows))}
	if len(rows) > in.Limit {
		rows = rows[:in.Limit]
		list.Next = rows[in.Limit-1].ID
	}
	tokens := d.Access.RoleIn(callers.From(ctx), name).Rank() >= record.Writer.Rank()
	for _, row := range rows {
		move := api.TagMove{
			ID: row.ID, Tag: row.Tag, At: record.Stamp(row.MovedAt).Time(), From: row.From, To: row.To, Until: desk.Moment(record.Stamp(row.UntilAt)),
			By: d.NameOf(row.MovedBy), Origin: string(row.Origin), There: there[row.To],
		}
		if tokens {
			move.Token = row.Token
		}
		if row.Origin == taglog.OriginPush {
			move.Origin = "push"
		}
		list.Moves = append(list.Moves, move)
	}
	return desk.OK(list, nil)
}

func (d *door) changeSeal(ctx context.Context, in *struct {
	desk.RepositoryInput
	Body api.SealChange
}) (*desk.None, error) {
	name, err := oci.ParseName(in.Repository)
	if err == nil {
		_, err = oci.ParseTag(string(in.Body.Tag))
	}
	takes := []access.Action{access.Push, access.Delete}
	if !in.Body.Seal {
		takes = []access.Action{access.Manage}
	}
	if err == nil {
		err = d.May(ctx, name, takes...)
	}
	if err != nil {
		return nil, desk.Refusal(err)
	}
	if !in.Body.Seal {
		return desk.Done(d.Upkeep.UnsealTag(ctx, callers.From(ctx), name, in.Body.Tag, in.Body.Reason))
	}
	return desk.Done(d.Upkeep.SealTag(ctx, callers.From(ctx), name, in.Body.Tag, in.Body.Reason))
}
