package rights

import (
	"context"
	"slices"
	"strings"
	"time"

	"warthesis/internal/access"
	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// unusedAfter is the age at which a role that was not used is worth a look.
const unusedAfter = 90 * 24 * time.Hour

func (d *door) rolesFrom(rows []record.GrantRow) []api.Role {
	roles := make([]api.Role, len(rows))
	before := record.StampOf(time.Now().Add(-unusedAfter))
	for i, row := range rows {
		roles[i] = api.Role{
			Place: string(placeOfGrant(row)), Role: string(row.Role), Account: row.Account, Group: row.Group,
			GrantedAt: row.GrantedAt.Time(), GrantedBy: row.GrantedBy, UsedAt: desk.Moment(row.UsedAt),
			Unused: row.GrantedAt < before && row.UsedAt < before,
		}
	}
	return roles
}

// placeOfGrant names the place of a grant, "" for the registry.
func placeOfGrant(row record.GrantRow) oci.Name {
	if row.Repository != "" {
		return row.Repository
	}
	return oci.Name(row.Namespace)
}

func (d *door) rolesOf(ctx context.Context, in *struct{ desk.NameInput }) (*desk.Reply[api.RoleList], error) {
	shows, err := d.Access.MaySeeRoles(ctx, callers.From(ctx), in.Name)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	account, err := d.Records.View(ctx).Account(in.Name)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	rows, err := d.Records.GrantsOf(ctx, account.ID)
	rows = slices.DeleteFunc(rows, func(row record.GrantRow) bool { return !shows(placeOfGrant(row)) })
	return desk.OK(api.RoleList{Roles: d.rolesFrom(rows)}, err)
}

// PlaceInput names a repository, a namespace or, empty, the registry.
type PlaceInput struct {
	Place string `query:"place" maxLength:"255" doc:"A repository, a namespace or, empty, the registry"`
}

// roles shows who has roles to those who may pull there: members know each other.
func (d *door) roles(ctx context.Context, in *struct{ PlaceInput }) (*desk.Reply[api.RoleList], error) {
	caller := callers.From(ctx)
	if err := d.Access.AsLoggedIn(caller); err != nil {
		return nil, desk.Refusal(err)
	}
	var namespace int64
	if in.Place == "" {
		if err := d.Access.MayList(ctx, caller); err != nil {
			return nil, desk.Refusal(err)
		}
	} else {
		name, err := oci.ParseName(in.Place)
		if err != nil {
			return nil, desk.Refusal(err)
		}
		if !d.Access.IsMember(caller, name.Namespace()) {
			return nil, desk.Refusal(oci.Errorf(oci.CodeNameUnknown, "there is no %s whose members you may see", access.SayPlace(name)))
		}
		n, err := d.Records.View(ctx).Namespace(name.Namespace())
		if err != nil {
			return nil, desk.Refusal(err)
		}
		namespace = n.ID
	}
	rows, err := d.Records.GrantsIn(ctx, namespace)
	roles := []api.Role{}
	for _, role := range d.rolesFrom(rows) {
		if in.Place == "" || role.Place == in.Place || !strings.Contains(in.Place, "/") {
			roles = append(roles, role)
		}
	}
	return desk.OK(api.RoleList{Roles: roles}, err)
}

func placeOf(s string) (oci.Name, error) {
	if s == "" {
		return "", nil
	}
	return oci.ParseName(s)
}

func (d *door) giveRole(ctx context.Context, in *struct{ Body api.NewRole }) (*desk.None, error) {
	place, err := placeOf(in.Body.Place)
	if err == nil && (in.Body.Account == "") == (in.Body.Group == "") {
		err = oci.Errorf(oci.CodeQueryInvalid, "say who gets the role: an account or a group")
	}
	if err != nil {
		return nil, desk.Refusal(err)
	}
	return desk.Done(d.Access.GiveRole(ctx, callers.From(ctx), access.Member{Account: in.Body.Account, Group: in.Body.Group}, place, record.Role(in.Body.Role)))
}

func (d *door) takeRole(ctx context.Context, in *struct {
	PlaceInput
	Account string `query:"account" maxLength:"64"`
	Group   string `query:"group" maxLength:"64"`
}) (*desk.None, error) {
	place, err := placeOf(in.Place)
	if err == nil && (in.Account == "") == (in.Group == "") {
		err = oci.Errorf(oci.CodeQueryInvalid, "say whose role goes: an account's or a group's")
	}
	if err != nil {
		return nil, desk.Refusal(err)
	}
	return desk.Done(d.Access.TakeRole(ctx, callers.From(ctx), access.Member{Account: in.Account, Group: in.Group}, place))
}
