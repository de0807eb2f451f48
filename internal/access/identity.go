package access

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/coreos/go-oidc/v3/oidc"
	"github.com/golang-jwt/jwt/v5"

	"warthesis/internal/access/issuers"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/rule"
)

// Trade returns who stands behind an identity of an issuer that an identity rule
// names: a machine account, for as long as the rule is there and the identity good.
func (a *Access) Trade(ctx context.Context, identity, address string) (Caller, error) {
	unknown := oci.Errorf(oci.CodeUnauthorized, "no identity rule of this registry fits the identity; a registry admin can make one")
	if len(identity) > mostIdentity {
		return Caller{}, unknown
	}
	var unverified jwt.RegisteredClaims
	if _, _, err := jwt.NewParser().ParseUnverified(identity, &unverified); err != nil {
		return Caller{}, oci.Errorf(oci.CodeUnauthorized, "the identity is no signed token (a JWT)")
	}
	rights := a.records.Rights()
	for _, asked := range rights.IdentityRules() {
		// An issuer is asked only where a rule names it.
		if asked.Issuer != unverified.Issuer || !slices.Contains(unverified.Audience, asked.Audience) || !rule.MatchText(asked.Subject, unverified.Subject) {
			continue
		}
		leave, err := a.issuers.Asking.Enter(address)
		if err != nil {
			return Caller{}, err
		}
		defer leave()
		p, err := a.Provider(ctx, asked.Issuer)
		if err != nil {
			return Caller{}, err
		}
		verified, err := p.Verifier(&oidc.Config{ClientID: asked.Audience, Now: a.clock.Now}).Verify(a.outgoing(ctx), identity)
		if err != nil || !rule.MatchText(asked.Subject, verified.Subject) {
			a.refusedNobody(record.Event{Address: address, Subject: "identity rule " + asked.Name, Detail: "an identity that is not good"})
			return Caller{}, oci.Errorf(oci.CodeUnauthorized, "the identity fits the rule %s, but its signature or its time is not right", asked.Name)
		}
		account, known := rights.Account(asked.AccountID)
		if !known || account.DisabledAt != 0 {
			return Caller{}, unknown
		}
		return Caller{Account: account, Rule: asked, Address: address, ends: verified.Expiry}, nil
	}
	a.refusedNobody(record.Event{Address: address, Detail: "an identity that no rule fits"})
	return Caller{}, unknown
}

// Provider returns an issuer.
func (a *Access) Provider(ctx context.Context, issuer string) (*oidc.Provider, error) {
	what := "the issuer of an identity rule"
	if company := a.companyIssuer.Load(); company != nil && *company == issuer {
		what = "the company's login"
	}
	return a.issuers.Provider(ctx, issuer, what)
}

// ErrIssuer: an issuer of identities, the company's login perhaps, does not answer.
var ErrIssuer = issuers.ErrIssuer

// mostIdentity is the longest identity in bytes.
const mostIdentity = 16 << 10

// MakeIdentityRule makes a rule by which an identity of an issuer is a machine account.
func (a *Access) MakeIdentityRule(ctx context.Context, c Caller, r record.IdentityRule, account string) error {
	if err := a.Admin(c, "make identity rules"); err != nil {
		return err
	}
	if err := a.lasting(c, "make identity rules"); err != nil {
		return err
	}
	if err := CheckName("an identity rule", r.Name); err != nil {
		return err
	}
	found, err := a.account(account)
	if err != nil {
		return err
	}
	if found.Kind != record.Machine {
		return oci.Errorf(oci.CodeQueryInvalid, "%s is a person; an identity rule is for a machine account", account)
	}
	r.AccountID = found.ID
	if err := a.issuers.Check(ctx, r.Issuer); err != nil {
		return err
	}
	e := c.Event(record.EventIdentityRuleMade)
	e.Subject = "identity rule " + r.Name
	e.Detail = fmt.Sprintf("%s of %s for %s is %s", r.Subject, r.Issuer, r.Audience, account)
	err = a.Change(ctx, c, e, func(tx *record.Tx) error { return tx.MakeIdentityRule(r) })
	if errors.Is(err, record.ErrTaken) {
		return conflict("the identity rule", r.Name)
	}
	return err
}

// RemoveIdentityRule removes a rule; what was got by it stops at the next request.
func (a *Access) RemoveIdentityRule(ctx context.Context, c Caller, name string) error {
	if err := a.Admin(c, "remove identity rules"); err != nil {
		return err
	}
	e := c.Event(record.EventIdentityRuleRemoved)
	e.Subject = "identity rule " + name
	err := a.Change(ctx, c, e, func(tx *record.Tx) error { return tx.RemoveIdentityRule(name) })
	if errors.Is(err, record.ErrNotFound) {
		return oci.Errorf(oci.CodeNameUnknown, "there is no identity rule %s here", name)
	}
	return err
}

// IdentityRules returns all rules, with the names of their accounts.
func (a *Access) IdentityRules(c Caller) ([]record.IdentityRule, map[int64]string, error) {
	if err := a.Admin(c, "see identity rules"); err != nil {
		return nil, nil, err
	}
	rights := a.records.Rights()
	names := map[int64]string{}
	for _, rule := range rights.IdentityRules() {
		account, _ := rights.Account(rule.AccountID)
		names[account.ID] = account.Name
	}
	return rights.IdentityRules(), names, nil
}
