package access

import (
	"context"
	"sort"

	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// RoleIn returns the role that a caller has in a repository or a namespace.
func (a *Access) RoleIn(ctx context.Context, c Caller, name oci.Name) (record.Role, error) {
	rights, err := a.records.Rights(ctx)
	if err != nil {
		return record.NoRole, err
	}
	role, _ := roleIn(rights, c.Account, name)
	return role, nil
}

// IsOpen reports whether anybody may pull from a repository.
func (a *Access) IsOpen(ctx context.Context, name oci.Name) (bool, error) {
	rights, err := a.records.Rights(ctx)
	if err != nil {
		return false, err
	}
	return isOpen(rights, name), nil
}

// GroupsOf returns the names of an account's groups, in order.
func (a *Access) GroupsOf(ctx context.Context, account int64) ([]string, error) {
	rights, err := a.records.Rights(ctx)
	if err != nil {
		return nil, err
	}
	names := []string{}
	for _, id := range rights.GroupsOf[account] {
		names = append(names, rights.Groups[id].Name)
	}
	sort.Strings(names)
	return names, nil
}

// GroupMembers is a group with the names of its accounts.
type GroupMembers struct {
	record.Group
	Members []string
}

// Groups returns all groups with their members, in order.
func (a *Access) Groups(ctx context.Context) ([]GroupMembers, error) {
	rights, err := a.records.Rights(ctx)
	if err != nil {
		return nil, err
	}
	members := map[int64][]string{}
	for account, groups := range rights.GroupsOf {
		for _, g := range groups {
			members[g] = append(members[g], rights.Accounts[account].Name)
		}
	}
	all := []GroupMembers{}
	for id, g := range rights.Groups {
		sort.Strings(members[id])
		all = append(all, GroupMembers{g, members[id]})
	}
	sort.Slice(all, func(i, j int) bool { return all[i].Name < all[j].Name })
	return all, nil
}

// Offers is what a caller may do besides its roles in places.
type Offers struct {
	MakesNamespaces, ListsAccounts, ReadsAudit bool
}

// Offers returns what a caller may do besides its roles in places.
func (a *Access) Offers(ctx context.Context, c Caller) (Offers, error) {
	rights, err := a.records.Rights(ctx)
	if err != nil || c.Nobody() || !c.whole() {
		return Offers{}, err
	}
	onRegistry := registryRole(rights, c.Account) != record.NoRole
	return Offers{a.mayMakeNamespace(rights, c), onRegistry || ownsSomething(rights, c), onRegistry}, nil
}
