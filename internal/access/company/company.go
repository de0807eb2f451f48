package company

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"warthesis/internal/access"
	"warthesis/internal/access/crowd"
	"warthesis/internal/access/issuers"
	"warthesis/internal/clock"
	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// Settings say how the company's login is reached (OpenID Connect Core 1.0).
type Settings struct {
	Issuer, Client, Secret string
	// AccountClaim names the account, and GroupsClaim lists its groups.
	AccountClaim, GroupsClaim string
}

// Company is the company's login, as the registry's client of an issuer. It keeps
// nothing of logins that have begun: what is needed to end one is sealed, and given
// to who began it. It is safe for concurrent use.
type Company struct {
	access   *access.Access
	clock    clock.Clock
	settings Settings
	seal     *seal
	// asked bounds how often the issuer is asked for one login.
	asked *asked
	// asking bounds the questions to the issuer that are under way.
	asking *crowd.Crowd
}

const (
	// loginPatience is how long a login may take to come back.
	loginPatience = 10 * time.Minute
	// Life is how long a terminal's login by the company lasts: after that
	// the company is asked again.
	Life = 7 * 24 * time.Hour
)

// New returns the company's login. The issuer is first asked when somebody
// logs in by it.
func New(a *access.Access, clk clock.Clock, s Settings) (*Company, error) {
	sealing, err := newSeal()
	if err != nil {
		return nil, err
	}
	questions, err := newAsked()
	if err != nil {
		return nil, err
	}
	a.TrustIssuer(s.Issuer)
	return &Company{access: a, clock: clk, settings: s, seal: sealing, asked: questions, asking: issuers.Asking()}, nil
}

func (k *Company) client(ctx context.Context, redirect string) (*oauth2.Config, *oidc.Provider, error) {
	p, err := k.access.Provider(ctx, k.settings.Issuer)
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
	state, _ := access.NewSecret()
	nonce, _ := access.NewSecret()
	b := begun{state, oauth2.GenerateVerifier(), nonce, redirect, to, k.clock.Now().Add(loginPatience)}
	if sealed, err = k.seal.close(b); err != nil {
		return "", "", err
	}
	return client.AuthCodeURL(state, oidc.Nonce(nonce), oauth2.S256ChallengeOption(b.Verifier)), sealed, nil
}

// End finishes a login in the browser and returns who it is, and where to go. state
// and code are what the issuer sent along, sealed is what Begin gave.
func (k *Company) End(ctx context.Context, sealed, state, code, address string) (access.Caller, string, error) {
	over := oci.Errorf(oci.CodeUnauthorized, "this login took too long, was used already, or began in another browser; begin again")
	var b begun
	if !k.seal.open(sealed, &b) || state == "" || b.State != state || k.clock.Now().After(b.Until) || !k.asked.once(state) {
		return access.Caller{}, "", over
	}
	leave, err := k.asking.Enter(address)
	if err != nil {
		return access.Caller{}, "", err
	}
	defer leave()
	client, p, err := k.client(ctx, b.Redirect)
	if err != nil {
		return access.Caller{}, "", err
	}
	token, err := client.Exchange(k.access.Asking(ctx), code, oauth2.VerifierOption(b.Verifier))
	if err != nil {
		slog.Warn("the company's login refuses a code", "error", err)
		return access.Caller{}, "", oci.Errorf(oci.CodeUnauthorized, "the company's login did not confirm who you are; begin again")
	}
	caller, err := k.who(ctx, p, token, b.Nonce)
	return caller, b.To, err
}

// who verifies an ID token and returns the account that it stands for.
func (k *Company) who(ctx context.Context, p *oidc.Provider, token *oauth2.Token, nonce string) (access.Caller, error) {
	raw, _ := token.Extra("id_token").(string)
	verified, err := p.Verifier(&oidc.Config{ClientID: k.settings.Client, Now: k.clock.Now}).Verify(k.access.Asking(ctx), raw)
	if err == nil && nonce != "" && verified.Nonce != nonce {
		err = errors.New("it is the answer to another login")
	}
	if err != nil {
		slog.Warn("an identity of the company is not good", "error", err)
		return access.Caller{}, oci.Errorf(oci.CodeUnauthorized, "what the company's login says cannot be trusted: its signature, audience or time is not right")
	}
	var claims map[string]json.RawMessage
	if err := verified.Claims(&claims); err != nil {
		return access.Caller{}, err
	}
	return k.access.Arrive(ctx, k.said(verified.Subject, claims))
}

// said returns what the claims say in words of access. Claims that are no text name
// nobody, and one that is no list of names has no groups.
func (k *Company) said(subject string, claims map[string]json.RawMessage) access.Newcomer {
	n := access.Newcomer{Identity: record.Identity{Issuer: k.settings.Issuer, Subject: subject}, Claim: k.settings.AccountClaim}
	_ = json.Unmarshal(claims[k.settings.AccountClaim], &n.Named)
	_ = json.Unmarshal(claims["name"], &n.About)
	_ = json.Unmarshal(claims[k.settings.GroupsClaim], &n.Groups)
	return n
}
