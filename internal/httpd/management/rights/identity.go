package rights

import (
	"context"

	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/record"
)

func (d *door) tradeIdentity(ctx context.Context, in *struct{ Body api.Identity }) (*desk.Reply[api.ShortToken], error) {
	before := callers.From(ctx)
	caller, err := d.Access.Trade(ctx, in.Body.Identity, before.Address)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	bearer, err := d.Access.GiveShort(caller)
	return desk.OK(api.ShortToken{Account: caller.Account.Name, Secret: bearer.Token, EndsAt: bearer.Issued.Add(bearer.Life).UTC()}, err)
}

func (d *door) identityRules(ctx context.Context, _ *struct{}) (*desk.Reply[api.IdentityRuleList], error) {
	rules, names, err := d.Access.IdentityRules(callers.From(ctx))
	list := api.IdentityRuleList{Rules: []api.IdentityRule{}}
	for _, r := range rules {
		list.Rules = append(list.Rules, api.IdentityRule{Name: r.Name, Issuer: r.Issuer, Audience: r.Audience, Subject: r.Subject, Account: names[r.AccountID]})
	}
	return desk.OK(list, err)
}

func (d *door) makeIdentityRule(ctx context.Context, in *struct{ Body api.IdentityRule }) (*desk.None, error) {
	b := in.Body
	return desk.Done(d.Access.MakeIdentityRule(ctx, callers.From(ctx), record.IdentityRule{Name: b.Name, Issuer: b.Issuer, Audience: b.Audience, Subject: b.Subject}, b.Account))
}

func (d *door) removeIdentityRule(ctx context.Context, in *struct{ desk.NameInput }) (*desk.None, error) {
	return desk.Done(d.Access.RemoveIdentityRule(ctx, callers.From(ctx), in.Name))
}
