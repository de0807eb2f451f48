package access

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"github.com/golang-jwt/jwt/v5"
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

// Company is the company's login, as the registry's client of an issuer. It is safe
// for concurrent use.
type Company struct {
	access   *Access
	settings CompanySettings

	mu sync.Mutex
	// begun are logins in the browser that have not come back, by state.
	begun map[string]begun
	// devices are logins of terminals, by handle.
	devices map[string]*device
}

type begun struct {
	verifier, nonce, redirect, to string
	until                         time.Duration
}

// device is a login of a terminal that waits for somebody to confirm it elsewhere.
type device struct {
	until time.Duration
	done  bool
	// caller and err are set when it is done.
	caller Caller
	err    error
}

const (
	// loginPatience is how long a login may take to come back.
	loginPatience = 10 * time.Minute
	// mostBegun is how many logins may be under way at once.
	mostBegun = 1000
	// CompanyLife is how long a terminal's login by the company lasts: after that
	// the company is asked again.
	CompanyLife = 7 * 24 * time.Hour
)

// NewCompany returns the company's login. The issuer is first asked when somebody
// logs in by it.
func (a *Access) NewCompany(s CompanySettings) *Company {
	return &Company{access: a, settings: s, begun: map[string]begun{}, devices: map[string]*device{}}
}

var errCompany = errors.New("the company's login cannot be reached")

// issuers keeps what issuers say about themselves.
type issuers struct {
	mu    sync.Mutex
	known map[string]*oidc.Provider
}

// provider returns an issuer, which is asked once for where it does what.
func (a *Access) provider(ctx context.Context, issuer string) (*oidc.Provider, error) {
	a.issuers.mu.Lock()
	known := a.issuers.known[issuer]
	a.issuers.mu.Unlock()
	if known != nil {
		return known, nil
	}
	// The keys are fetched later by the same context: it must not end with a request.
	found, err := oidc.NewProvider(context.WithoutCancel(ctx), issuer)
	if err != nil {
		slog.Error("an issuer of identities does not answer", "issuer", issuer, "error", err)
		return nil, fmt.Errorf("%w: %s does not answer as an issuer", errCompany, issuer)
	}
	a.issuers.mu.Lock()
	defer a.issuers.mu.Unlock()
	if a.issuers.known == nil {
		a.issuers.known = map[string]*oidc.Provider{}
	}
	a.issuers.known[issuer] = found
	return found, nil
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

// Begin starts a login in the browser: it returns where the browser is to go, and
// the state that must come back with it. to is where it goes in the end.
func (k *Company) Begin(ctx context.Context, redirect, to string) (address, state string, err error) {
	client, _, err := k.client(ctx, redirect)
	if err != nil {
		return "", "", err
	}
	state, _ = newSecret()
	nonce, _ := newSecret()
	b := begun{oauth2.GenerateVerifier(), nonce, redirect, to, k.access.clock.Served() + loginPatience}
	k.mu.Lock()
	defer k.mu.Unlock()
	k.clear()
	if len(k.begun) >= mostBegun {
		return "", "", oci.Errorf(oci.CodeTooManyRequests, "too many logins are under way; try again in some minutes")
	}
	k.begun[state] = b
	return client.AuthCodeURL(state, oidc.Nonce(nonce), oauth2.S256ChallengeOption(b.verifier)), state, nil
}

// clear drops what took too long. The caller holds the mutex.
func (k *Company) clear() {
	now := k.access.clock.Served()
	for state, b := range k.begun {
		if b.until < now {
			delete(k.begun, state)
		}
	}
	for handle, d := range k.devices {
		if d.until < now {
			delete(k.devices, handle)
		}
	}
}

// End finishes a login in the browser and returns who it is, and where to go.
func (k *Company) End(ctx context.Context, state, code string) (Caller, string, error) {
	k.mu.Lock()
	b, ok := k.begun[state]
	delete(k.begun, state)
	k.mu.Unlock()
	if !ok || b.until < k.access.clock.Served() {
		return Caller{}, "", oci.Errorf(oci.CodeUnauthorized, "this login took too long or was used already; begin again")
	}
	client, p, err := k.client(ctx, b.redirect)
	if err != nil {
		return Caller{}, "", err
	}
	token, err := client.Exchange(ctx, code, oauth2.VerifierOption(b.verifier))
	if err != nil {
		slog.Warn("the company's login refuses a code", "error", err)
		return Caller{}, "", oci.Errorf(oci.CodeUnauthorized, "the company's login did not confirm who you are; begin again")
	}
	caller, err := k.who(ctx, p, token, b.nonce)
	return caller, b.to, err
}

// who verifies an ID token and returns the account that it stands for.
func (k *Company) who(ctx context.Context, p *oidc.Provider, token *oauth2.Token, nonce string) (Caller, error) {
	raw, _ := token.Extra("id_token").(string)
	verified, err := p.Verifier(&oidc.Config{ClientID: k.settings.Client, Now: k.access.clock.Now}).Verify(ctx, raw)
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
	a := k.access
	rights, err := a.records.Rights(ctx)
	if err != nil {
		return Caller{}, err
	}
	var account record.Account
	for _, known := range rights.Accounts {
		if known.Issuer == k.settings.Issuer && known.Subject == subject {
			account = known
		}
	}
	if account.ID == 0 {
		if account, err = k.newAccount(ctx, rights, subject, claims); err != nil {
			return Caller{}, err
		}
	}
	if account.DisabledAt != 0 {
		return Caller{}, oci.Errorf(oci.CodeUnauthorized, "the account %s is disabled here; a registry admin can enable it", account.Name)
	}
	return Caller{Account: account}, k.keepGroups(ctx, rights, account, claims)
}

func (k *Company) newAccount(ctx context.Context, rights *record.Rights, subject string, claims map[string]json.RawMessage) (record.Account, error) {
	var said, about string
	// A claim that is no text names nobody.
	_ = json.Unmarshal(claims[k.settings.AccountClaim], &said)
	_ = json.Unmarshal(claims["name"], &about)
	name, _, _ := strings.Cut(strings.ToLower(said), "@")
	if err := checkName("an account", name); err != nil {
		return record.Account{}, oci.Errorf(oci.CodeUnauthorized, "the company's login calls you %.60q in its claim %s, and that is no name for an account here; whoever runs the registry can name another claim", said, k.settings.AccountClaim)
	}
	if _, taken := rights.ByName[name]; taken {
		return record.Account{}, oci.Errorf(oci.CodeUnauthorized, "there is an account %s here already that is not the company's; a registry admin can rename or disable it", name)
	}
	made := record.Account{Name: name, Kind: record.Person, Description: about, Issuer: k.settings.Issuer, Subject: subject}
	e := record.Event{Kind: record.EventAccountMade, Subject: "account " + name, Account: name, Detail: "by the company's login"}
	err := k.access.change(ctx, e, func(tx *record.Tx) (err error) {
		made, err = tx.MakeAccount(made)
		return err
	})
	return made, err
}

// keepGroups makes the account a member of the groups whose claim the company says,
// and of no others that it knows.
func (k *Company) keepGroups(ctx context.Context, rights *record.Rights, account record.Account, claims map[string]json.RawMessage) error {
	var said []string
	// A claim that is no list of names has no groups.
	_ = json.Unmarshal(claims[k.settings.GroupsClaim], &said)
	var groups []int64
	var names []string
	for id, g := range rights.Groups {
		if g.Claim != "" && slices.Contains(said, g.Claim) {
			groups, names = append(groups, id), append(names, g.Name)
		}
	}
	slices.Sort(names)
	return k.access.records.Update(ctx, func(tx *record.Tx) error {
		changed, err := tx.KeepCompanyGroups(account.ID, groups)
		if err != nil || !changed {
			return err
		}
		return tx.Log(record.Event{
			Kind: record.EventGroupChanged, Account: account.Name, Subject: "account " + account.Name,
			Detail: "in groups by the company's login: " + listed(names, "none"),
		})
	})
}

// Device is what somebody at a terminal is told.
type Device struct {
	// Handle is asked for the outcome, every Interval.
	Handle   string
	Interval time.Duration
	// UserCode is to be entered at Address; Complete has it in it, where the issuer
	// gives one.
	UserCode, Address, Complete string
}

// BeginDevice starts a login of a terminal (RFC 8628): somebody confirms it in a
// browser, anywhere.
func (k *Company) BeginDevice(ctx context.Context) (Device, error) {
	client, p, err := k.client(ctx, "")
	if err != nil {
		return Device{}, err
	}
	if client.Endpoint.DeviceAuthURL == "" {
		return Device{}, oci.Errorf(oci.CodeUnsupported, "the company's login has no way for terminals; make a token in the console and log in by that")
	}
	given, err := client.DeviceAuth(ctx)
	if err != nil {
		slog.Warn("the company's login begins no login of a terminal", "error", err)
		return Device{}, fmt.Errorf("%w: it begins no login of a terminal", errCompany)
	}
	handle, _ := newSecret()
	d := &device{until: k.access.clock.Served() + loginPatience}
	k.mu.Lock()
	defer k.mu.Unlock()
	k.clear()
	if len(k.devices) >= mostBegun {
		return Device{}, oci.Errorf(oci.CodeTooManyRequests, "too many logins are under way; try again in some minutes")
	}
	k.devices[handle] = d
	k.access.ended.Go(func() { k.await(client, p, given, d) })
	return Device{handle, time.Duration(max(1, given.Interval)) * time.Second, given.UserCode, given.VerificationURI, given.VerificationURIComplete}, nil
}

// await asks the issuer until somebody confirmed the login, refused it, or it took
// too long.
func (k *Company) await(client *oauth2.Config, p *oidc.Provider, given *oauth2.DeviceAuthResponse, d *device) {
	ctx, cancel := context.WithTimeout(context.Background(), loginPatience)
	defer cancel()
	go func() {
		select {
		case <-k.access.stop:
			cancel()
		case <-ctx.Done():
		}
	}()
	var caller Caller
	token, err := client.DeviceAccessToken(ctx, given)
	if err != nil {
		err = oci.Errorf(oci.CodeUnauthorized, "the login was not confirmed; begin again")
	} else {
		caller, err = k.who(ctx, p, token, "")
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	d.done, d.caller, d.err = true, caller, err
}

// EndDevice returns who confirmed a login of a terminal, or that nobody has yet.
func (k *Company) EndDevice(handle string) (caller Caller, done bool, err error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	d, ok := k.devices[handle]
	if !ok || d.until < k.access.clock.Served() {
		return Caller{}, false, oci.Errorf(oci.CodeUnauthorized, "this login took too long or is over; begin again")
	}
	if !d.done {
		return Caller{}, false, nil
	}
	delete(k.devices, handle)
	return d.caller, true, d.err
}

// NewLogin gives a login to somebody whom the company has named.
func (a *Access) NewLogin(ctx context.Context, c Caller, name string, life time.Duration) (record.Token, string, error) {
	return a.giveToken(ctx, c, c.Account, NewToken{Kind: record.TokenLogin, Name: name, Life: life})
}

// Trade returns who stands behind an identity of an issuer that an identity rule
// names: a machine account, for as long as the rule is there.
func (a *Access) Trade(ctx context.Context, identity, address string) (Caller, error) {
	unknown := oci.Errorf(oci.CodeUnauthorized, "no identity rule of this registry fits the identity; a registry admin can make one")
	if len(identity) > mostIdentity {
		return Caller{}, unknown
	}
	var unverified jwt.RegisteredClaims
	if _, _, err := jwt.NewParser().ParseUnverified(identity, &unverified); err != nil {
		return Caller{}, oci.Errorf(oci.CodeUnauthorized, "the identity is no signed token (a JWT)")
	}
	rights, err := a.records.Rights(ctx)
	if err != nil {
		return Caller{}, err
	}
	for _, rule := range rights.Rules {
		// An issuer is asked only where a rule names it.
		if rule.Issuer != unverified.Issuer || !slices.Contains(unverified.Audience, rule.Audience) || !matchesPattern(rule.Subject, unverified.Subject) {
			continue
		}
		p, err := a.provider(ctx, rule.Issuer)
		if err != nil {
			return Caller{}, err
		}
		verified, err := p.Verifier(&oidc.Config{ClientID: rule.Audience, Now: a.clock.Now}).Verify(ctx, identity)
		if err != nil || !matchesPattern(rule.Subject, verified.Subject) {
			a.Refused(record.Event{Address: address, Subject: "identity rule " + rule.Name, Detail: "an identity that is not good"})
			return Caller{}, oci.Errorf(oci.CodeUnauthorized, "the identity fits the rule %s, but its signature or its time is not right", rule.Name)
		}
		account := rights.Accounts[rule.AccountID]
		if account.DisabledAt != 0 {
			return Caller{}, unknown
		}
		return Caller{Account: account, Token: record.Token{Name: rule.Name}, Address: address}, nil
	}
	a.Refused(record.Event{Address: address, Detail: "an identity that no rule fits"})
	return Caller{}, unknown
}

// mostIdentity is the longest identity in bytes.
const mostIdentity = 16 << 10

// MakeIdentityRule makes a rule by which an identity of an issuer is a machine account.
func (a *Access) MakeIdentityRule(ctx context.Context, c Caller, r record.IdentityRule, account string) error {
	if err := a.admin(c, "make identity rules"); err != nil {
		return err
	}
	if err := checkName("an identity rule", r.Name); err != nil {
		return err
	}
	found, err := a.account(ctx, account)
	if err != nil {
		return err
	}
	if found.Kind != record.Machine {
		return oci.Errorf(oci.CodeQueryInvalid, "%s is a person; an identity rule is for a machine account", account)
	}
	r.AccountID = found.ID
	e := c.Event(record.EventIdentityRuleMade)
	e.Subject = "identity rule " + r.Name
	e.Detail = fmt.Sprintf("%s of %s for %s is %s", r.Subject, r.Issuer, r.Audience, account)
	err = a.change(ctx, e, func(tx *record.Tx) error { return tx.MakeIdentityRule(r) })
	if errors.Is(err, record.ErrTaken) {
		return conflict("the identity rule", r.Name)
	}
	return err
}

// RemoveIdentityRule removes a rule; what was got by it stops at the next request.
func (a *Access) RemoveIdentityRule(ctx context.Context, c Caller, name string) error {
	if err := a.admin(c, "remove identity rules"); err != nil {
		return err
	}
	e := c.Event(record.EventIdentityRuleRemoved)
	e.Subject = "identity rule " + name
	err := a.change(ctx, e, func(tx *record.Tx) error { return tx.RemoveIdentityRule(name) })
	if errors.Is(err, record.ErrNotFound) {
		return oci.Errorf(oci.CodeNameUnknown, "there is no identity rule %s here", name)
	}
	return err
}

// IdentityRules returns all rules, with the names of their accounts.
func (a *Access) IdentityRules(ctx context.Context, c Caller) ([]record.IdentityRule, map[int64]string, error) {
	if err := a.admin(c, "see identity rules"); err != nil {
		return nil, nil, err
	}
	rights, err := a.records.Rights(ctx)
	if err != nil {
		return nil, nil, err
	}
	names := map[int64]string{}
	for id, account := range rights.Accounts {
		names[id] = account.Name
	}
	return rights.Rules, names, nil
}
