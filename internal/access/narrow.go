package access

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// NarrowingDays is how far back uses of a role are looked at before it is narrowed.
const NarrowingDays = 90

// isWithin reports whether a place is within a wider one, and not that itself.
func isWithin(place, wide oci.Name) bool {
	return place != wide && (wide == "" || !strings.Contains(string(wide), "/") && strings.HasPrefix(string(place), string(wide)+"/"))
}

// mayNarrow asks for the rights that narrowing takes: those on both places.
func (a *Access) mayNarrow(ctx context.Context, c Caller, wide, place oci.Name) error {
	if !isWithin(place, wide) {
		return oci.Errorf(oci.CodeQueryInvalid, "%s is not within %s: a role is narrowed from the registry to a namespace or a repository, or from a namespace to a repository of it", SayPlace(place), SayPlace(wide))
	}
	if err := a.MayManage(ctx, c, wide); err != nil {
		return err
	}
	return a.MayManage(ctx, c, place)
}

// NarrowRole gives a member a role in a place and takes the one that it has in a wider
// Place around it: both or neither.
func (a *Access) NarrowRole(ctx context.Context, c Caller, m Member, wide, place oci.Name, role record.Role) error {
	if role.Rank() == 0 {
		return oci.Errorf(oci.CodeQueryInvalid, "%q is no role; the roles are reader, writer, curator and owner", role)
	}
	if err := a.mayNarrow(ctx, c, wide, place); err != nil {
		return err
	}
	from, err := a.Place(ctx, wide)
	if err != nil {
		return err
	}
	given := c.PlaceEvent(record.EventRoleGranted, place)
	given.Detail = fmt.Sprintf("%s to %s, in place of the role in %s", role, m, SayPlace(wide))
	taken := c.PlaceEvent(record.EventRoleTaken, wide)
	taken.Detail = "from " + m.String()
	return a.onGrant(ctx, c, m, place, given, func(tx *record.Tx, k record.GrantKey) error {
		in, err := LivePlace(tx, from)
		if err != nil {
			return goneMeanwhile("place", string(wide), err)
		}
		from.AccountID, from.GroupID = k.AccountID, k.GroupID
		err = tx.TakeRole(from)
		if errors.Is(err, record.ErrNotFound) {
			return oci.Errorf(oci.CodeNameUnknown, "%s has no role of its own in %s", m, SayPlace(wide))
		}
		taken.NamespaceID, taken.RepositoryID = in.NamespaceID, in.RepositoryID
		return errors.Join(err, tx.Log(taken), tx.Give(record.Grant{GrantKey: k, Role: role, GrantedBy: c.Account.Name}))
	})
}

// RefusedUse is something that was done and would not be allowed any more.
type RefusedUse struct {
	Repository oci.Name
	Action     Action
	Times      int64
	LastAt     record.Stamp
}

// Narrowing is what narrowing a role would have refused.
type Narrowing struct {
	Refused []RefusedUse
	// PullsKnown tells whether pulls are in the audit log of all that the role reaches.
	PullsKnown bool
}

// actionOf returns the action by which an event comes about, "" for none.
func actionOf(kind record.EventKind) Action {
	switch kind {
	case record.EventPull:
		return Pull
	case record.EventManifestPushed, record.EventTagMoved, record.EventTagAdded:
		return Push
	case record.EventManifestDeleted, record.EventTagMovedByHand, record.EventTagDeleted, record.EventBlobDeleted:
		return Delete
	case record.EventRepositoryChanged, record.EventRepositoryRemoved, record.EventRepositoryRestored, record.EventRoleGranted, record.EventRoleTaken:
		return Manage
	}
	return ""
}

// RefusedByNarrowing returns what a member did in the last 90 days in a wide place, as
// the audit log has it, that a role in a place within it would not have allowed.
func (a *Access) RefusedByNarrowing(ctx context.Context, c Caller, m Member, wide, place oci.Name, role record.Role) (Narrowing, error) {
	if err := a.mayNarrow(ctx, c, wide, place); err != nil {
		return Narrowing{}, err
	}
	from, err := a.Place(ctx, wide)
	if err != nil {
		return Narrowing{}, err
	}
	rights := a.records.Rights()
	accounts, err := a.accountsOf(rights, m)
	if err != nil {
		return Narrowing{}, err
	}
	if from.AccountID, from.GroupID, err = memberKey(rights, m); err != nil {
		return Narrowing{}, err
	}
	since := record.StampOf(a.clock.Now().Add(-NarrowingDays * 24 * time.Hour))
	var all Narrowing
	gathered := map[RefusedUse]int{}
	for _, account := range accounts {
		uses, err := a.records.DoneBy(ctx, account.ID, from.NamespaceID, since)
		if err != nil {
			return Narrowing{}, err
		}
		for _, use := range uses {
			action := actionOf(use.Kind)
			if action == "" || account.Admin || roleWithout(rights, account, from, place, role, use.Repository).Rank() >= roleFor(action).Rank() {
				continue
			}
			key := RefusedUse{Repository: use.Repository, Action: action}
			at, known := gathered[key]
			if !known {
				at = len(all.Refused)
				gathered[key] = at
				all.Refused = append(all.Refused, key)
			}
			all.Refused[at].Times += use.Times
			all.Refused[at].LastAt = max(all.Refused[at].LastAt, use.LastAt)
		}
	}
	all.PullsKnown = true
	rights.EachNamespace(func(n record.Namespace) {
		if (from.NamespaceID == 0 || n.ID == from.NamespaceID) && !n.LogPulls {
			all.PullsKnown = false
		}
	})
	return all, nil
}

// memberKey returns the IDs of a member: one of them is 0.
func memberKey(rights *record.Rights, m Member) (account, group int64, err error) {
	if m.Group == "" {
		found, known := rights.AccountNamed(m.Account)
		if !known {
			return 0, 0, noAccount(m.Account)
		}
		return found.ID, 0, nil
	}
	rights.EachGroup(func(g record.Group) {
		if g.Name == m.Group {
			group = g.ID
		}
	})
	if group == 0 {
		return 0, 0, noGroup(m.Group)
	}
	return 0, group, nil
}

// accountsOf returns the account, or those in the group.
func (a *Access) accountsOf(rights *record.Rights, m Member) ([]record.Account, error) {
	account, group, err := memberKey(rights, m)
	if err != nil {
		return nil, err
	}
	if group == 0 {
		found, _ := rights.Account(account)
		return []record.Account{found}, nil
	}
	var all []record.Account
	rights.EachMember(func(account int64, groups []int64) {
		for _, g := range groups {
			if found, known := rights.Account(account); known && g == group {
				all = append(all, found)
			}
		}
	})
	return all, nil
}

// roleWithout returns the role that an account would have in a repository without one
// grant, and with another role in a narrower place.
func roleWithout(rights *record.Rights, account record.Account, without record.GrantKey, place oci.Name, role record.Role, name oci.Name) (best record.Role) {
	if name == place || place != "" && strings.HasPrefix(string(name), string(place)+"/") {
		best = role
	}
	better := func(g record.Grant) {
		if g.GrantKey != without && g.Role.Rank() > best.Rank() {
			best = g.Role
		}
	}
	eachGrant(rights, account.ID, 0, 0, better)
	if namespace, ok := rights.Namespace(name.Namespace()); ok {
		eachGrant(rights, account.ID, namespace.ID, 0, better)
	}
	if repository, ok := rights.Repository(name); ok {
		eachGrant(rights, account.ID, 0, repository.ID, better)
	}
	return best
}
