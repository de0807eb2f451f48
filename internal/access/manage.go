package access

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// change runs a change of the records, with its line in the audit log.
func (a *Access) change(ctx context.Context, e record.Event, do func(*record.Tx) error) error {
	return a.records.Update(ctx, func(tx *record.Tx) error {
		if err := do(tx); err != nil {
			return err
		}
		return tx.Log(e)
	})
}

// denied notes a refusal and returns it.
func (a *Access) denied(c Caller, subject, format string, args ...any) error {
	err := oci.Errorf(oci.CodeDenied, format, args...)
	if c.Nobody() {
		err = oci.Errorf(oci.CodeUnauthorized, "not logged in: this takes a login")
	}
	e := c.Event(record.EventRefused)
	e.Subject, e.Detail = subject, err.Message
	a.Refused(e)
	return err
}

// admin refuses whoever is no registry admin.
func (a *Access) admin(c Caller, what string) error {
	if c.Account.Admin && c.whole() {
		return nil
	}
	if c.Account.Admin {
		return a.denied(c, what, "the token %q may not %s: that takes a token with the scope * and the action manage", c.TokenName(), what)
	}
	return a.denied(c, what, "%s may not %s: that takes a registry admin", c.who(), what)
}

// whole reports whether the credential covers all that the account may do.
func (c Caller) whole() bool {
	return c.asked == nil && (!c.Limited || slices.ContainsFunc(c.Token.Scopes, func(s record.Scope) bool {
		return s.Pattern == "*" && slices.Contains(s.Actions, string(Manage))
	}))
}

// MayManage refuses whoever may not change members and settings of a place: a
// repository, a namespace or, with an empty name, the registry.
func (a *Access) MayManage(ctx context.Context, c Caller, place oci.Name) error {
	if place == "" {
		return a.admin(c, "change members and settings of the registry")
	}
	name := place
	if !strings.Contains(string(place), "/") {
		name = place + "/"
	}
	v, err := a.Verdict(ctx, c, name, Manage)
	if err != nil || v.Allowed {
		return err
	}
	if !v.Known && !c.Nobody() {
		return a.denied(c, string(place), "there is no %s here that %s may know of", place, c.who())
	}
	return a.denied(c, string(place), "%s", strings.Replace(v.Reason, string(name), string(place), 1))
}

// MayList refuses whoever may not see accounts and groups: admins, those with a
// role on the registry, and owners may.
func (a *Access) MayList(ctx context.Context, c Caller) error {
	rights, err := a.records.Rights(ctx)
	if err != nil {
		return err
	}
	if !c.Nobody() && (ownsSomething(rights, c) || registryRole(rights, c.Account) != record.NoRole) && c.whole() {
		return nil
	}
	return a.denied(c, "accounts", "%s may not list accounts and groups: that takes an owner of a namespace or a role on the registry", c.who())
}

func ownsSomething(rights *record.Rights, c Caller) bool {
	return slices.ContainsFunc(rights.Grants[c.Account.ID], func(g record.Grant) bool { return g.Role == record.Owner })
}

// MayAudit refuses whoever may not read the audit log: whoever has a role on the
// registry may read all of it, an owner that of the own namespace.
func (a *Access) MayAudit(ctx context.Context, c Caller, namespace string) error {
	rights, err := a.records.Rights(ctx)
	if err != nil {
		return err
	}
	if registryRole(rights, c.Account) != record.NoRole && c.whole() {
		return nil
	}
	if namespace != "" {
		if v, err := a.Verdict(ctx, c, oci.Name(namespace+"/"), Manage); err != nil || v.Allowed {
			return err
		}
	}
	return a.denied(c, "audit log", "%s may not read this audit log: that takes a role on the registry, or owner of the namespace it is asked for", c.who())
}

// MayObserve refuses whoever may not see the figures of the process: those with a
// role on the registry may, by a token of any scope.
func (a *Access) MayObserve(ctx context.Context, c Caller) error {
	rights, err := a.records.Rights(ctx)
	if err != nil || registryRole(rights, c.Account) != record.NoRole {
		return err
	}
	return a.denied(c, "metrics", "%s may not see the figures of the process: that takes a role on the registry", c.who())
}

// AsLoggedIn refuses whoever has not logged in.
func (a *Access) AsLoggedIn(c Caller) error {
	if c.Nobody() {
		return oci.Errorf(oci.CodeUnauthorized, "not logged in: this takes a login")
	}
	return nil
}

var accountName = regexp.MustCompile(`^[a-z0-9]([a-z0-9._-]{0,62}[a-z0-9])?$`)

// reservedNames mean something where an account's name may stand.
var reservedNames = []string{"token", "nobody"}

func checkName(what, name string) error {
	if !accountName.MatchString(name) || slices.Contains(reservedNames, name) {
		return oci.Errorf(oci.CodeNameInvalid, "%q is no name for %s: up to 64 small letters, digits, '.', '_' and '-', beginning and ending with a letter or digit", name, what)
	}
	return nil
}

func conflict(what, name string) error {
	return oci.Errorf(oci.CodeInUse, "%s %s is there already", what, name)
}

// NewAccount is an account to be made.
type NewAccount struct {
	Name        string
	Kind        record.AccountKind
	Admin       bool
	Description string
	// Password is "" for an account that logs in by tokens or the company's login alone.
	Password string
}

// MakeAccount makes an account.
func (a *Access) MakeAccount(ctx context.Context, c Caller, n NewAccount) (record.Account, error) {
	if err := a.admin(c, "make accounts"); err != nil {
		return record.Account{}, err
	}
	return a.makeAccount(ctx, c, n)
}

func (a *Access) makeAccount(ctx context.Context, c Caller, n NewAccount) (record.Account, error) {
	made := record.Account{Name: n.Name, Kind: n.Kind, Admin: n.Admin, Description: n.Description, CreatedBy: c.Account.Name}
	if err := checkName("an account", n.Name); err != nil {
		return made, err
	}
	if n.Password != "" {
		if err := CheckPassword(n.Name, n.Password); err != nil {
			return made, err
		}
		var err error
		if made.Password, err = HashPassword(ctx, n.Password); err != nil {
			return made, err
		}
	}
	e := c.Event(record.EventAccountMade)
	e.Subject, e.Detail = "account "+n.Name, string(n.Kind)
	if n.Admin {
		e.Detail += ", registry admin"
	}
	err := a.change(ctx, e, func(tx *record.Tx) (err error) {
		made, err = tx.MakeAccount(made)
		return err
	})
	if errors.Is(err, record.ErrTaken) {
		return made, conflict("the account", n.Name)
	}
	return made, err
}

// FirstAdmin makes the first account where there is none, and returns its password
// where one had to be made up.
func (a *Access) FirstAdmin(ctx context.Context, password string) (made string, err error) {
	if has, err := a.records.HasAccounts(ctx); err != nil || has {
		return "", err
	}
	if password == "" {
		secret, _ := newSecret()
		made = secret[len(secretPrefix) : len(secretPrefix)+20]
		password = made
	}
	_, err = a.makeAccount(ctx, Caller{}, NewAccount{Name: "admin", Kind: record.Person, Admin: true, Description: "Registry admin", Password: password})
	return made, err
}

// AccountChange is what is to be changed of an account; nil fields stay.
type AccountChange struct {
	Description *string
	Admin       *bool
	Disabled    *bool
}

// ChangeAccount changes an account. Nobody can take the admin from the last one.
func (a *Access) ChangeAccount(ctx context.Context, c Caller, name string, change AccountChange) error {
	if err := a.admin(c, "change accounts"); err != nil {
		return err
	}
	account, err := a.account(ctx, name)
	if err != nil {
		return err
	}
	var said []string
	if change.Description != nil {
		account.Description = *change.Description
		said = append(said, "description")
	}
	if change.Admin != nil {
		account.Admin = *change.Admin
		said = append(said, fmt.Sprintf("registry admin: %t", *change.Admin))
	}
	if change.Disabled != nil {
		account.DisabledAt = 0
		if *change.Disabled {
			account.DisabledAt = record.StampOf(a.clock.Now())
		}
		said = append(said, fmt.Sprintf("disabled: %t", *change.Disabled))
	}
	if err := a.keepsAdmin(ctx, account); err != nil {
		return err
	}
	e := c.Event(record.EventAccountChanged)
	e.Subject, e.Detail = "account "+name, strings.Join(said, ", ")
	return a.change(ctx, e, func(tx *record.Tx) error { return tx.SaveAccount(account) })
}

// keepsAdmin refuses a change after which nobody administers the registry.
func (a *Access) keepsAdmin(ctx context.Context, changed record.Account) error {
	rights, err := a.records.Rights(ctx)
	if err != nil || changed.Admin && changed.DisabledAt == 0 {
		return err
	}
	for id, other := range rights.Accounts {
		if id != changed.ID && other.Admin && other.DisabledAt == 0 {
			return nil
		}
	}
	return oci.Errorf(oci.CodeInUse, "%s is the last registry admin; make another one first", changed.Name)
}

func (a *Access) account(ctx context.Context, name string) (record.Account, error) {
	rights, err := a.records.Rights(ctx)
	if err != nil {
		return record.Account{}, err
	}
	id, ok := rights.ByName[name]
	if !ok {
		return record.Account{}, oci.Errorf(oci.CodeNameUnknown, "there is no account %s here", name)
	}
	return rights.Accounts[id], nil
}

func (a *Access) group(ctx context.Context, name string) (record.Group, error) {
	rights, err := a.records.Rights(ctx)
	if err != nil {
		return record.Group{}, err
	}
	for _, g := range rights.Groups {
		if g.Name == name {
			return g, nil
		}
	}
	return record.Group{}, oci.Errorf(oci.CodeNameUnknown, "there is no group %s here", name)
}

// SetPassword gives an account another password: its own, with the one it has, or
// an admin anybody's. Sessions and logins of the account end.
func (a *Access) SetPassword(ctx context.Context, c Caller, name, current, password string) error {
	if err := a.AsLoggedIn(c); err != nil {
		return err
	}
	account, err := a.account(ctx, name)
	if name != c.Account.Name || !c.whole() {
		if err := a.admin(c, "set the passwords of others"); err != nil {
			return err
		}
	}
	if err != nil {
		return err
	}
	if name == c.Account.Name && account.Password != "" {
		if _, err := a.Password(ctx, name, current, c.Address); err != nil || looksLikeSecret(current) {
			return oci.Errorf(oci.CodeDenied, "the current password is wrong")
		}
	}
	if account.Kind == record.Machine {
		return oci.Errorf(oci.CodeQueryInvalid, "%s is a machine account: it logs in by tokens, or by an identity rule, and has no password", name)
	}
	if err := CheckPassword(name, password); err != nil {
		return err
	}
	if account.Password, err = HashPassword(ctx, password); err != nil {
		return err
	}
	tokens, err := a.records.TokensOf(ctx, account.ID, true)
	if err != nil {
		return err
	}
	e := c.Event(record.EventPasswordChanged)
	e.Subject = "account " + name
	return a.change(ctx, e, func(tx *record.Tx) error {
		for _, t := range tokens {
			if t.Kind != record.TokenMade && t.ID != c.Token.ID {
				if err := tx.RevokeToken(t.ID); err != nil {
					return err
				}
			}
		}
		return tx.SaveAccount(account)
	})
}

// MakeGroup makes a group. claim is its name at the company's login, or "".
func (a *Access) MakeGroup(ctx context.Context, c Caller, name, description, claim string) (made record.Group, err error) {
	if err := a.admin(c, "make groups"); err != nil {
		return made, err
	}
	if err := checkName("a group", name); err != nil {
		return made, err
	}
	e := c.Event(record.EventGroupMade)
	e.Subject = "group " + name
	err = a.change(ctx, e, func(tx *record.Tx) (err error) {
		made, err = tx.MakeGroup(record.Group{Name: name, Description: description, Claim: claim})
		return err
	})
	if errors.Is(err, record.ErrTaken) {
		return made, conflict("the group", name)
	}
	return made, err
}

// ChangeGroup changes what is given of a group.
func (a *Access) ChangeGroup(ctx context.Context, c Caller, name string, description, claim *string) error {
	return a.onGroup(ctx, c, name, record.EventGroupChanged, "description or claim", func(tx *record.Tx, g record.Group) error {
		if description != nil {
			g.Description = *description
		}
		if claim != nil {
			g.Claim = *claim
		}
		return tx.SaveGroup(g)
	})
}

// RemoveGroup removes a group, and with it the roles it gave.
func (a *Access) RemoveGroup(ctx context.Context, c Caller, name string) error {
	return a.onGroup(ctx, c, name, record.EventGroupRemoved, "", func(tx *record.Tx, g record.Group) error { return tx.RemoveGroup(g) })
}

func (a *Access) onGroup(ctx context.Context, c Caller, name string, kind record.EventKind, detail string, do func(*record.Tx, record.Group) error) error {
	if err := a.admin(c, "change groups"); err != nil {
		return err
	}
	g, err := a.group(ctx, name)
	if err != nil {
		return err
	}
	e := c.Event(kind)
	e.Subject, e.Detail = "group "+name, detail
	return a.change(ctx, e, func(tx *record.Tx) error { return do(tx, g) })
}

// Join puts an account into a group.
func (a *Access) Join(ctx context.Context, c Caller, group, account string) error {
	member, err := a.account(ctx, account)
	if err != nil {
		return errors.Join(a.admin(c, "change groups"), err)
	}
	return a.onGroup(ctx, c, group, record.EventGroupChanged, "joined by "+account, func(tx *record.Tx, g record.Group) error {
		return tx.Join(g.ID, member.ID)
	})
}

// Leave takes an account out of a group.
func (a *Access) Leave(ctx context.Context, c Caller, group, account string) error {
	member, err := a.account(ctx, account)
	if err != nil {
		return errors.Join(a.admin(c, "change groups"), err)
	}
	return a.onGroup(ctx, c, group, record.EventGroupChanged, "left by "+account, func(tx *record.Tx, g record.Group) error {
		return tx.Leave(g.ID, member.ID)
	})
}

// Member names an account or a group.
type Member struct {
	Account string
	Group   string
}

func (m Member) String() string {
	if m.Group != "" {
		return "group " + m.Group
	}
	return "account " + m.Account
}

// SayPlace names a repository, a namespace or, with an empty name, the registry.
func SayPlace(place oci.Name) string {
	switch {
	case place == "":
		return "the registry"
	case strings.Contains(string(place), "/"):
		return "repository " + string(place)
	}
	return "namespace " + string(place)
}

// target finds the member and the place of a grant.
func (a *Access) target(ctx context.Context, m Member, place oci.Name) (record.Grant, error) {
	var g record.Grant
	if m.Group != "" {
		group, err := a.group(ctx, m.Group)
		if err != nil {
			return g, err
		}
		g.GroupID = group.ID
	} else {
		account, err := a.account(ctx, m.Account)
		if err != nil {
			return g, err
		}
		g.AccountID = account.ID
	}
	if place == "" {
		return g, nil
	}
	if !strings.Contains(string(place), "/") {
		n, err := a.records.View(ctx).Namespace(string(place))
		if errors.Is(err, record.ErrNotFound) {
			return g, oci.Errorf(oci.CodeNameUnknown, "there is no namespace %s here", place)
		}
		g.NamespaceID = n.ID
		return g, err
	}
	r, err := a.records.Repository(ctx, place)
	if errors.Is(err, record.ErrNotFound) {
		return g, oci.Errorf(oci.CodeNameUnknown, "there is no repository %s here; make it first, so that the role has a place", place)
	}
	g.RepositoryID = r.ID
	return g, err
}

// GiveRole gives an account or a group a role in a place; it replaces the one it
// had there.
func (a *Access) GiveRole(ctx context.Context, c Caller, m Member, place oci.Name, role record.Role) error {
	if err := a.MayManage(ctx, c, place); err != nil {
		return err
	}
	if role.Rank() == 0 {
		return oci.Errorf(oci.CodeQueryInvalid, "%q is no role; the roles are reader, writer, curator and owner", role)
	}
	g, err := a.target(ctx, m, place)
	if err != nil {
		return err
	}
	g.Role, g.GrantedBy = role, c.Account.Name
	e := c.placeEvent(record.EventRoleGranted, place)
	e.Detail = fmt.Sprintf("%s to %s", role, m)
	return a.change(ctx, e, func(tx *record.Tx) error { return tx.Give(g) })
}

// placeEvent starts a line of the audit log about a place.
func (c Caller) placeEvent(kind record.EventKind, place oci.Name) record.Event {
	e := c.Event(kind)
	if strings.Contains(string(place), "/") {
		e.Repository = place
	} else {
		e.Subject = SayPlace(place)
	}
	return e
}

// TakeRole takes the role that an account or a group has in a place.
func (a *Access) TakeRole(ctx context.Context, c Caller, m Member, place oci.Name) error {
	if err := a.MayManage(ctx, c, place); err != nil {
		return err
	}
	g, err := a.target(ctx, m, place)
	if err != nil {
		return err
	}
	e := c.placeEvent(record.EventRoleTaken, place)
	e.Detail = "from " + m.String()
	err = a.change(ctx, e, func(tx *record.Tx) error { return tx.TakeRole(g) })
	if errors.Is(err, record.ErrNotFound) {
		return oci.Errorf(oci.CodeNameUnknown, "%s has no role of its own in %s", m, SayPlace(place))
	}
	return err
}

// NewToken is a token to be made.
type NewToken struct {
	// Account is "" for the caller's own.
	Account string
	Kind    record.TokenKind
	Name    string
	Scopes  []record.Scope
	// Life is how long it is good; 0 is without end.
	Life time.Duration
}

const (
	mostTokenScopes = 50
	mostTokens      = 1000
)

// MakeToken makes a token and returns it with its secret, which is told this once.
func (a *Access) MakeToken(ctx context.Context, c Caller, n NewToken) (record.Token, string, error) {
	account, err := a.tokenOwner(ctx, c, n.Account)
	if err != nil {
		return record.Token{}, "", err
	}
	if n.Kind == record.TokenMade {
		if err := checkScopes(n.Scopes); err != nil {
			return record.Token{}, "", err
		}
	}
	if err := a.within(c, n); err != nil {
		return record.Token{}, "", err
	}
	if n.Name == "" || len(n.Name) > 100 {
		return record.Token{}, "", oci.Errorf(oci.CodeNameInvalid, "a token needs a name of up to 100 characters that tells where it is used")
	}
	return a.giveToken(ctx, c, account, n)
}

// within refuses a token that may more than the one by which it is made.
func (a *Access) within(c Caller, n NewToken) error {
	if !c.Limited {
		return nil
	}
	for _, s := range n.Scopes {
		for _, action := range s.Actions {
			// A pattern covers another where it matches it as it is written.
			if !inScopes(c.Token.Scopes, s.Pattern, Action(action)) {
				return a.denied(c, "tokens", "the token %q may not make one that may %s in %s: it may not do that itself", c.TokenName(), action, s.Pattern)
			}
		}
	}
	if n.Kind != record.TokenMade {
		return a.denied(c, "tokens", "the token %q is for a program, and signs nobody in; use the account's password or the company's login", c.TokenName())
	}
	return nil
}

func (a *Access) giveToken(ctx context.Context, c Caller, account record.Account, n NewToken) (record.Token, string, error) {
	secret, hash := newSecret()
	t := record.Token{AccountID: account.ID, Kind: n.Kind, Name: n.Name, Hash: hash, Scopes: n.Scopes}
	if n.Life > 0 {
		t.EndsAt = record.StampOf(a.clock.Now().Add(n.Life))
	}
	e := c.Event(record.EventTokenMade)
	if n.Kind != record.TokenMade {
		e.Kind = record.EventLogin
	}
	e.Subject, e.Detail = "account "+account.Name, fmt.Sprintf("token %q", n.Name)
	err := a.change(ctx, e, func(tx *record.Tx) (err error) {
		t, err = tx.MakeToken(t)
		return err
	})
	return t, secret, err
}

// tokenOwner returns whose tokens the caller works on: its own, or as an admin
// those of any account.
func (a *Access) tokenOwner(ctx context.Context, c Caller, name string) (record.Account, error) {
	if err := a.AsLoggedIn(c); err != nil {
		return record.Account{}, err
	}
	if name != "" && name != c.Account.Name {
		if err := a.admin(c, "work on the tokens of others"); err != nil {
			return record.Account{}, err
		}
		return a.account(ctx, name)
	}
	if !c.whole() {
		return record.Account{}, a.denied(c, "tokens", "the token %q may not make, list or revoke tokens: that takes a login, or a token with the scope * and the action manage", c.TokenName())
	}
	return c.Account, nil
}

var scopePattern = regexp.MustCompile(`^[a-z0-9._/*-]{1,255}$`)

func checkScopes(scopes []record.Scope) error {
	if len(scopes) == 0 || len(scopes) > mostTokenScopes {
		return oci.Errorf(oci.CodeQueryInvalid, "a token needs at least one scope and at most %d, such as timetable/*:pull", mostTokenScopes)
	}
	for _, s := range scopes {
		if !scopePattern.MatchString(s.Pattern) {
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
	owner, err := a.tokenOwner(ctx, c, account)
	if err != nil {
		return nil, err
	}
	return a.records.TokensOf(ctx, owner.ID, sessions)
}

// RevokeToken ends a token, by its ID or its name; it acts at the next request.
func (a *Access) RevokeToken(ctx context.Context, c Caller, account, which string) error {
	owner, t, err := a.findToken(ctx, c, account, which)
	if err != nil {
		return err
	}
	e := c.Event(record.EventTokenRevoked)
	e.Subject, e.Detail = "account "+owner.Name, fmt.Sprintf("token %q", t.Name)
	return a.change(ctx, e, func(tx *record.Tx) error { return tx.RevokeToken(t.ID) })
}

func (a *Access) findToken(ctx context.Context, c Caller, account, which string) (record.Account, record.Token, error) {
	owner, err := a.tokenOwner(ctx, c, account)
	if err != nil {
		return owner, record.Token{}, err
	}
	tokens, err := a.records.TokensOf(ctx, owner.ID, true)
	if err != nil {
		return owner, record.Token{}, err
	}
	var named []record.Token
	for _, t := range tokens {
		if fmt.Sprint(t.ID) == which {
			return owner, t, nil
		}
		if t.Name == which {
			named = append(named, t)
		}
	}
	switch len(named) {
	case 0:
		return owner, record.Token{}, oci.Errorf(oci.CodeNameUnknown, "%s has no token %s", owner.Name, which)
	case 1:
		return owner, named[0], nil
	}
	return owner, record.Token{}, oci.Errorf(oci.CodeQueryInvalid, "%s has %d tokens called %s; name one by its number", owner.Name, len(named), which)
}

// ReplaceToken ends a token and makes one of the same name, scopes and remaining
// life in its place.
func (a *Access) ReplaceToken(ctx context.Context, c Caller, account, which string) (record.Token, string, error) {
	owner, old, err := a.findToken(ctx, c, account, which)
	if err != nil {
		return record.Token{}, "", err
	}
	secret, hash := newSecret()
	t := record.Token{AccountID: owner.ID, Kind: old.Kind, Name: old.Name, Hash: hash, Scopes: old.Scopes}
	if old.EndsAt != 0 {
		t.EndsAt = record.StampOf(a.clock.Now()) + old.EndsAt - old.CreatedAt
	}
	e := c.Event(record.EventTokenMade)
	e.Subject, e.Detail = "account "+owner.Name, fmt.Sprintf("token %q in place of the one of that name, which is revoked", t.Name)
	err = a.change(ctx, e, func(tx *record.Tx) (err error) {
		if err := tx.RevokeToken(old.ID); err != nil {
			return err
		}
		t, err = tx.MakeToken(t)
		return err
	})
	return t, secret, err
}

// SignOut ends the token by which the caller came.
func (a *Access) SignOut(ctx context.Context, c Caller) error {
	if c.Token.ID == 0 || c.Token.Kind == record.TokenMade {
		return nil
	}
	e := c.Event(record.EventLogout)
	e.Subject = "account " + c.Account.Name
	err := a.change(ctx, e, func(tx *record.Tx) error { return tx.RevokeToken(c.Token.ID) })
	if errors.Is(err, record.ErrNotFound) {
		return nil
	}
	return err
}
