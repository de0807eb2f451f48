package rights

import (
	"context"
	"time"

	"warthesis/internal/access"
	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/record"
)

func scopesOf(scopes []record.Scope) []api.Scope {
	all := make([]api.Scope, len(scopes))
	for i, s := range scopes {
		all[i] = api.Scope{Pattern: s.Pattern, Actions: append([]string{}, s.Actions...)}
	}
	return all
}

func tokenOf(t record.Token, account string) api.Token {
	return api.Token{
		ID: t.ID, Account: account, Kind: string(t.Kind), Name: t.Name, Scopes: scopesOf(t.Scopes), CreatedAt: t.CreatedAt.Time(),
		EndsAt: desk.Moment(t.EndsAt), Ended: t.EndsAt != 0 && t.EndsAt.Time().Before(time.Now()), UsedAt: desk.Moment(t.UsedAt), UsedFrom: t.UsedFrom,
	}
}

// AccountInput names whose tokens are meant.
type AccountInput struct {
	Account string `query:"account" maxLength:"64" doc:"Whose; absent for the caller's own"`
}

func (in AccountInput) or(caller access.Caller) string {
	if in.Account != "" {
		return in.Account
	}
	return caller.Account.Name
}

func (d *door) tokens(ctx context.Context, in *struct {
	AccountInput
	Sessions bool `query:"sessions" doc:"Whether sessions of the console are listed as well"`
}) (*desk.Reply[api.TokenList], error) {
	caller := callers.From(ctx)
	rows, err := d.Access.Tokens(ctx, caller, in.Account, in.Sessions)
	list := api.TokenList{Tokens: make([]api.Token, len(rows))}
	for i, t := range rows {
		list.Tokens[i] = tokenOf(t, in.or(caller))
	}
	return desk.OK(list, err)
}

func (d *door) makeToken(ctx context.Context, in *struct{ Body api.NewToken }) (*desk.Reply[api.MadeToken], error) {
	caller := callers.From(ctx)
	n := access.NewToken{
		Account: in.Body.Account, Kind: record.TokenMade, Name: in.Body.Name, Life: time.Duration(in.Body.Days) * 24 * time.Hour, Password: in.Body.Password,
	}
	if in.Body.Login {
		n.Kind = record.TokenLogin
	}
	for _, s := range in.Body.Scopes {
		n.Scopes = append(n.Scopes, record.Scope{Pattern: s.Pattern, Actions: s.Actions})
	}
	t, secret, err := d.Access.MakeToken(ctx, caller, n)
	return desk.OK(api.MadeToken{Token: tokenOf(t, AccountInput{in.Body.Account}.or(caller)), Secret: secret}, err)
}

func (d *door) shortToken(ctx context.Context, _ *struct{}) (*desk.Reply[api.ShortToken], error) {
	caller := callers.From(ctx)
	bearer, err := d.Access.GiveShort(caller)
	return desk.OK(api.ShortToken{Account: caller.Account.Name, Secret: bearer.Token, EndsAt: bearer.Issued.Add(bearer.Life).UTC()}, err)
}

// TokenInput names a token. It is exported for the API library.
type TokenInput struct {
	AccountInput
	Token string `path:"token" maxLength:"100" doc:"Number or name of the token"`
}

func (d *door) revokeToken(ctx context.Context, in *TokenInput) (*desk.None, error) {
	return desk.Done(d.Access.RevokeToken(ctx, callers.From(ctx), in.Account, in.Token))
}

func (d *door) replaceToken(ctx context.Context, in *struct {
	TokenInput
	Body *api.Proof
}) (*desk.Reply[api.MadeToken], error) {
	caller := callers.From(ctx)
	password := ""
	if in.Body != nil {
		password = in.Body.Password
	}
	t, secret, err := d.Access.ReplaceToken(ctx, caller, in.Account, in.Token, password)
	return desk.OK(api.MadeToken{Token: tokenOf(t, in.or(caller)), Secret: secret}, err)
}
