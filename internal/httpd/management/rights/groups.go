package rights

import (
	"context"
	"slices"

	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/record"
)

func (d *door) groups(ctx context.Context, _ *struct{}) (*desk.Reply[api.GroupList], error) {
	if err := d.Access.MayList(ctx, callers.From(ctx)); err != nil {
		return nil, desk.Refusal(err)
	}
	rows := d.Access.Groups()
	list := api.GroupList{Groups: make([]api.Group, len(rows))}
	for i, g := range rows {
		list.Groups[i] = api.Group{Name: g.Name, Description: g.Description, Claim: g.Claim, Members: append([]string{}, g.Members...)}
	}
	return desk.OK(list, nil)
}

// group shows a group with those of its roles that the caller may see.
func (d *door) group(ctx context.Context, in *struct{ desk.NameInput }) (*desk.Reply[api.GroupWithRoles], error) {
	caller := callers.From(ctx)
	if err := d.Access.MayList(ctx, caller); err != nil {
		return nil, desk.Refusal(err)
	}
	shows, err := d.Access.MaySeeRoles(ctx, caller, "")
	if err != nil {
		return nil, desk.Refusal(err)
	}
	g, err := d.Access.Group(in.Name)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	rows, err := d.Records.GrantsOfGroup(ctx, g.ID)
	rows = slices.DeleteFunc(rows, func(row record.GrantRow) bool { return !shows(placeOfGrant(row)) })
	return desk.OK(api.GroupWithRoles{
		Group: api.Group{Name: g.Name, Description: g.Description, Claim: g.Claim, Members: append([]string{}, g.Members...)}, Roles: d.rolesFrom(rows),
	}, err)
}

func (d *door) makeGroup(ctx context.Context, in *struct{ Body api.NewGroup }) (*desk.Reply[api.Group], error) {
	g, err := d.Access.MakeGroup(ctx, callers.From(ctx), in.Body.Name, in.Body.Description, in.Body.Claim)
	return desk.OK(api.Group{Name: g.Name, Description: g.Description, Claim: g.Claim, Members: []string{}}, err)
}

func (d *door) changeGroup(ctx context.Context, in *struct {
	desk.NameInput
	Body api.GroupChange
}) (*desk.None, error) {
	return desk.Done(d.Access.ChangeGroup(ctx, callers.From(ctx), in.Name, in.Body.Description, in.Body.Claim))
}

func (d *door) removeGroup(ctx context.Context, in *struct{ desk.NameInput }) (*desk.None, error) {
	return desk.Done(d.Access.RemoveGroup(ctx, callers.From(ctx), in.Name))
}

type memberInput struct {
	desk.NameInput
	Account string `path:"account" maxLength:"64"`
}

func (d *door) joinGroup(ctx context.Context, in *memberInput) (*desk.None, error) {
	return desk.Done(d.Access.Join(ctx, callers.From(ctx), in.Name, in.Account))
}

func (d *door) leaveGroup(ctx context.Context, in *memberInput) (*desk.None, error) {
	return desk.Done(d.Access.Leave(ctx, callers.From(ctx), in.Name, in.Account))
}
