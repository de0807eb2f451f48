package rights

import (
	"context"

	"warthesis/internal/access"
	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/record"
)

func (d *door) accounts(ctx context.Context, in *struct{ desk.PageInput }) (*desk.Reply[api.AccountList], error) {
	if err := d.Access.MayList(ctx, callers.From(ctx)); err != nil {
		return nil, desk.Refusal(err)
	}
	page, err := in.Page()
	if err != nil {
		return nil, desk.Refusal(err)
	}
	rows, err := d.Records.Accounts(ctx, page)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	rows, next := desk.Cut(rows, in.Limit, func(a record.Account) desk.Cursor { return desk.Cursor{Name: a.Name, At: a.CreatedAt} })
	list := api.AccountList{Accounts: make([]api.Account, len(rows)), Next: next}
	for i, row := range rows {
		list.Accounts[i] = d.accountOf(row)
	}
	return desk.OK(list, nil)
}

func (d *door) accountOf(a record.Account) api.Account {
	return api.Account{
		Name: a.Name, Kind: string(a.Kind), Admin: a.Admin, Description: a.Description, Groups: d.Access.GroupsOf(a.ID), HasPassword: a.Password != "",
		Company: a.Issuer, CreatedAt: a.CreatedAt.Time(), Disabled: a.DisabledAt != 0,
	}
}

// account shows an account with those of its roles that the caller may see.
func (d *door) account(ctx context.Context, in *struct{ desk.NameInput }) (*desk.Reply[api.AccountWithRoles], error) {
	row, roles, err := d.grantsOf(ctx, in.Name)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	found := api.AccountWithRoles{Account: d.accountOf(row), Roles: d.rolesFrom(roles), May: []api.Scope{}}
	for _, may := range d.Access.Allowances(access.Caller{Account: row}, roles) {
		scope := api.Scope{Pattern: may.Pattern, Actions: []string{}}
		for _, action := range may.Actions {
			scope.Actions = append(scope.Actions, string(action))
		}
		found.May = append(found.May, scope)
	}
	return desk.OK(found, nil)
}

func (d *door) makeAccount(ctx context.Context, in *struct{ Body api.NewAccount }) (*desk.Reply[api.Account], error) {
	made, err := d.Access.MakeAccount(ctx, callers.From(ctx), access.NewAccount{
		Name: in.Body.Name, Kind: record.AccountKind(in.Body.Kind), Admin: in.Body.Admin, Description: in.Body.Description, Password: in.Body.Password,
	})
	return desk.OK(d.accountOf(made), err)
}

func (d *door) changeAccount(ctx context.Context, in *struct {
	desk.NameInput
	Body api.AccountChange
}) (*desk.None, error) {
	return desk.Done(d.Access.ChangeAccount(ctx, callers.From(ctx), in.Name, access.AccountChange{
		Description: in.Body.Description, Admin: in.Body.Admin, Disabled: in.Body.Disabled, OnOwn: in.Body.OnOwn,
	}))
}

func (d *door) setPassword(ctx context.Context, in *struct {
	desk.NameInput
	Body api.NewPassword
}) (*desk.None, error) {
	return desk.Done(d.Access.SetPassword(ctx, callers.From(ctx), in.Name, in.Body.Current, in.Body.Password))
}
