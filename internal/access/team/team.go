// Package team makes what a new team needs, in one step.
package team

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"warthesis/internal/access"
	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// Make makes a namespace, a group of its people and the roles between them, in one step.
func Make(ctx context.Context, a *access.Access, c access.Caller, name, description string, owners, writers []string) error {
	if err := a.Admin(c, "make teams"); err != nil {
		return err
	}
	if _, err := access.CheckNamespace(name); err != nil {
		return err
	}
	if err := access.CheckName("a group", name); err != nil {
		return err
	}
	var ids []int64
	for _, account := range slices.Concat(owners, writers) {
		found, err := a.As(ctx, account)
		if err != nil {
			return err
		}
		ids = append(ids, found.Account.ID)
	}
	e := c.PlaceEvent(record.EventNamespaceMade, oci.Name(name))
	e.Detail = fmt.Sprintf("with the group %s (writer); owners: %s; others: %s", name, cmp.Or(strings.Join(owners, ", "), "nobody"), cmp.Or(strings.Join(writers, ", "), "nobody"))
	err := a.ChangeIn(ctx, c, e, func(tx *record.Tx) (in record.Event, err error) {
		namespace, err := tx.MakeNamespace(record.Namespace{Name: name, Description: description, PushMakes: record.Writer})
		if err != nil {
			return in, err
		}
		in.NamespaceID = namespace.ID
		group, err := tx.MakeGroup(record.Group{Name: name, Description: description})
		if err != nil {
			return in, err
		}
		give := func(to record.GrantKey, role record.Role) error {
			to.NamespaceID = namespace.ID
			return tx.Give(record.Grant{GrantKey: to, Role: role, GrantedBy: c.Account.Name})
		}
		if err := give(record.GrantKey{GroupID: group.ID}, record.Writer); err != nil {
			return in, err
		}
		for i, id := range ids {
			if err := tx.Join(group.ID, id); err != nil {
				return in, err
			}
			if i >= len(owners) {
				continue
			}
			if err := give(record.GrantKey{AccountID: id}, record.Owner); err != nil {
				return in, err
			}
		}
		return in, nil
	})
	if errors.Is(err, record.ErrTaken) {
		return oci.Errorf(oci.CodeInUse, "there is a namespace or a group %s already", name)
	}
	return err
}
