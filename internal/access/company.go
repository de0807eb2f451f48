package access

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"strings"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// CompanySettings say how the company's login is reached (OpenID Connect Core 1.0).
type CompanySettings struct {
	Issuer, Client, Secret string
	// AccountClaim names the account, and GroupsClaim lists its groups.
	AccountClaim, GroupsClaim string
}

// Company is the company's login, as the registry's client of an issuer. It keeps
// nothing of logins that have begun: what is needed to end one is sealed, and given
// to who began it. It is safe for concurrent use.
type Company struct {
	access   *Access
	settings CompanySettings
	seal     *seal
	// asked bounds how often the issuer is asked for one login.
	asked *asked
	// asking bounds the questions to the issuer that are under way.
	asking *Crowd
}

const (
	// loginPatience is how long a login may take to come back.
	loginPatience = 10 * time.Minute
	// CompanyLife is how long a terminal's login by the company lasts: after that
	// the company is asked again.
	CompanyLife = 7 * 24 * time.Hour
)

// NewCompany returns the company's login. The issuer is first asked when somebody
// logs in by it.
func (a *Access) NewCompany(s CompanySettings) (*Company, error) {
	sealing, err := newSeal()
	if err != nil {
		return nil, err
	}
	questions, err := newAsked()
	if err != nil {
		return nil, err
	}
	a.companyIssuer.Store(&s.Issuer)
	return &Company{access: a, settings: s, seal: sealing, asked: questions, asking: askingIssuers()}, nil
}

func (k *Company) client(ctx context.Context, redirect string) (*oauth2.Config, *oidc.Provider, error) {
	p, err := k.access.provider(ctx, k.settings.Issuer)
	if err != nil {
		return nil, nil, err
	}
	return &oauth2.Config{
		ClientID: k.settings.Client, ClientSecret: k.settings.Secret, Endpoint: p.Endpoint(), RedirectURL: redirect,
		Scopes: []string{oidc.ScopeOpenID, "profile", "email", k.settings.GroupsClaim},
	}, p, nil
}

// begun is a login in a browser that has not come back.
type begun struct {
	State    string    `json:"s"`
	Verifier string    `json:"v"`
	Nonce    string    `json:"n"`
	Redirect string    `json:"r"`
	To       string    `json:"t"`
	Until    time.Time `json:"u"`
}

// Begin starts a login in the browser: it returns where the browser is to go, and
// what it must bring back, sealed. to is where it goes in the end.
func (k *Company) Begin(ctx context.Context, redirect, to, from string) (address, sealed string, err error) {
	leave, err := k.asking.Enter(from)
	if err != nil {
		return "", "", err
	}
	defer leave()
	client, _, err := k.client(ctx, redirect)
	if err != nil {
		return "", "", err
	}
	state, _ := newSecret()
	nonce, _ := newSecret()
	b := begun{state, oauth2.GenerateVerifier(), nonce, redirect, to, k.access.clock.Now().Add(loginPatience)}
	if sealed, err = k.seal.close(b); err != nil {
		return "", "", err
	}
	return client.AuthCodeURL(state, oidc.Nonce(nonce), oauth2.S256ChallengeOption(b.Verifier)), sealed, nil
}

// End finishes a login in the browser and returns who it is, and where to go. state
// and code are what the issuer sent along, sealed is what Begin gave.
func (k *Company) End(ctx context.Context, sealed, state, code, address string) (Caller, string, error) {
	over := oci.Errorf(oci.CodeUnauthorized, "this login took too long, was used already, or began in another browser; begin again")
	var b begun
	if !k.seal.open(sealed, &b) || state == "" || b.State != state || k.access.clock.Now().After(b.Until) || !k.asked.once(state) {
		return Caller{}, "", over
	}
	leave, err := k.asking.Enter(address)
	if err != nil {
		return Caller{}, "", err
	}
	defer leave()
	client, p, err := k.client(ctx, b.Redirect)
	if err != nil {
		return Caller{}, "", err
	}
	token, err := client.Exchange(k.access.outgoing(ctx), code, oauth2.VerifierOption(b.Verifier))
	if err != nil {
		slog.Warn("the company's login refuses a code", "error", err)
		return Caller{}, "", oci.Errorf(oci.CodeUnauthorized, "the company's login did not confirm who you are; begin again")
	}
	caller, err := k.who(ctx, p, token, b.Nonce)
	return caller, b.To, err
}

// who verifies an ID token and returns the account that it stands for.
func (k *Company) who(ctx context.Context, p *oidc.Provider, token *oauth2.Token, nonce string) (Caller, error) {
	raw, _ := token.Extra("id_token").(string)
	verified, err := p.Verifier(&oidc.Config{ClientID: k.settings.Client, Now: k.access.clock.Now}).Verify(k.access.outgoing(ctx), raw)
	if err == nil && nonce != "" && verified.Nonce != nonce {
		err = errors.New("it is the answer to another login")
	}
	if err != nil {
		slog.Warn("an identity of the company is not good", "error", err)
		return Caller{}, oci.Errorf(oci.CodeUnauthorized, "what the company's login says cannot be trusted: its signature, audience or time is not right")
	}
	var claims map[string]json.RawMessage
	if err := verified.Claims(&claims); err != nil {
		return Caller{}, err
	}
	return k.account(ctx, verified.Subject, claims)
}

// account finds the account of an identity, or makes it, and keeps the groups that
// the company has it in.
func (k *Company) account(ctx context.Context, subject string, claims map[string]json.RawMessage) (Caller, error) {
	account, known := k.access.records.Rights().AccountOf(record.Identity{Issuer: k.settings.Issuer, Subject: subject})
	if !known {
		var err error
		if account, err = k.newAccount(ctx, subject, claims); err != nil {
			return Caller{}, err
		}
	}
	if account.DisabledAt != 0 {
		return Caller{}, oci.Errorf(oci.CodeUnauthorized, "the account %s is disabled here; a registry admin can enable it", account.Name)
	}
	return Caller{Account: account, proved: true}, k.keepGroups(ctx, account, claims)
}

func (k *Company) newAccount(ctx context.Context, subject string, claims map[string]json.RawMessage) (record.Account, error) {
	var said, about string
	// A claim that is no text names nobody.
	_ = json.Unmarshal(claims[k.settings.AccountClaim], &said)
	_ = json.Unmarshal(claims["name"], &about)
	name, _, _ := strings.Cut(strings.ToLower(said), "@")
	if err := checkName("an account", name); err != nil {
		return record.Account{}, oci.Errorf(oci.CodeUnauthorized, "the company's login calls you %.60q in its claim %s, and that is no name for an account here; whoever runs the registry can name another claim", said, k.settings.AccountClaim)
	}
	taken := oci.Errorf(oci.CodeUnauthorized, "there is an account %s here already that is not the company's; whoever runs the registry can name another claim", name)
	made := record.Account{Name: name, Kind: record.Person, Description: about, Issuer: k.settings.Issuer, Subject: subject}
	e := record.Event{Kind: record.EventAccountMade, Subject: "account " + name, Account: name, Detail: "by the company's login"}
	err := k.access.change(ctx, Caller{}, e, func(tx *record.Tx) (err error) {
		made, err = tx.MakeAccount(made)
		return err
	})
	if errors.Is(err, record.ErrTaken) {
		return made, taken
	}
	return made, err
}

// keepGroups makes the account a member of the groups whose claim the company says,
// and of no others that it knows.
func (k *Company) keepGroups(ctx context.Context, account record.Account, claims map[string]json.RawMessage) error {
	var said []string
	// A claim that is no list of names has no groups.
	_ = json.Unmarshal(claims[k.settings.GroupsClaim], &said)
	return k.access.records.Update(ctx, "company-groups", func(tx *record.Tx) error {
		names, changed, err := tx.KeepCompanyGroups(account.ID, said)
		if err != nil || !changed {
			return err
		}
		return tx.Log(record.Event{
			Kind: record.EventGroupChanged, Account: account.Name, Subject: "account " + account.Name,
			Detail: "in groups by the company's login: " + listed(names, "none"),
		})
	})
}
