package management

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"warthesis/internal/access"
	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// registerRights registers all about accounts, roles, tokens and places.
func (d *door) registerRights(a huma.API) {
	at := func(method, path, id, summary string) huma.Operation {
		return huma.Operation{Method: method, Path: "/api/v1" + path, OperationID: id, Summary: summary}
	}
	huma.Register(a, at(http.MethodPost, "/session", "sign-in", "Sign in to the console"), d.signIn)
	huma.Register(a, at(http.MethodDelete, "/session", "sign-out", "Sign out, or end a login"), d.signOut)
	huma.Register(a, at(http.MethodGet, "/me", "me", "Who asks, and what they may do"), d.me)
	huma.Register(a, at(http.MethodGet, "/verdict", "verdict", "Whether the caller may do something"), d.verdict)

	huma.Register(a, at(http.MethodGet, "/tokens", "tokens", "List tokens"), d.tokens)
	huma.Register(a, at(http.MethodPost, "/tokens", "make-token", "Make a token"), d.makeToken)
	huma.Register(a, at(http.MethodPost, "/tokens/short", "short-token", "Get a token that stands for the caller's login for a short time"), d.shortToken)
	huma.Register(a, at(http.MethodDelete, "/tokens/{token}", "revoke-token", "Revoke a token"), d.revokeToken)
	huma.Register(a, at(http.MethodPost, "/tokens/{token}/replace", "replace-token", "Revoke a token and make one like it"), d.replaceToken)

	huma.Register(a, at(http.MethodGet, "/accounts", "accounts", "List accounts"), d.accounts)
	huma.Register(a, at(http.MethodPost, "/accounts", "make-account", "Make an account"), d.makeAccount)
	huma.Register(a, at(http.MethodPatch, "/accounts/{name}", "change-account", "Change an account"), d.changeAccount)
	huma.Register(a, at(http.MethodPut, "/accounts/{name}/password", "set-password", "Set a password"), d.setPassword)
	huma.Register(a, at(http.MethodGet, "/accounts/{name}/roles", "roles-of", "The roles of an account"), d.rolesOf)

	huma.Register(a, at(http.MethodGet, "/groups", "groups", "List groups"), d.groups)
	huma.Register(a, at(http.MethodPost, "/groups", "make-group", "Make a group"), d.makeGroup)
	huma.Register(a, at(http.MethodPatch, "/groups/{name}", "change-group", "Change a group"), d.changeGroup)
	huma.Register(a, at(http.MethodDelete, "/groups/{name}", "remove-group", "Remove a group"), d.removeGroup)
	huma.Register(a, at(http.MethodPut, "/groups/{name}/members/{account}", "join-group", "Put an account into a group"), d.joinGroup)
	huma.Register(a, at(http.MethodDelete, "/groups/{name}/members/{account}", "leave-group", "Take an account out of a group"), d.leaveGroup)

	huma.Register(a, at(http.MethodGet, "/namespaces", "namespaces", "List namespaces"), d.namespaces)
	huma.Register(a, at(http.MethodPost, "/namespaces", "make-namespace", "Make a namespace"), d.makeNamespace)
	huma.Register(a, at(http.MethodGet, "/namespaces/{name}", "namespace", "One namespace"), d.namespace)
	huma.Register(a, at(http.MethodPatch, "/namespaces/{name}", "change-namespace", "Change a namespace"), d.changeNamespace)
	huma.Register(a, at(http.MethodDelete, "/namespaces/{name}", "remove-namespace", "Remove a namespace with its repositories"), d.removeNamespace)
	huma.Register(a, at(http.MethodPost, "/namespaces/{name}/restore", "restore-namespace", "Restore a removed namespace"), d.restoreNamespace)
	huma.Register(a, at(http.MethodPost, "/repositories", "make-repository", "Make a repository"), d.makeRepository)
	huma.Register(a, at(http.MethodPatch, "/repository", "change-repository", "Change a repository"), d.changeRepository)
	huma.Register(a, at(http.MethodDelete, "/repository", "remove-repository", "Remove a repository"), d.removeRepository)
	huma.Register(a, at(http.MethodPost, "/repository/restore", "restore-repository", "Restore a removed repository"), d.restoreRepository)
	huma.Register(a, at(http.MethodGet, "/removed", "removed", "What was removed and can be restored"), d.removed)
	huma.Register(a, at(http.MethodPost, "/teams", "make-team", "Make a namespace, a group and the roles between them"), d.makeTeam)

	huma.Register(a, at(http.MethodGet, "/roles", "roles", "Who has which roles in a place"), d.roles)
	huma.Register(a, at(http.MethodPut, "/roles", "give-role", "Give a role"), d.giveRole)
	huma.Register(a, at(http.MethodDelete, "/roles", "take-role", "Take a role"), d.takeRole)

	huma.Register(a, at(http.MethodGet, "/settings", "settings", "The registry's settings"), d.settings)
	huma.Register(a, at(http.MethodPut, "/settings", "change-settings", "Change the registry's settings"), d.changeSettings)
	huma.Register(a, at(http.MethodGet, "/audit", "audit", "Read the audit log"), d.audit)
	huma.Register(a, at(http.MethodGet, "/audit/lines", "audit-lines", "The audit log as JSON lines, the newest first"), d.auditLines)
	huma.Register(a, at(http.MethodPost, "/keys/rotate", "rotate-keys", "Let new bearer tokens be signed by a new key"), d.rotateKeys)
}

type none struct{}

// done answers what has no body.
func done(err error) (*none, error) {
	if err != nil {
		return nil, refusal(err)
	}
	return &none{}, nil
}

// sessionLife is how long a sign-in to the console lasts.
const sessionLife = 12 * time.Hour

type sessionReply struct {
	Cookie http.Cookie `header:"Set-Cookie"`
	Body   api.Me
}

func (d *door) signIn(ctx context.Context, in *struct{ Body api.SignIn }) (*sessionReply, error) {
	before := callers.From(ctx)
	caller, err := d.Access.Password(ctx, in.Body.Account, in.Body.Password, before.Address)
	if err != nil {
		return nil, refusal(err)
	}
	caller.Request = before.Request
	return d.newSession(ctx, caller)
}

// newSession signs an account in to the console.
func (d *door) newSession(ctx context.Context, caller access.Caller) (*sessionReply, error) {
	session, secret, err := d.Access.MakeToken(ctx, caller, access.NewToken{Kind: record.TokenSession, Name: "console", Life: sessionLife})
	if err != nil {
		return nil, refusal(err)
	}
	me, err := d.meOf(ctx, caller)
	if err != nil {
		return nil, refusal(err)
	}
	// It ends with what was given in place of a password, where that is sooner.
	life := time.Duration(session.EndsAt - session.CreatedAt)
	return &sessionReply{sessionCookie(ctx, secret, max(1, int(life.Seconds()))), me}, nil
}

func sessionCookie(ctx context.Context, secret string, seconds int) http.Cookie {
	return http.Cookie{
		Name: callers.SessionCookie, Value: secret, Path: "/api/", MaxAge: seconds, HttpOnly: true,
		SameSite: http.SameSiteLaxMode, Secure: callers.BaseOf(ctx).Scheme == "https",
	}
}

type cookieReply struct {
	Cookie http.Cookie `header:"Set-Cookie"`
}

func (d *door) signOut(ctx context.Context, _ *struct{}) (*cookieReply, error) {
	if err := d.Access.SignOut(ctx, callers.From(ctx)); err != nil {
		return nil, refusal(err)
	}
	return &cookieReply{sessionCookie(ctx, "", -1)}, nil
}

func (d *door) me(ctx context.Context, _ *struct{}) (*reply[api.Me], error) {
	return ok(d.meOf(ctx, callers.From(ctx)))
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
		EndsAt: moment(record.StampOf(caller.Ends())), Roles: []api.Role{}, May: []api.Scope{}, MakesNamespaces: offers.MakesNamespaces,
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

// unusedAfter is the age at which a role that was not used is worth a look.
const unusedAfter = 90 * 24 * time.Hour

func (d *door) rolesFrom(rows []record.GrantRow) []api.Role {
	roles := make([]api.Role, len(rows))
	before := record.StampOf(time.Now().Add(-unusedAfter))
	for i, row := range rows {
		roles[i] = api.Role{
			Place: string(placeOfGrant(row)), Role: string(row.Role), Account: row.Account, Group: row.Group,
			GrantedAt: row.GrantedAt.Time(), GrantedBy: row.GrantedBy, UsedAt: moment(row.UsedAt),
			Unused: row.GrantedAt < before && row.UsedAt < before,
		}
	}
	return roles
}

// placeOfGrant names the place of a grant, "" for the registry.
func placeOfGrant(row record.GrantRow) oci.Name {
	if row.Repository != "" {
		return row.Repository
	}
	return oci.Name(row.Namespace)
}

type verdictInput struct {
	RepositoryInput
	Action string `query:"action" required:"true" enum:"pull,push,delete,manage"`
}

func (d *door) verdict(ctx context.Context, in *verdictInput) (*reply[api.Verdict], error) {
	name, err := oci.ParseName(in.Repository)
	if err != nil {
		return nil, refusal(err)
	}
	v, err := d.Access.Verdict(ctx, callers.From(ctx), name, access.Action(in.Action))
	return ok(api.Verdict{Allowed: v.Allowed, Reason: v.Reason}, err)
}

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
		EndsAt: moment(t.EndsAt), Ended: t.EndsAt != 0 && t.EndsAt.Time().Before(time.Now()), UsedAt: moment(t.UsedAt), UsedFrom: t.UsedFrom,
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
}) (*reply[api.TokenList], error) {
	caller := callers.From(ctx)
	rows, err := d.Access.Tokens(ctx, caller, in.Account, in.Sessions)
	list := api.TokenList{Tokens: make([]api.Token, len(rows))}
	for i, t := range rows {
		list.Tokens[i] = tokenOf(t, in.or(caller))
	}
	return ok(list, err)
}

func (d *door) makeToken(ctx context.Context, in *struct{ Body api.NewToken }) (*reply[api.MadeToken], error) {
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
	return ok(api.MadeToken{Token: tokenOf(t, AccountInput{in.Body.Account}.or(caller)), Secret: secret}, err)
}

func (d *door) shortToken(ctx context.Context, _ *struct{}) (*reply[api.ShortToken], error) {
	caller := callers.From(ctx)
	bearer, err := d.Access.GiveShort(caller)
	return ok(api.ShortToken{Account: caller.Account.Name, Secret: bearer.Token, EndsAt: bearer.Issued.Add(bearer.Life).UTC()}, err)
}

// TokenInput names a token. It is exported for the API library.
type TokenInput struct {
	AccountInput
	Token string `path:"token" maxLength:"100" doc:"Number or name of the token"`
}

func (d *door) revokeToken(ctx context.Context, in *TokenInput) (*none, error) {
	return done(d.Access.RevokeToken(ctx, callers.From(ctx), in.Account, in.Token))
}

func (d *door) replaceToken(ctx context.Context, in *struct {
	TokenInput
	Body *api.Proof
}) (*reply[api.MadeToken], error) {
	caller := callers.From(ctx)
	password := ""
	if in.Body != nil {
		password = in.Body.Password
	}
	t, secret, err := d.Access.ReplaceToken(ctx, caller, in.Account, in.Token, password)
	return ok(api.MadeToken{Token: tokenOf(t, in.or(caller)), Secret: secret}, err)
}

func (d *door) accounts(ctx context.Context, in *struct{ PageInput }) (*reply[api.AccountList], error) {
	if err := d.Access.MayList(ctx, callers.From(ctx)); err != nil {
		return nil, refusal(err)
	}
	page, err := in.page()
	if err != nil {
		return nil, refusal(err)
	}
	rows, err := d.Records.Accounts(ctx, page)
	if err != nil {
		return nil, refusal(err)
	}
	rows, next := cut(rows, in.Limit, func(a record.Account) cursor { return cursor{a.Name, a.CreatedAt} })
	list := api.AccountList{Accounts: make([]api.Account, len(rows)), Next: next}
	for i, row := range rows {
		list.Accounts[i] = d.accountOf(row)
	}
	return ok(list, nil)
}

func (d *door) accountOf(a record.Account) api.Account {
	return api.Account{
		Name: a.Name, Kind: string(a.Kind), Admin: a.Admin, Description: a.Description, Groups: d.Access.GroupsOf(a.ID), HasPassword: a.Password != "",
		Company: a.Issuer, CreatedAt: a.CreatedAt.Time(), Disabled: a.DisabledAt != 0,
	}
}

func (d *door) makeAccount(ctx context.Context, in *struct{ Body api.NewAccount }) (*reply[api.Account], error) {
	made, err := d.Access.MakeAccount(ctx, callers.From(ctx), access.NewAccount{
		Name: in.Body.Name, Kind: record.AccountKind(in.Body.Kind), Admin: in.Body.Admin, Description: in.Body.Description, Password: in.Body.Password,
	})
	return ok(d.accountOf(made), err)
}

// NameInput names an account, a group or a namespace.
type NameInput struct {
	Name string `path:"name" maxLength:"255"`
}

func (d *door) changeAccount(ctx context.Context, in *struct {
	NameInput
	Body api.AccountChange
}) (*none, error) {
	return done(d.Access.ChangeAccount(ctx, callers.From(ctx), in.Name, access.AccountChange{
		Description: in.Body.Description, Admin: in.Body.Admin, Disabled: in.Body.Disabled, OnOwn: in.Body.OnOwn,
	}))
}

func (d *door) setPassword(ctx context.Context, in *struct {
	NameInput
	Body api.NewPassword
}) (*none, error) {
	return done(d.Access.SetPassword(ctx, callers.From(ctx), in.Name, in.Body.Current, in.Body.Password))
}

func (d *door) rolesOf(ctx context.Context, in *struct{ NameInput }) (*reply[api.RoleList], error) {
	shows, err := d.Access.MaySeeRoles(ctx, callers.From(ctx), in.Name)
	if err != nil {
		return nil, refusal(err)
	}
	account, err := d.Records.View(ctx).Account(in.Name)
	if err != nil {
		return nil, refusal(err)
	}
	rows, err := d.Records.GrantsOf(ctx, account.ID)
	rows = slices.DeleteFunc(rows, func(row record.GrantRow) bool { return !shows(placeOfGrant(row)) })
	return ok(api.RoleList{Roles: d.rolesFrom(rows)}, err)
}

func (d *door) groups(ctx context.Context, _ *struct{}) (*reply[api.GroupList], error) {
	if err := d.Access.MayList(ctx, callers.From(ctx)); err != nil {
		return nil, refusal(err)
	}
	rows := d.Access.Groups()
	list := api.GroupList{Groups: make([]api.Group, len(rows))}
	for i, g := range rows {
		list.Groups[i] = api.Group{Name: g.Name, Description: g.Description, Claim: g.Claim, Members: append([]string{}, g.Members...)}
	}
	return ok(list, nil)
}

func (d *door) makeGroup(ctx context.Context, in *struct{ Body api.NewGroup }) (*reply[api.Group], error) {
	g, err := d.Access.MakeGroup(ctx, callers.From(ctx), in.Body.Name, in.Body.Description, in.Body.Claim)
	return ok(api.Group{Name: g.Name, Description: g.Description, Claim: g.Claim, Members: []string{}}, err)
}

func (d *door) changeGroup(ctx context.Context, in *struct {
	NameInput
	Body api.GroupChange
}) (*none, error) {
	return done(d.Access.ChangeGroup(ctx, callers.From(ctx), in.Name, in.Body.Description, in.Body.Claim))
}

func (d *door) removeGroup(ctx context.Context, in *struct{ NameInput }) (*none, error) {
	return done(d.Access.RemoveGroup(ctx, callers.From(ctx), in.Name))
}

type memberInput struct {
	NameInput
	Account string `path:"account" maxLength:"64"`
}

func (d *door) joinGroup(ctx context.Context, in *memberInput) (*none, error) {
	return done(d.Access.Join(ctx, callers.From(ctx), in.Name, in.Account))
}

func (d *door) leaveGroup(ctx context.Context, in *memberInput) (*none, error) {
	return done(d.Access.Leave(ctx, callers.From(ctx), in.Name, in.Account))
}

// The words of the API for what the records leave empty.
const (
	inherited = "inherited"
	nobody    = "nobody"
)

func labelsOf(l record.Labels) api.Labels {
	if l == nil {
		return api.Labels{}
	}
	return api.Labels(l)
}

func (d *door) namespaceOf(ctx context.Context, n record.NamespaceRow) api.Namespace {
	role := d.Access.RoleIn(callers.From(ctx), oci.Name(n.Name+"/"))
	makes := string(n.PushMakes)
	if n.PushMakes == record.NoRole {
		makes = nobody
	}
	return api.Namespace{
		Name: n.Name, Description: n.Description, Labels: labelsOf(n.Labels), Open: n.Open, PushMakes: makes,
		NewDescription: n.NewDescription, NewLabels: labelsOf(n.NewLabels), LogPulls: n.LogPulls,
		Repositories: n.Repositories, Size: n.Size, CreatedAt: n.CreatedAt.Time(), PushedAt: moment(n.PushedAt), Role: string(role),
	}
}

func (d *door) namespaces(ctx context.Context, in *struct{ PageInput }) (*reply[api.NamespaceList], error) {
	page, err := in.page()
	if err != nil {
		return nil, refusal(err)
	}
	page.Seen = d.seen(ctx)
	rows, err := d.Records.Namespaces(ctx, page)
	if err != nil {
		return nil, refusal(err)
	}
	rows, next := cut(rows, in.Limit, func(n record.NamespaceRow) cursor { return cursor{n.Name, n.CreatedAt} })
	list := api.NamespaceList{Namespaces: make([]api.Namespace, len(rows)), Next: next}
	for i, row := range rows {
		list.Namespaces[i] = d.namespaceOf(ctx, row)
	}
	return ok(list, nil)
}

// namespace shows one namespace to whoever may see it in the list.
func (d *door) namespace(ctx context.Context, in *struct{ NameInput }) (*reply[api.Namespace], error) {
	row, err := d.Records.NamespaceRow(ctx, in.Name, d.seen(ctx))
	if errors.Is(err, record.ErrNotFound) {
		err = oci.Errorf(oci.CodeNameUnknown, "there is no namespace %s here", in.Name)
	}
	return ok(d.namespaceOf(ctx, row), err)
}

func changeOf(p api.PlaceChange) access.PlaceChange {
	change := access.PlaceChange{
		Description: p.Description, Labels: (*record.Labels)(p.Labels), Open: p.Open,
		NewDescription: p.NewDescription, NewLabels: (*record.Labels)(p.NewLabels), LogPulls: p.LogPulls, Rename: p.Rename,
	}
	if p.Visibility != nil {
		v := record.Visibility(*p.Visibility)
		if v == inherited {
			v = record.VisibilityInherited
		}
		change.Visibility = &v
	}
	if p.PushMakes != nil {
		r := record.Role(*p.PushMakes)
		if r == nobody {
			r = record.NoRole
		}
		change.PushMakes = &r
	}
	return change
}

func (d *door) makeNamespace(ctx context.Context, in *struct{ Body api.NewPlace }) (*none, error) {
	_, err := d.Access.MakeNamespace(ctx, callers.From(ctx), in.Body.Name, changeOf(in.Body.PlaceChange))
	return done(err)
}

func (d *door) changeNamespace(ctx context.Context, in *struct {
	NameInput
	Body api.PlaceChange
}) (*none, error) {
	return done(d.Access.ChangeNamespace(ctx, callers.From(ctx), in.Name, changeOf(in.Body)))
}

func (d *door) removeNamespace(ctx context.Context, in *struct{ NameInput }) (*none, error) {
	return done(d.Access.RemoveNamespace(ctx, callers.From(ctx), in.Name))
}

func (d *door) restoreNamespace(ctx context.Context, in *struct{ NameInput }) (*none, error) {
	return done(d.Access.RestoreNamespace(ctx, callers.From(ctx), in.Name))
}

func (d *door) makeRepository(ctx context.Context, in *struct{ Body api.NewPlace }) (*none, error) {
	return done(d.Access.MakeRepository(ctx, callers.From(ctx), in.Body.Name, changeOf(in.Body.PlaceChange)))
}

func (d *door) changeRepository(ctx context.Context, in *struct {
	RepositoryInput
	Body api.PlaceChange
}) (*none, error) {
	return done(d.Access.ChangeRepository(ctx, callers.From(ctx), in.Repository, changeOf(in.Body)))
}

func (d *door) removeRepository(ctx context.Context, in *RepositoryInput) (*none, error) {
	return done(d.Access.RemoveRepository(ctx, callers.From(ctx), in.Repository))
}

func (d *door) restoreRepository(ctx context.Context, in *RepositoryInput) (*none, error) {
	return done(d.Access.RestoreRepository(ctx, callers.From(ctx), in.Repository))
}

// mostRemoved is how many removed places are listed.
const mostRemoved = 1000

// removed lists what the caller could restore.
func (d *door) removed(ctx context.Context, _ *struct{}) (*reply[api.RemovedList], error) {
	rows, err := d.Access.RemovedPlaces(ctx, callers.From(ctx), mostRemoved)
	list := api.RemovedList{Removed: make([]api.Removed, len(rows))}
	for i, row := range rows {
		list.Removed[i] = api.Removed{Repository: row.Repository, Name: row.Name, RemovedAt: row.RemovedAt.Time(), RemovedBy: d.nameOf(row.RemovedBy)}
	}
	return ok(list, err)
}

func (d *door) makeTeam(ctx context.Context, in *struct{ Body api.NewTeam }) (*none, error) {
	return done(d.Access.Team(ctx, callers.From(ctx), in.Body.Name, in.Body.Description, in.Body.Owners, in.Body.Writers))
}

// PlaceInput names a repository, a namespace or, empty, the registry.
type PlaceInput struct {
	Place string `query:"place" maxLength:"255" doc:"A repository, a namespace or, empty, the registry"`
}

// roles shows who has roles to those who may pull there: members know each other.
func (d *door) roles(ctx context.Context, in *struct{ PlaceInput }) (*reply[api.RoleList], error) {
	caller := callers.From(ctx)
	if err := d.Access.AsLoggedIn(caller); err != nil {
		return nil, refusal(err)
	}
	var namespace int64
	if in.Place == "" {
		if err := d.Access.MayList(ctx, caller); err != nil {
			return nil, refusal(err)
		}
	} else {
		name, err := oci.ParseName(in.Place)
		if err != nil {
			return nil, refusal(err)
		}
		if !d.Access.IsMember(caller, name.Namespace()) {
			return nil, refusal(oci.Errorf(oci.CodeNameUnknown, "there is no %s whose members you may see", access.SayPlace(name)))
		}
		n, err := d.Records.View(ctx).Namespace(name.Namespace())
		if err != nil {
			return nil, refusal(err)
		}
		namespace = n.ID
	}
	rows, err := d.Records.GrantsIn(ctx, namespace)
	roles := []api.Role{}
	for _, role := range d.rolesFrom(rows) {
		if in.Place == "" || role.Place == in.Place || !strings.Contains(in.Place, "/") {
			roles = append(roles, role)
		}
	}
	return ok(api.RoleList{Roles: roles}, err)
}

func placeOf(s string) (oci.Name, error) {
	if s == "" {
		return "", nil
	}
	return oci.ParseName(s)
}

func (d *door) giveRole(ctx context.Context, in *struct{ Body api.NewRole }) (*none, error) {
	place, err := placeOf(in.Body.Place)
	if err == nil && (in.Body.Account == "") == (in.Body.Group == "") {
		err = oci.Errorf(oci.CodeQueryInvalid, "say who gets the role: an account or a group")
	}
	if err != nil {
		return nil, refusal(err)
	}
	return done(d.Access.GiveRole(ctx, callers.From(ctx), access.Member{Account: in.Body.Account, Group: in.Body.Group}, place, record.Role(in.Body.Role)))
}

func (d *door) takeRole(ctx context.Context, in *struct {
	PlaceInput
	Account string `query:"account" maxLength:"64"`
	Group   string `query:"group" maxLength:"64"`
}) (*none, error) {
	place, err := placeOf(in.Place)
	if err == nil && (in.Account == "") == (in.Group == "") {
		err = oci.Errorf(oci.CodeQueryInvalid, "say whose role goes: an account's or a group's")
	}
	if err != nil {
		return nil, refusal(err)
	}
	return done(d.Access.TakeRole(ctx, callers.From(ctx), access.Member{Account: in.Account, Group: in.Group}, place))
}

func (d *door) settings(ctx context.Context, _ *struct{}) (*reply[api.Settings], error) {
	if err := d.Access.AsLoggedIn(callers.From(ctx)); err != nil {
		return nil, refusal(err)
	}
	return ok(api.Settings(d.Access.Settings()), nil)
}

func (d *door) changeSettings(ctx context.Context, in *struct{ Body api.Settings }) (*none, error) {
	return done(d.Access.ChangeSettings(ctx, callers.From(ctx), record.Settings(in.Body)))
}

func (d *door) rotateKeys(ctx context.Context, _ *struct{}) (*none, error) {
	return done(d.Access.RotateKeys(ctx, callers.From(ctx)))
}

// AuditInput picks lines of the audit log. It is exported for the API library.
type AuditInput struct {
	Account    string    `query:"account" maxLength:"255"`
	Namespace  string    `query:"namespace" maxLength:"255"`
	Repository string    `query:"repository" maxLength:"255"`
	Kind       string    `query:"kind" maxLength:"64" doc:"What was done, as the lines name it"`
	Verdict    string    `query:"verdict" enum:"done,refused"`
	From       time.Time `query:"from" doc:"Not before"`
	Until      time.Time `query:"until" doc:"Before"`
	Before     int64     `query:"before" doc:"The next of the page before"`
}

// auditFilter says which lines the input picks, of those that the caller may read.
func (d *door) auditFilter(ctx context.Context, in AuditInput, limit int) (record.EventFilter, error) {
	namespace := in.Namespace
	if namespace == "" && in.Repository != "" {
		namespace = oci.Name(in.Repository).Namespace()
	}
	f := record.EventFilter{
		Account: in.Account, Repository: oci.Name(in.Repository), Kind: record.EventKind(in.Kind), Verdict: in.Verdict,
		From: record.StampOf(in.From), Until: record.StampOf(in.Until), Before: in.Before, Limit: limit,
	}
	id, all, err := d.Access.MayAudit(ctx, callers.From(ctx), namespace)
	f.Namespace = id
	if all {
		f.NamedAlike = namespace
	}
	return f, err
}

func lineOf(e record.Event) api.Line {
	return api.Line{
		ID: e.ID, At: e.At.Time(), Kind: string(e.Kind), Verdict: e.Verdict, Account: e.Account, Token: e.Token, Address: e.Address,
		Request: e.Request, Repository: e.Repository, Tag: e.Tag, Digest: e.Digest, Subject: e.Subject, Detail: e.Detail,
	}
}

func (d *door) audit(ctx context.Context, in *struct {
	AuditInput
	Limit int `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}) (*reply[api.LineList], error) {
	filter, err := d.auditFilter(ctx, in.AuditInput, in.Limit+1)
	if err != nil {
		return nil, refusal(err)
	}
	rows, err := d.Records.Events(ctx, filter)
	list := api.LineList{Lines: []api.Line{}}
	for i, e := range rows {
		if i == in.Limit {
			list.Next = rows[i-1].ID
			break
		}
		list.Lines = append(list.Lines, lineOf(e))
	}
	return ok(list, err)
}

// exportPage is how many lines of an export are read at once.
const exportPage = 1000

// auditLines streams the log, page by page, so that no read lasts.
func (d *door) auditLines(ctx context.Context, in *struct{ AuditInput }) (*huma.StreamResponse, error) {
	filter, err := d.auditFilter(ctx, in.AuditInput, exportPage)
	if err != nil {
		return nil, refusal(err)
	}
	return &huma.StreamResponse{Body: func(out huma.Context) {
		out.SetHeader("Content-Type", "application/x-ndjson")
		encoder := json.NewEncoder(out.BodyWriter())
		for {
			rows, err := d.Records.Events(ctx, filter)
			if err != nil {
				// The lines so far are out; a cut connection is all that can still be said.
				panic(http.ErrAbortHandler)
			}
			for _, e := range rows {
				if encoder.Encode(lineOf(e)) != nil {
					return
				}
			}
			if len(rows) < exportPage {
				return
			}
			filter.Before = rows[len(rows)-1].ID
		}
	}}, nil
}
