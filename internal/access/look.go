package access

import (
	"context"
	"maps"
	"slices"
	"sort"
	"strings"

	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/rule"
)

// RoleIn returns the highest role that a caller has in a repository or, with a slash
// behind its name, a namespace, of which its credential lets it use all.
func (a *Access) RoleIn(c Caller, name oci.Name) record.Role {
	role, _ := roleIn(a.records.Rights(), c.Account, name)
	for role != record.NoRole && !c.allows(name, role) {
		role = append([]record.Role{record.NoRole}, record.Roles...)[role.Rank()-1]
	}
	return role
}

// allows reports whether a credential bounds none of what a role may do in a place.
func (c Caller) allows(name oci.Name, role record.Role) bool {
	return !slices.ContainsFunc(actionsOf(role), func(action Action) bool {
		return !c.covers(name, action) || c.Limited && !inScopes(c.Token.Scopes, string(name), action)
	})
}

// actionsOf returns all that a role may do.
func actionsOf(role record.Role) []Action {
	return []Action{Pull, Push, Delete, Manage}[:role.Rank()]
}

// IsMember reports whether a caller's account has a role in a namespace, into which
// the scopes of its credential reach.
func (a *Access) IsMember(c Caller, namespace string) bool {
	role, _ := roleIn(a.records.Rights(), c.Account, oci.Name(namespace+"/"))
	if role == record.NoRole || c.asked != nil {
		return false
	}
	return !c.Limited || slices.ContainsFunc(c.Token.Scopes, func(s record.Scope) bool { return reaches(s.Pattern, namespace) })
}

// reaches reports whether a pattern may match a name in a namespace.
func reaches(pattern, namespace string) bool {
	start, _, open := strings.Cut(pattern, "*")
	return strings.HasPrefix(start, namespace+"/") || pattern == namespace || open && strings.HasPrefix(namespace+"/", start)
}

// Allowance is what a login may do in the repositories that a pattern matches.
type Allowance struct {
	Pattern string
	Actions []Action
}

// Allowances returns what a caller may do, given the roles of its account: what both
// they and its credential allow.
func (a *Access) Allowances(c Caller, roles []record.GrantRow) []Allowance {
	var all []Allowance
	if c.Account.Admin {
		all = append(all, Allowance{"*", actionsOf(record.Owner)})
	} else {
		for _, row := range roles {
			for _, pattern := range patternsOf(row) {
				all = append(all, Allowance{pattern, actionsOf(row.Role)})
			}
		}
	}
	if c.Limited {
		var bounds []Allowance
		for _, s := range c.Token.Scopes {
			bounds = append(bounds, Allowance{s.Pattern, asActions(s.Actions)})
		}
		all = both(all, bounds)
	}
	if c.asked != nil {
		var bounds []Allowance
		for name, actions := range c.asked {
			bounds = append(bounds, Allowance{name, actions})
		}
		all = both(all, bounds)
	}
	return united(all)
}

// united makes one of those for the same pattern, in the order of the patterns.
func united(all []Allowance) []Allowance {
	of := map[string][]Action{}
	for _, one := range all {
		of[one.Pattern] = append(of[one.Pattern], one.Actions...)
	}
	var unions []Allowance
	for _, pattern := range slices.Sorted(maps.Keys(of)) {
		union := slices.DeleteFunc(actionsOf(record.Owner), func(a Action) bool { return !slices.Contains(of[pattern], a) })
		unions = append(unions, Allowance{pattern, union})
	}
	return unions
}

// patternsOf returns the repositories that a role is in, as patterns.
func patternsOf(row record.GrantRow) []string {
	switch {
	case row.Repository != "":
		return []string{string(row.Repository)}
	case row.Namespace != "":
		return []string{row.Namespace, row.Namespace + "/*"}
	}
	return []string{"*"}
}

func asActions(words []string) []Action {
	actions := make([]Action, len(words))
	for i, w := range words {
		actions[i] = Action(w)
	}
	return actions
}

// both returns what each of two lists allows: of two patterns where one covers the
// other, the narrower.
func both(all, bounds []Allowance) []Allowance {
	var left []Allowance
	for _, x := range all {
		for _, y := range bounds {
			narrow := x.Pattern
			switch {
			case rule.MatchText(y.Pattern, x.Pattern):
			case rule.MatchText(x.Pattern, y.Pattern):
				narrow = y.Pattern
			default:
				continue
			}
			actions := slices.DeleteFunc(slices.Clone(x.Actions), func(a Action) bool { return !slices.Contains(y.Actions, a) })
			if len(actions) > 0 {
				left = append(left, Allowance{narrow, actions})
			}
		}
	}
	return left
}

// IsOpen reports whether anybody may pull from a repository.
func (a *Access) IsOpen(ctx context.Context, name oci.Name) (bool, error) {
	return a.isOpen(ctx, a.records.Rights(), name)
}

// GroupsOf returns the names of an account's groups, in order.
func (a *Access) GroupsOf(account int64) []string {
	rights := a.records.Rights()
	names := []string{}
	for _, id := range rights.GroupsOf(account) {
		if g, ok := rights.Group(id); ok {
			names = append(names, g.Name)
		}
	}
	sort.Strings(names)
	return names
}

// GroupMembers is a group with the names of its accounts.
type GroupMembers struct {
	record.Group
	Members []string
}

// Groups returns all groups with their members, in order.
func (a *Access) Groups() []GroupMembers {
	rights := a.records.Rights()
	members := map[int64][]string{}
	rights.EachMember(func(account int64, groups []int64) {
		member, _ := rights.Account(account)
		for _, g := range groups {
			members[g] = append(members[g], member.Name)
		}
	})
	all := []GroupMembers{}
	rights.EachGroup(func(g record.Group) {
		sort.Strings(members[g.ID])
		all = append(all, GroupMembers{g, members[g.ID]})
	})
	sort.Slice(all, func(i, j int) bool { return all[i].Name < all[j].Name })
	return all
}

// Group returns a group with its members. It fails with oci.CodeNameUnknown.
func (a *Access) Group(name string) (GroupMembers, error) {
	for _, g := range a.Groups() {
		if g.Name == name {
			return g, nil
		}
	}
	return GroupMembers{}, noGroup(name)
}

// Admins returns the names of the registry admins that are not disabled, in order.
func (a *Access) Admins() []string {
	var names []string
	a.records.Rights().EachAccount(func(account record.Account) {
		if account.Admin && account.DisabledAt == 0 {
			names = append(names, account.Name)
		}
	})
	sort.Strings(names)
	return names
}

// SeesAbove reports whether a member of a place may know who has a role there from
// above it: not one whose credential is bounded.
func (a *Access) SeesAbove(c Caller) bool { return !c.Nobody() && !c.Bounded() }

// Offers is what a caller may do besides its roles in places.
type Offers struct {
	Admin, MakesNamespaces, ListsAccounts, ReadsAudit bool
}

// Offers returns what a caller may do besides its roles in places.
func (a *Access) Offers(ctx context.Context, c Caller) (Offers, error) {
	if c.Nobody() || !c.Whole() {
		return Offers{}, nil
	}
	onRegistry := RegistryRole(a.records.Rights(), c.Account) != record.NoRole
	lists := onRegistry
	if !lists {
		var err error
		if lists, err = a.records.OwnsSomething(ctx, c.Account.ID); err != nil {
			return Offers{}, err
		}
	}
	return Offers{c.Account.Admin, a.mayMakeNamespace(c), lists, onRegistry}, nil
}

// Hears reports whether a caller is told, as it happens, of an event: whoever may
// pull of what comes and goes there, and whoever has a role there of the rest too.
func (a *Access) Hears(ctx context.Context, c Caller, e record.Event) bool {
	if e.Repository == "" || e.Verdict != record.VerdictDone {
		return false
	}
	rights := a.records.Rights()
	if !c.covers(e.Repository, Pull) || c.Limited && !inScopes(c.Token.Scopes, string(e.Repository), Pull) {
		return false
	}
	if hasRoleAt(rights, c.Account, e) {
		return true
	}
	switch e.Kind {
	case record.EventManifestPushed, record.EventManifestDeleted, record.EventTagMoved, record.EventTagAdded, record.EventTagMovedByHand, record.EventTagDeleted, record.EventBlobDeleted:
		// As of now: the name must still mean the repository that it meant.
		now, err := a.records.Repository(ctx, e.Repository)
		if err != nil || now.ID != e.RepositoryID {
			return false
		}
		open, err := a.isOpen(ctx, rights, e.Repository)
		return err == nil && open
	case record.EventRepositoryMade, record.EventRepositoryRemoved, record.EventRepositoryRestored:
		return e.Open
	}
	return false
}

// hasRoleAt reports whether an account has a role where an event was, whatever is
// called so now.
func hasRoleAt(rights *record.Rights, account record.Account, e record.Event) bool {
	if account.ID == 0 {
		return false
	}
	has := account.Admin
	for _, at := range [][2]int64{{0, 0}, {e.NamespaceID, 0}, {0, e.RepositoryID}} {
		eachGrant(rights, account.ID, at[0], at[1], func(record.Grant) { has = true })
	}
	return has
}
