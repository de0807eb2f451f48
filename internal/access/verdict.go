package access

import (
	"context"
	"fmt"
	"slices"
	"sort"
	"strings"

	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// Action is what somebody wants to do with a repository or a namespace.
type Action string

// The actions, each of which takes a role.
const (
	Pull   Action = "pull"
	Push   Action = "push"
	Delete Action = "delete"
	// Manage is to change members and settings.
	Manage Action = "manage"
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
}

// Verdict says whether a caller may do something with a repository, which need not exist.
func (a *Access) Verdict(ctx context.Context, c Caller, name oci.Name, action Action) (Verdict, error) {
	rights, err := a.records.Rights(ctx)
	if err != nil {
		return Verdict{}, err
	}
	allowed, grant := may(rights, c, name, action)
	if allowed && c.covers(name, action) {
		a.used(grant, c.Account.ID, action)
		return Verdict{Allowed: true, Known: true}, nil
	}
	known, _ := may(rights, c, name, Pull)
	v := Verdict{Known: known}
	if c.asked != nil {
		_, asked := c.asked[string(name)]
		v.Elsewise = !asked || allowed
	}
	v.Reason = reason(rights, c, name, action, known)
	return v, nil
}

// covers reports whether a bearer token was given for the action.
func (c Caller) covers(name oci.Name, action Action) bool {
	return c.asked == nil || slices.Contains(c.asked[string(name)], action)
}

// may reports whether the rights of the caller's account, within the scopes of its
// credential, allow an action, and by which grant.
func may(rights *record.Rights, c Caller, name oci.Name, action Action) (bool, int64) {
	if c.Limited && !inScopes(c.Token.Scopes, string(name), action) {
		// What anybody may, a token of any scope may too.
		return action == Pull && isOpen(rights, name), 0
	}
	role, grant := roleIn(rights, c.Account, name)
	if role.Rank() >= roleFor(action).Rank() {
		return true, grant
	}
	return action == Pull && isOpen(rights, name), 0
}

// isOpen reports whether anybody may pull.
func isOpen(rights *record.Rights, name oci.Name) bool {
	if own, ok := rights.Repositories[name]; ok && own.Visibility != record.VisibilityInherited {
		return own.Visibility == record.VisibilityOpen
	}
	return rights.Namespaces[name.Namespace()].Open
}

// roleIn returns the highest role that an account has in a repository, and the
// grant that gives it.
func roleIn(rights *record.Rights, account record.Account, name oci.Name) (record.Role, int64) {
	if account.ID == 0 {
		return record.NoRole, 0
	}
	best, by := record.NoRole, int64(0)
	if account.Admin {
		return record.Owner, 0
	}
	namespace := rights.Namespaces[name.Namespace()].ID
	repository := rights.Repositories[name].ID
	for _, g := range rights.Grants[account.ID] {
		applies := g.NamespaceID == 0 && g.RepositoryID == 0 || g.NamespaceID != 0 && g.NamespaceID == namespace || g.RepositoryID != 0 && g.RepositoryID == repository
		if applies && g.Role.Rank() > best.Rank() {
			best, by = g.Role, g.ID
		}
	}
	return best, by
}

// registryRole returns the highest role that an account has on the whole registry.
func registryRole(rights *record.Rights, account record.Account) record.Role {
	// No repository has an empty name, so only the registry's own grants apply.
	role, _ := roleIn(rights, account, "")
	return role
}

// inScopes reports whether a token's scopes cover an action.
func inScopes(scopes []record.Scope, name string, action Action) bool {
	return slices.ContainsFunc(scopes, func(s record.Scope) bool {
		return slices.Contains(s.Actions, string(action)) && matchesPattern(s.Pattern, name)
	})
}

// matchesPattern matches a name, where * in the pattern stands for any text.
func matchesPattern(pattern, name string) bool {
	parts := strings.Split(pattern, "*")
	if len(parts) == 1 {
		return pattern == name
	}
	if !strings.HasPrefix(name, parts[0]) {
		return false
	}
	rest := name[len(parts[0]):]
	for _, part := range parts[1 : len(parts)-1] {
		at := strings.Index(rest, part)
		if at < 0 {
			return false
		}
		rest = rest[at+len(part):]
	}
	return strings.HasSuffix(rest, parts[len(parts)-1])
}

// reason says which right is missing. To somebody who may not know of the
// repository it says nothing that depends on whether there is one.
func reason(rights *record.Rights, c Caller, name oci.Name, action Action, known bool) string {
	if c.Nobody() {
		return fmt.Sprintf("not logged in: to %s takes a login", sayAction(action, name))
	}
	verb := fmt.Sprintf("%s may not %s", c.who(), sayAction(action, name))
	role, _ := roleIn(rights, c.Account, name)
	if c.Limited && role.Rank() >= roleFor(action).Rank() {
		return fmt.Sprintf("the token %q may not %s: its scopes leave that out, and the account has the role; make a token for %s with %s",
			c.TokenName(), sayAction(action, name), name, action)
	}
	needs := fmt.Sprintf("it takes the role %s there", roleFor(action))
	if !known {
		return fmt.Sprintf("%s: %s; a registry admin, or an owner of the namespace %s if there is one, can give it", verb, needs, name.Namespace())
	}
	has := "and the account has none"
	if role != record.NoRole {
		has = fmt.Sprintf("and the account has %s", role)
	}
	return fmt.Sprintf("%s: %s, %s; %s can give it", verb, needs, has, whoGives(rights, name))
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
func whoGives(rights *record.Rights, name oci.Name) string {
	var givers []string
	for _, account := range rights.Accounts {
		if role, grant := roleIn(rights, account, name); role == record.Owner && grant != 0 && account.DisabledAt == 0 && account.Kind == record.Person {
			givers = append(givers, account.Name)
		}
	}
	sort.Strings(givers)
	if len(givers) == 0 {
		return "a registry admin"
	}
	if len(givers) > mostGivers {
		givers = givers[:mostGivers]
	}
	return strings.Join(givers, ", ") + " or a registry admin"
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

// Seen returns which repositories a caller may see.
func (a *Access) Seen(ctx context.Context, c Caller) (record.Seen, error) {
	rights, err := a.records.Rights(ctx)
	if err != nil {
		return record.Seen{}, err
	}
	var globs []string
	if c.Limited {
		globs = pullPatterns(c.Token.Scopes)
	}
	if registryRole(rights, c.Account) != record.NoRole {
		return record.Seen{All: true, Globs: globs}, nil
	}
	// The scopes are the globs' business from here on.
	c.Limited = false
	seen := record.Seen{Globs: globs}
	for _, n := range rights.Namespaces {
		// A name below the namespace that no repository can have stands for all those
		// without rights of their own.
		if allowed, _ := may(rights, c, oci.Name(n.Name+"/"), Pull); allowed {
			seen.Namespaces = append(seen.Namespaces, n.ID)
		}
	}
	for _, r := range rights.Repositories {
		if allowed, _ := may(rights, c, r.Name, Pull); allowed {
			seen.Repositories = append(seen.Repositories, r.ID)
		} else {
			seen.Except = append(seen.Except, r.ID)
		}
	}
	return seen, nil
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
