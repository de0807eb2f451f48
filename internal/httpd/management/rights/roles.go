package rights

import (
	"context"
	"errors"
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

// grantsOf returns an account with those of its roles that the caller may see.
func (d *door) grantsOf(ctx context.Context, name string) (record.Account, []record.GrantRow, error) {
	shows, err := d.Access.MaySeeRoles(ctx, callers.From(ctx), name)
	if err != nil {
		return record.Account{}, nil, err
	}
	account, err := d.Records.View(ctx).Account(name)
	if errors.Is(err, record.ErrNotFound) {
		err = oci.Errorf(oci.CodeNameUnknown, "there is no account %s here", name)
	}
	if err != nil {
		return account, nil, err
	}
	rows, err := d.Records.GrantsOf(ctx, account.ID)
	return account, slices.DeleteFunc(rows, func(row record.GrantRow) bool { return !shows(placeOfGrant(row)) }), err
}

func (d *door) rolesOf(ctx context.Context, in *struct{ desk.NameInput }) (*desk.Reply[api.RoleList], error) {
	_, rows, err := d.grantsOf(ctx, in.Name)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	return desk.OK(api.RoleList{Roles: d.rolesFrom(rows)}, nil)
}

// PlaceInput names a repository, a namespace or, empty, the registry.
type PlaceInput struct {
	Place string `query:"place" maxLength:"255" doc:"A repository, a namespace or, empty, the registry"`
}

// roles shows who has roles to those who may pull there: members know each other.
func (d *door) roles(ctx context.Context, in *struct {
	PlaceInput
	Above bool `query:"above" doc:"Also who has a role there from above: from the namespace, from the registry, or as a registry admin"`
}) (*desk.Reply[api.RoleList], error) {
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
		if errors.Is(err, record.ErrNotFound) {
			err = oci.Errorf(oci.CodeNameUnknown, "there is no namespace %s here", name.Namespace())
		}
		if err != nil {
			return nil, desk.Refusal(err)
		}
		namespace = n.ID
	}
	rows, err := d.Records.GrantsIn(ctx, namespace)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	above := in.Above && d.Access.SeesAbove(caller)
	roles := []api.Role{}
	for _, role := range d.rolesFrom(rows) {
		if in.Place == "" || role.Place == in.Place || !strings.Contains(in.Place, "/") || above && role.Place != "" && !strings.Contains(role.Place, "/") {
			roles = append(roles, role)
		}
	}
	if above {
		roles, err = d.withRegistry(ctx, roles, namespace != 0)
	}
	return desk.OK(api.RoleList{Roles: roles}, err)
}

// withRegistry adds those who may in every place: with a role on the registry, and
// registry admins.
func (d *door) withRegistry(ctx context.Context, roles []api.Role, grants bool) ([]api.Role, error) {
	if grants {
		rows, err := d.Records.GrantsIn(ctx, 0)
		if err != nil {
			return nil, err
		}
		roles = append(roles, d.rolesFrom(rows)...)
	}
	for _, name := range d.Access.Admins() {
		roles = append(roles, api.Role{Account: name, Role: string(record.Owner), Admin: true})
	}
	return roles, nil
}

// roleUses tells what narrowing a role would have refused.
func (d *door) roleUses(ctx context.Context, in *struct {
	PlaceInput
	InsteadOf string `query:"instead_of" maxLength:"255" doc:"The wider place whose role would go; empty for the registry"`
	Account   string `query:"account" maxLength:"64"`
	Group     string `query:"group" maxLength:"64"`
	Role      string `query:"role" enum:"reader,writer,curator,owner"`
}) (*desk.Reply[api.RoleUses], error) {
	from, to, err := narrowed(in.InsteadOf, in.Place)
	if err == nil && (in.Account == "") == (in.Group == "") {
		err = oci.Errorf(oci.CodeQueryInvalid, "say whose role it is: an account's or a group's")
	}
	if err != nil {
		return nil, desk.Refusal(err)
	}
	uses, err := d.Access.RefusedByNarrowing(ctx, callers.From(ctx), access.Member{Account: in.Account, Group: in.Group}, from, to, record.Role(in.Role))
	list := api.RoleUses{Days: access.NarrowingDays, Refused: []api.RoleUse{}, PullsKnown: uses.PullsKnown}
	for _, use := range uses.Refused {
		list.Refused = append(list.Refused, api.RoleUse{Repository: use.Repository, Action: string(use.Action), Times: use.Times, LastAt: use.LastAt.Time()})
	}
	return desk.OK(list, err)
}

func narrowed(instead, place string) (from, to oci.Name, err error) {
	if from, err = placeOf(instead); err == nil {
		to, err = placeOf(place)
	}
	return from, to, err
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
	caller, member, role := callers.From(ctx), access.Member{Account: in.Body.Account, Group: in.Body.Group}, record.Role(in.Body.Role)
	if in.Body.InsteadOf == nil {
		return desk.Done(d.Access.GiveRole(ctx, caller, member, place, role))
	}
	wide, err := placeOf(*in.Body.InsteadOf)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	return desk.Done(d.Access.NarrowRole(ctx, caller, member, wide, place, role))
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
