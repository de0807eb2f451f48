package access

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/rule"
)

// NewToken is a token to be made.
type NewToken struct {
	// Account is "" for the caller's own.
	Account string
	Kind    record.TokenKind
	Name    string
	Scopes  []record.Scope
	// Life is how long it is good; 0 is without end.
	Life time.Duration
	// Password, where given, is that of the caller's account: it proves who asks anew,
	// so that the token may outlast the credential by which it is made.
	Password string
}

const (
	mostTokenScopes = 50
	// mostTokens is how many tokens one account has; of logins and sessions the ones
	// that were used longest ago end when there are more.
	mostTokens   = 1000
	mostLogins   = 1000
	mostSessions = 100
)

// MakeToken makes a token and returns it with its secret, which is told this once.
// It ends no later than the credential by which it is made.
func (a *Access) MakeToken(ctx context.Context, c Caller, n NewToken) (record.Token, string, error) {
	account, err := a.tokenOwner(c, n.Account)
	if err != nil {
		return record.Token{}, "", err
	}
	if n.Kind == record.TokenMade {
		if err := checkScopes(n.Scopes); err != nil {
			return record.Token{}, "", err
		}
	}
	if err := a.within(c, n.Kind, n.Scopes); err != nil {
		return record.Token{}, "", err
	}
	if n.Name == "" || len(n.Name) > 100 {
		return record.Token{}, "", oci.Errorf(oci.CodeNameInvalid, "a token needs a name of up to 100 characters that tells where it is used")
	}
	if c, err = a.proven(ctx, c, n.Password); err != nil {
		return record.Token{}, "", err
	}
	return a.giveToken(ctx, c, account, n)
}

// proven returns the caller as one that has proved anew who it is, where a password
// is given. A token with scopes stays bounded by them whatever its bearer knows.
func (a *Access) proven(ctx context.Context, c Caller, password string) (Caller, error) {
	if password == "" {
		return c, nil
	}
	err := a.proves(ctx, c, password)
	c.proved = err == nil
	return c, err
}

// NewLogin gives a login to somebody whom the company has named.
func (a *Access) NewLogin(ctx context.Context, c Caller, name string, life time.Duration) (record.Token, string, error) {
	return a.giveToken(ctx, c, c.Account, NewToken{Kind: record.TokenLogin, Name: name, Life: life})
}

// within refuses a token that may more than the one by which it is made.
func (a *Access) within(c Caller, kind record.TokenKind, scopes []record.Scope) error {
	if !c.Limited {
		return nil
	}
	for _, s := range scopes {
		for _, action := range s.Actions {
			// A pattern covers another where it matches it as it is written.
			if !inScopes(c.Token.Scopes, s.Pattern, Action(action)) {
				return a.Denied(c, "tokens", "the token %q may not make one that may %s in %s: it may not do that itself", c.TokenName(), action, s.Pattern)
			}
		}
	}
	if kind != record.TokenMade {
		return a.Denied(c, "tokens", "the token %q is for a program, and signs nobody in; use the account's password or the company's login", c.TokenName())
	}
	return nil
}

func (a *Access) giveToken(ctx context.Context, c Caller, account record.Account, n NewToken) (record.Token, string, error) {
	secret, hash := NewSecret()
	t := record.Token{AccountID: account.ID, Kind: n.Kind, Name: n.Name, Hash: hash, Scopes: n.Scopes}
	if n.Life > 0 {
		t.EndsAt = record.StampOf(a.clock.Now().Add(n.Life))
	}
	a.bind(c, &t)
	e := c.Event(record.EventTokenMade)
	if n.Kind != record.TokenMade {
		e.Kind = record.EventLogin
	}
	e.Subject, e.Detail = "account "+account.Name, fmt.Sprintf("token %q", n.Name)
	err := a.Change(ctx, c, e, func(tx *record.Tx) (err error) {
		if err := room(tx, account, n.Kind); err != nil {
			return err
		}
		t, err = keepToken(tx, t, 0)
		return err
	})
	return t, secret, err
}

// keepToken records a token where that by which it is made stands still; it may be
// the one that it replaces.
func keepToken(tx *record.Tx, t record.Token, replaced int64) (record.Token, error) {
	if t.ParentID != 0 && t.ParentID != replaced {
		if _, err := tx.Token(t.ParentID); err != nil {
			return t, errors.Join(passNotFound(err), errToken)
		}
	}
	if t.RuleID != 0 {
		rules, err := tx.IdentityRules(context.Background())
		if err != nil || !slices.ContainsFunc(rules, func(r record.IdentityRule) bool { return r.ID == t.RuleID }) {
			return t, errors.Join(err, errToken)
		}
	}
	return tx.MakeToken(t)
}

// room makes room for one more token of a kind, or refuses it.
func room(tx *record.Tx, account record.Account, kind record.TokenKind) error {
	switch kind {
	case record.TokenSession:
		return tx.EndOldest(account.ID, kind, mostSessions-1)
	case record.TokenLogin:
		return tx.EndOldest(account.ID, kind, mostLogins-1)
	}
	count, err := tx.CountTokens(account.ID, kind, tx.Now())
	if err == nil && count >= mostTokens {
		err = oci.Errorf(oci.CodeInUse, "%s has %d tokens, and more are not possible; revoke those that are not used", account.Name, count)
	}
	return err
}

// tokenOwner returns whose tokens the caller works on: its own, or as an admin
// those of any account.
func (a *Access) tokenOwner(c Caller, name string) (record.Account, error) {
	if err := a.AsLoggedIn(c); err != nil {
		return record.Account{}, err
	}
	if name != "" && name != c.Account.Name {
		if err := a.Admin(c, "work on the tokens of others"); err != nil {
			return record.Account{}, err
		}
		return a.account(name)
	}
	if !c.Whole() {
		return record.Account{}, a.Denied(c, "tokens", "the token %q may not make, list or revoke tokens: that takes a login, or a token with the scope * and the action manage", c.TokenName())
	}
	return c.Account, nil
}

func checkScopes(scopes []record.Scope) error {
	if len(scopes) == 0 || len(scopes) > mostTokenScopes {
		return oci.Errorf(oci.CodeQueryInvalid, "a token needs at least one scope and at most %d, such as timetable/*:pull", mostTokenScopes)
	}
	for _, s := range scopes {
		if p, err := rule.ParsePattern(s.Pattern); err != nil || p.HasTag() {
			return oci.Errorf(oci.CodeQueryInvalid, "%q is no pattern of repository names; write a name, or one with * for any text, as in timetable/*", s.Pattern)
		}
		if len(s.Actions) == 0 {
			return oci.Errorf(oci.CodeQueryInvalid, "the scope %s has no actions; say pull, push, delete or manage", s.Pattern)
		}
		for _, action := range s.Actions {
			if !slices.Contains([]Action{Pull, Push, Delete, Manage}, Action(action)) {
				return oci.Errorf(oci.CodeQueryInvalid, "%q is no action; the actions are pull, push, delete and manage", action)
			}
		}
	}
	return nil
}

// Tokens returns the tokens of an account that are not revoked.
func (a *Access) Tokens(ctx context.Context, c Caller, account string, sessions bool) ([]record.Token, error) {
	owner, err := a.tokenOwner(c, account)
	if err != nil {
		return nil, err
	}
	return a.records.View(ctx).TokensOf(owner.ID, sessions)
}

// RevokeToken ends a token, by its ID or its name, and all that was made by it; it
// acts at the next request.
func (a *Access) RevokeToken(ctx context.Context, c Caller, account, which string) error {
	owner, err := a.tokenOwner(c, account)
	if err != nil {
		return err
	}
	t, err := findToken(a.records.View(ctx), owner, which)
	if err != nil {
		return err
	}
	e := c.Event(record.EventTokenRevoked)
	e.Subject, e.Detail = "account "+owner.Name, fmt.Sprintf("token %q", t.Name)
	err = a.Change(ctx, c, e, func(tx *record.Tx) error { return tx.RevokeToken(t.ID) })
	if errors.Is(err, record.ErrNotFound) {
		return noToken(owner, which)
	}
	return err
}

func noToken(owner record.Account, which string) error {
	return oci.Errorf(oci.CodeNameUnknown, "%s has no token %s", owner.Name, which)
}

// findToken returns a token of an account by its ID or its name.
func findToken(view record.View, owner record.Account, which string) (record.Token, error) {
	tokens, err := view.TokensOf(owner.ID, true)
	if err != nil {
		return record.Token{}, err
	}
	var named []record.Token
	for _, t := range tokens {
		if strconv.FormatInt(t.ID, 10) == which {
			return t, nil
		}
		if t.Name == which {
			named = append(named, t)
		}
	}
	switch len(named) {
	case 0:
		return record.Token{}, noToken(owner, which)
	case 1:
		return named[0], nil
	}
	return record.Token{}, oci.Errorf(oci.CodeQueryInvalid, "%s has %d tokens called %s; name one by its number", owner.Name, len(named), which)
}

// ReplaceToken ends a token and makes one of the same name, scopes and life in its
// place, within the scopes and the end of the credential that asks; password is as
// in NewToken.
func (a *Access) ReplaceToken(ctx context.Context, c Caller, account, which, password string) (record.Token, string, error) {
	owner, err := a.tokenOwner(c, account)
	if err != nil {
		return record.Token{}, "", err
	}
	if c, err = a.proven(ctx, c, password); err != nil {
		return record.Token{}, "", err
	}
	secret, hash := NewSecret()
	var t record.Token
	e := c.Event(record.EventTokenMade)
	e.Subject, e.Detail = "account "+owner.Name, fmt.Sprintf("token %q in place of the one of that name, which is revoked", which)
	err = a.Change(ctx, c, e, func(tx *record.Tx) error {
		old, err := findToken(tx.View, owner, which)
		if err != nil {
			return err
		}
		if err := a.within(c, old.Kind, old.Scopes); err != nil {
			return err
		}
		t = record.Token{AccountID: owner.ID, Kind: old.Kind, Name: old.Name, Hash: hash, Scopes: old.Scopes}
		if old.EndsAt != 0 {
			t.EndsAt = tx.Now() + old.EndsAt - old.CreatedAt
		}
		a.bind(c, &t)
		if t.ParentID == old.ID {
			// It replaces itself: what it was made by is what its successor was made by.
			t.ParentID, t.RuleID = old.ParentID, old.RuleID
		}
		if err := tx.RevokeToken(old.ID); err != nil {
			return err
		}
		t, err = keepToken(tx, t, old.ID)
		return err
	})
	return t, secret, err
}

// SignOut ends the login by which the caller came.
func (a *Access) SignOut(ctx context.Context, c Caller) error {
	if c.Token.ID == 0 || c.Token.Kind == record.TokenMade || c.asked != nil {
		return nil
	}
	e := c.Event(record.EventLogout)
	e.Subject = "account " + c.Account.Name
	err := a.Change(ctx, c, e, func(tx *record.Tx) error { return tx.EndLogin(c.Token.ID) })
	return passNotFound(err)
}
