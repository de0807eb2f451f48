package access

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"warthesis/internal/access/bearer"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/rule"
)

// Action is what somebody wants to do with a repository or a namespace.
type Action = bearer.Action

// The actions, each of which takes a role.
const (
	Pull   = bearer.Pull
	Push   = bearer.Push
	Delete = bearer.Delete
	// Manage is to change members and settings.
	Manage = bearer.Manage
)

// roleFor returns the least role that an action takes.
func roleFor(a Action) record.Role {
	switch a {
	case Pull:
		return record.Reader
	case Push:
		return record.Writer
	case Delete:
		return record.Curator
	}
	return record.Owner
}

// Verdict is the answer to whether a caller may do something.
type Verdict struct {
	Allowed bool
	// Known tells whether the caller may know of the repository. Where it may not,
	// the answer is that of an unknown one.
	Known bool
	// Elsewise tells that another token of the same account would do.
	Elsewise bool
	// Reason says which right is missing and who can give it.
	Reason string
	// Makes is what a push may make.
	Makes record.Maker
}

// Verdict says whether a caller may do something with a repository, which need not exist.
func (a *Access) Verdict(ctx context.Context, c Caller, name oci.Name, action Action) (Verdict, error) {
	allowed, grant, err := a.may(ctx, c, name, action)
	if err != nil {
		return Verdict{}, err
	}
	if allowed && c.covers(name, action) {
		a.used(grant, c.Account.ID, action)
		return Verdict{Allowed: true, Known: true}, nil
	}
	known := allowed
	if !known {
		if known, _, err = a.may(ctx, c, name, Pull); err != nil {
			return Verdict{}, err
		}
	}
	v := Verdict{Known: known}
	if c.asked != nil {
		_, asked := c.asked[string(name)]
		v.Elsewise = !asked || allowed
	}
	v.Reason, err = a.reason(ctx, c, name, action, known)
	return v, err
}

// covers reports whether a bearer token was given for the action.
func (c Caller) covers(name oci.Name, action Action) bool {
	return c.asked == nil || slices.Contains(c.asked[string(name)], action)
}

// may reports whether the rights of the caller's account, within the scopes of its
// credential, allow an action, and by which grant.
func (a *Access) may(ctx context.Context, c Caller, name oci.Name, action Action) (bool, int64, error) {
	rights := a.records.Rights()
	// What anybody may, a token of any scope may too.
	if !c.Limited || inScopes(c.Token.Scopes, string(name), action) {
		if role, grant := roleIn(rights, c.Account, name); role.Rank() >= roleFor(action).Rank() {
			return true, grant, nil
		}
	}
	if action != Pull {
		return false, 0, nil
	}
	open, err := a.isOpen(ctx, rights, name)
	return open, 0, err
}

// isOpen reports whether anybody may pull. Only what is there can be: a name that
// nothing has is not told from one that is closed, not even by the time it takes.
func (a *Access) isOpen(ctx context.Context, rights *record.Rights, name oci.Name) (bool, error) {
	namespace, _ := rights.Namespace(name.Namespace())
	if strings.HasSuffix(string(name), "/") {
		// It stands for the namespace.
		return namespace.Open, nil
	}
	own, listed := rights.Repository(name)
	switch {
	case listed && own.Visibility == record.VisibilityOpen:
		return true, nil
	case !namespace.Open:
		return false, nil
	case listed && own.Visibility == record.VisibilityClosed:
		// Looking for what cannot be there takes the time of finding nothing.
		_, err := a.records.View(ctx).Repository(name + "/")
		return false, passNotFound(err)
	}
	_, err := a.records.Repository(ctx, name)
	return err == nil, passNotFound(err)
}

func passNotFound(err error) error {
	if errors.Is(err, record.ErrNotFound) {
		return nil
	}
	return err
}

// eachGrant calls each for the grants that an account has, itself or by its groups,
// in a place exactly.
func eachGrant(rights *record.Rights, account, namespace, repository int64, each func(record.Grant)) {
	if g, ok := rights.Grant(record.GrantKey{AccountID: account, NamespaceID: namespace, RepositoryID: repository}); ok {
		each(g)
	}
	for _, group := range rights.GroupsOf(account) {
		if g, ok := rights.Grant(record.GrantKey{GroupID: group, NamespaceID: namespace, RepositoryID: repository}); ok {
			each(g)
		}
	}
}

// roleIn returns the highest role that an account has in a repository or, with a
// slash behind its name, a namespace, and the grant that gives it.
func roleIn(rights *record.Rights, account record.Account, name oci.Name) (best record.Role, by int64) {
	if account.ID == 0 {
		return record.NoRole, 0
	}
	if account.Admin {
		return record.Owner, 0
	}
	better := func(g record.Grant) {
		if g.Role.Rank() > best.Rank() {
			best, by = g.Role, g.ID
		}
	}
	eachGrant(rights, account.ID, 0, 0, better)
	if namespace, ok := rights.Namespace(name.Namespace()); ok {
		eachGrant(rights, account.ID, namespace.ID, 0, better)
	}
	if repository, ok := rights.Repository(name); ok {
		eachGrant(rights, account.ID, 0, repository.ID, better)
	}
	return best, by
}

// RegistryRole returns the highest role that an account has on the whole registry.
func RegistryRole(rights *record.Rights, account record.Account) record.Role {
	// No repository has an empty name, so only the registry's own grants apply.
	role, _ := roleIn(rights, account, "")
	return role
}

// inScopes reports whether a token's scopes cover an action.
func inScopes(scopes []record.Scope, name string, action Action) bool {
	return slices.ContainsFunc(scopes, func(s record.Scope) bool {
		return slices.Contains(s.Actions, string(action)) && rule.MatchText(s.Pattern, name)
	})
}

// reason says which right is missing. To somebody who may not know of the
// repository it says nothing that depends on whether there is one.
func (a *Access) reason(ctx context.Context, c Caller, name oci.Name, action Action, known bool) (string, error) {
	if c.Nobody() {
		return fmt.Sprintf("not logged in: to %s takes a login", sayAction(action, name)), nil
	}
	verb := fmt.Sprintf("%s may not %s", c.Who(), sayAction(action, name))
	role, _ := roleIn(a.records.Rights(), c.Account, name)
	if c.Limited && role.Rank() >= roleFor(action).Rank() {
		return fmt.Sprintf("the token %q may not %s: its scopes leave that out, and the account has the role; make a token for %s with %s",
			c.TokenName(), sayAction(action, name), name, action), nil
	}
	needs := fmt.Sprintf("it takes the role %s there", roleFor(action))
	if !known {
		return fmt.Sprintf("%s: %s; a registry admin, or an owner of the namespace %s if there is one, can give it", verb, needs, name.Namespace()), nil
	}
	has := "and the account has none"
	if role != record.NoRole {
		has = fmt.Sprintf("and the account has %s", role)
	}
	givers, err := a.whoGives(ctx, name)
	return fmt.Sprintf("%s: %s, %s; %s can give it", verb, needs, has, givers), err
}

func sayAction(action Action, name oci.Name) string {
	switch action {
	case Pull:
		return fmt.Sprintf("pull from %s", name)
	case Push:
		return fmt.Sprintf("push to %s", name)
	case Delete:
		return fmt.Sprintf("delete from %s", name)
	}
	return fmt.Sprintf("change members and settings of %s", name)
}

// mostGivers is how many owners a refusal names.
const mostGivers = 3

// whoGives names the owners of a place.
func (a *Access) whoGives(ctx context.Context, name oci.Name) (string, error) {
	rights := a.records.Rights()
	namespace, there := rights.Namespace(name.Namespace())
	if !there {
		return "a registry admin", nil
	}
	repository, _ := rights.Repository(name)
	if repository.ID == 0 {
		// No grant is on it.
		repository.ID = -1
	}
	givers, err := a.records.Owners(ctx, namespace.ID, repository.ID, mostGivers)
	if err != nil || len(givers) == 0 {
		return "a registry admin", err
	}
	return strings.Join(givers, ", ") + " or a registry admin", nil
}

// MayCheck reports whether a caller may be told that content is there, for which the
// right to push is enough.
func (a *Access) MayCheck(ctx context.Context, c Caller, name oci.Name) (Verdict, error) {
	v, err := a.Verdict(ctx, c, name, Pull)
	if err != nil || v.Allowed {
		return v, err
	}
	if push, err := a.Verdict(ctx, c, name, Push); err != nil || push.Allowed {
		return push, err
	}
	return v, nil
}

// Seen returns which repositories a caller may see in lists: by a bearer token for
// some repositories, those alone.
func (a *Access) Seen(c Caller) record.Seen {
	if c.MayCatalogue() {
		return a.seen(c)
	}
	return a.SeenForMount(c)
}

func (a *Access) seen(c Caller) record.Seen {
	seen := record.Seen{Account: c.Account.ID, Everything: RegistryRole(a.records.Rights(), c.Account) != record.NoRole}
	if c.Limited {
		seen.Globs = pullPatterns(c.Token.Scopes)
	}
	return seen
}

// SeenForMount returns from which repositories a caller may mount: by a bearer token,
// from those alone that it was given to pull from.
func (a *Access) SeenForMount(c Caller) record.Seen {
	seen := a.seen(c)
	if c.asked == nil {
		return seen
	}
	seen.Globs = nil
	for name, actions := range c.asked {
		// What the scopes of the token behind it leave out, was open then at the most.
		if slices.Contains(actions, Pull) && (!c.Limited || inScopes(c.Token.Scopes, name, Pull)) {
			seen.Globs = append(seen.Globs, name)
		}
	}
	seen.Nothing = len(seen.Globs) == 0
	return seen
}

// pullPatterns returns the patterns of the scopes by which something may be
// pulled: one that matches nothing where there are none.
func pullPatterns(scopes []record.Scope) []string {
	var patterns []string
	for _, s := range scopes {
		if slices.Contains(s.Actions, string(Pull)) {
			patterns = append(patterns, s.Pattern)
		}
	}
	if len(patterns) == 0 {
		return []string{"/"}
	}
	return patterns
}
