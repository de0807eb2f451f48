package access

import (
	"context"
	"regexp"
	"slices"
	"strings"

	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// Change runs a change of the records, with its line in the audit log.
func (a *Access) Change(ctx context.Context, c Caller, e record.Event, do func(*record.Tx) error) error {
	return a.ChangeIn(ctx, c, e, func(tx *record.Tx) (record.Event, error) {
		return record.Event{NamespaceID: e.NamespaceID, RepositoryID: e.RepositoryID}, do(tx)
	})
}

// ChangeIn is Change where only the change itself finds out in which place it was, and what
// there is to say of it.
func (a *Access) ChangeIn(ctx context.Context, c Caller, e record.Event, do func(*record.Tx) (in record.Event, err error)) error {
	return a.records.Update(ctx, string(e.Kind), func(tx *record.Tx) error {
		if err := StillMay(tx, c); err != nil {
			return err
		}
		in, err := do(tx)
		if err != nil {
			return err
		}
		e.NamespaceID, e.RepositoryID = in.NamespaceID, in.RepositoryID
		if in.Detail != "" {
			e.Detail = in.Detail
		}
		return tx.Log(e)
	})
}

// StillMay asks within a change whether the caller is still who it was when its
// right was asked.
func StillMay(tx *record.Tx, c Caller) error {
	if c.Nobody() {
		return nil
	}
	now, err := tx.Account(c.Account.Name)
	if err == nil && (now.DisabledAt != 0 || c.Account.Admin && !now.Admin) {
		return oci.Errorf(oci.CodeDenied, "%s was disabled or is no registry admin any more, since a moment ago", c.Account.Name)
	}
	return err
}

// Denied notes a refusal and returns it.
func (a *Access) Denied(c Caller, subject, format string, args ...any) error {
	err := oci.Errorf(oci.CodeDenied, format, args...)
	if c.Nobody() {
		err = oci.Errorf(oci.CodeUnauthorized, "not logged in: this takes a login")
	}
	e := c.Event(record.EventRefused)
	e.Subject, e.Detail = subject, err.Message
	a.Refused(e, Manage)
	return err
}

// Admin refuses whoever is no registry admin.
func (a *Access) Admin(c Caller, what string) error {
	if c.Account.Admin && c.Whole() {
		return nil
	}
	if c.Account.Admin {
		return a.Denied(c, what, "the token %q may not %s: that takes a token with the scope * and the action manage", c.TokenName(), what)
	}
	return a.Denied(c, what, "%s may not %s: that takes a registry admin", c.Who(), what)
}

// Whole reports whether the credential covers all that the account may do.
func (c Caller) Whole() bool {
	return c.asked == nil && (!c.Limited || slices.ContainsFunc(c.Token.Scopes, func(s record.Scope) bool {
		return s.Pattern == "*" && slices.Contains(s.Actions, string(Manage))
	}))
}

// MayManage refuses whoever may not change members and settings of a place: a
// repository, a namespace or, with an empty name, the registry.
func (a *Access) MayManage(ctx context.Context, c Caller, place oci.Name) error {
	if place == "" {
		return a.Admin(c, "change members and settings of the registry")
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
		return a.Denied(c, string(place), "there is no %s here that %s may know of", place, c.Who())
	}
	return a.Denied(c, string(place), "%s", strings.Replace(v.Reason, string(name), string(place), 1))
}

// MayList refuses whoever may not see accounts and groups: admins, those with a
// role on the registry, and owners may.
func (a *Access) MayList(ctx context.Context, c Caller) error {
	offers, err := a.Offers(ctx, c)
	if err != nil || offers.ListsAccounts {
		return err
	}
	return a.Denied(c, "accounts", "%s may not list accounts and groups: that takes an owner of a namespace or a role on the registry", c.Who())
}

// MaySeeRoles says in which places the caller may see the roles of somebody: its own
// everywhere, with a role on the registry anybody's, otherwise where it is owner.
func (a *Access) MaySeeRoles(ctx context.Context, c Caller, account string) (func(place oci.Name) bool, error) {
	if err := a.AsLoggedIn(c); err != nil {
		return nil, err
	}
	rights := a.records.Rights()
	if account == c.Account.Name || RegistryRole(rights, c.Account) != record.NoRole && c.Whole() {
		return func(oci.Name) bool { return true }, nil
	}
	if err := a.MayList(ctx, c); err != nil {
		return nil, err
	}
	return func(place oci.Name) bool {
		if place != "" && !strings.Contains(string(place), "/") {
			place += "/"
		}
		role, _ := roleIn(rights, c.Account, place)
		return role == record.Owner
	}, nil
}

// MayAudit refuses whoever may not read the audit log: whoever has a role on the
// registry may read all of it, an owner that of the own namespace. It returns the
// namespace whose lines are meant, and whether lines of what never was are as well.
func (a *Access) MayAudit(ctx context.Context, c Caller, namespace string) (id int64, all bool, err error) {
	rights := a.records.Rights()
	if RegistryRole(rights, c.Account) != record.NoRole && c.Whole() {
		if namespace == "" {
			return 0, true, nil
		}
		n, err := a.records.View(ctx).LastNamespace(namespace)
		return n.ID, true, passNotFound(err)
	}
	if n, there := rights.Namespace(namespace); there {
		if v, err := a.Verdict(ctx, c, oci.Name(namespace+"/"), Manage); err != nil || v.Allowed {
			return n.ID, false, err
		}
	}
	return 0, false, a.Denied(c, "audit log", "%s may not read this audit log: that takes a role on the registry, or owner of the namespace it is asked for", c.Who())
}

// MayObserve refuses whoever may not see the figures of the process: those with a
// role on the registry may, by a token that covers pulling everywhere.
func (a *Access) MayObserve(c Caller) error {
	return a.watcher(c, "metrics", "the figures of the process")
}

// watcher refuses whoever has no role on the registry.
func (a *Access) watcher(c Caller, subject, what string) error {
	if a.SeesRuns(c) {
		return nil
	}
	return a.Denied(c, subject, "%s may not see %s: that takes a role on the registry", c.Who(), what)
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

// CheckName fails where a name is none for what it is to name.
func CheckName(what, name string) error {
	if !accountName.MatchString(name) || slices.Contains(reservedNames, name) {
		return oci.Errorf(oci.CodeNameInvalid, "%q is no name for %s: up to 64 small letters, digits, '.', '_' and '-', beginning and ending with a letter or digit", name, what)
	}
	return nil
}

func conflict(what, name string) error {
	return oci.Errorf(oci.CodeInUse, "%s %s is there already", what, name)
}
