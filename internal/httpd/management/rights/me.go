package rights

import (
	"context"

	"warthesis/internal/access"
	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/record"
)

func (d *door) me(ctx context.Context, _ *struct{}) (*desk.Reply[api.Me], error) {
	return desk.OK(d.meOf(ctx, callers.From(ctx)))
}

func (d *door) meOf(ctx context.Context, caller access.Caller) (api.Me, error) {
	me := api.Me{Groups: []string{}, Roles: []api.Role{}, May: []api.Scope{}}
	if caller.Nobody() {
		return me, nil
	}
	offers, err := d.Access.Offers(ctx, caller)
	if err != nil {
		return me, err
	}
	rows, err := d.Records.GrantsOf(ctx, caller.Account.ID)
	if err != nil {
		return me, err
	}
	me = api.Me{
		Account: caller.Account.Name, Kind: string(caller.Account.Kind), Admin: offers.Admin, Groups: d.Access.GroupsOf(caller.Account.ID), Token: caller.TokenName(),
		EndsAt: desk.Moment(record.StampOf(caller.Ends())), Roles: []api.Role{}, May: []api.Scope{}, MakesNamespaces: offers.MakesNamespaces,
		ListsAccounts: offers.ListsAccounts, ReadsAudit: offers.ReadsAudit, HasPassword: caller.Account.Password != "",
	}
	for _, one := range d.Access.Allowances(caller, rows) {
		allowed := api.Scope{Pattern: one.Pattern}
		for _, action := range one.Actions {
			allowed.Actions = append(allowed.Actions, string(action))
		}
		me.May = append(me.May, allowed)
	}
	if caller.Limited {
		me.Scopes = scopesOf(caller.Token.Scopes)
	}
	// The roles of the account are those of this login where nothing bounds it.
	if !caller.Bounded() {
		me.Roles = d.rolesFrom(rows)
	}
	return me, nil
}
