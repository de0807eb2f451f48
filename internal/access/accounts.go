package access

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"warthesis/internal/access/passwords"
	"warthesis/internal/oci"
	"warthesis/internal/record"
)

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
	if err := a.Admin(c, "make accounts"); err != nil {
		return record.Account{}, err
	}
	if n.Admin || n.Password != "" {
		if err := a.lasting(c, "make registry admins and passwords"); err != nil {
			return record.Account{}, err
		}
	}
	made := record.Account{Name: n.Name, Kind: n.Kind, Admin: n.Admin, Description: n.Description, CreatedBy: c.Account.Name}
	if err := CheckName("an account", n.Name); err != nil {
		return made, err
	}
	if n.Password != "" {
		if n.Kind == record.Machine {
			return made, noPassword(n.Name)
		}
		if err := passwords.CheckPassword(n.Name, n.Password); err != nil {
			return made, err
		}
		var err error
		if made.Password, err = a.HashPassword(ctx, n.Password); err != nil {
			return made, err
		}
	}
	e := c.Event(record.EventAccountMade)
	e.Subject, e.Detail = "account "+n.Name, string(n.Kind)
	if n.Admin {
		e.Detail += ", registry admin"
	}
	err := a.Change(ctx, c, e, func(tx *record.Tx) (err error) {
		made, err = tx.MakeAccount(made)
		return err
	})
	if errors.Is(err, record.ErrTaken) {
		return made, conflict("the account", n.Name)
	}
	return made, err
}

func noPassword(name string) error {
	return oci.Errorf(oci.CodeQueryInvalid, "%s is a machine account: it logs in by tokens, or by an identity rule, and has no password", name)
}

// AccountChange is what is to be changed of an account; nil fields stay.
type AccountChange struct {
	Description *string
	Admin       *bool
	Disabled    *bool
	// OnOwn says that a caller means to take from its own account what lets it ask.
	OnOwn bool
}

// ChangeAccount changes an account: what is given of it, and nothing else. Nobody can
// take the admin from the last one that can log in.
func (a *Access) ChangeAccount(ctx context.Context, c Caller, name string, change AccountChange) error {
	if err := a.Admin(c, "change accounts"); err != nil {
		return err
	}
	if change.Admin != nil && *change.Admin {
		if err := a.lasting(c, "make registry admins"); err != nil {
			return err
		}
	}
	if takes := change.Admin != nil && !*change.Admin || change.Disabled != nil && *change.Disabled; takes && name == c.Account.Name && !change.OnOwn {
		return oci.Errorf(oci.CodeInUse, "%s is the account that asks, and could not undo this: confirm that it is meant, or let another registry admin do it", name)
	}
	e := c.Event(record.EventAccountChanged)
	e.Subject = "account " + name
	var columns []record.AccountColumn
	var said []string
	set(new(string), change.Description, record.AccountDescription, &columns, "description", &said)
	if change.Admin != nil {
		set(new(bool), change.Admin, record.AccountAdmin, &columns, fmt.Sprintf("registry admin: %t", *change.Admin), &said)
	}
	if change.Disabled != nil {
		set(new(bool), change.Disabled, record.AccountDisabled, &columns, fmt.Sprintf("disabled: %t", *change.Disabled), &said)
	}
	e.Detail = strings.Join(said, ", ")
	return a.Change(ctx, c, e, func(tx *record.Tx) error {
		account, err := tx.Account(name)
		if errors.Is(err, record.ErrNotFound) {
			return noAccount(name)
		}
		if err != nil {
			return err
		}
		before := account
		change.on(&account, tx.Now())
		if err := a.keepsAdmin(tx, before, account); err != nil {
			return err
		}
		return tx.SaveAccount(account, columns...)
	})
}

// on lays the change over an account.
func (change AccountChange) on(account *record.Account, now record.Stamp) {
	if change.Description != nil {
		account.Description = *change.Description
	}
	if change.Admin != nil {
		account.Admin = *change.Admin
	}
	switch {
	case change.Disabled == nil:
	case !*change.Disabled:
		account.DisabledAt = 0
	case account.DisabledAt == 0:
		account.DisabledAt = now
	}
}

// keepsAdmin refuses, within the change, what leaves nobody who administers the
// registry and can log in. Tokens and identities count for nothing: whoever takes
// them away must not be refused.
func (a *Access) keepsAdmin(tx *record.Tx, before, after record.Account) error {
	if !before.Admin || before.DisabledAt != 0 || after.Admin && after.DisabledAt == 0 {
		return nil
	}
	others, err := tx.AdminsBeside(before.ID, a.loginIssuers())
	if err != nil || others > 0 {
		return err
	}
	return oci.Errorf(oci.CodeInUse, "%s is the last registry admin that can log in; make another one first, with a password or by the company's login", before.Name)
}

// loginIssuers are the issuers by which people may log in.
func (a *Access) loginIssuers() []string {
	if issuer := a.companyIssuer.Load(); issuer != nil {
		return []string{*issuer}
	}
	return nil
}

func noAccount(name string) error {
	return oci.Errorf(oci.CodeNameUnknown, "there is no account %s here", name)
}

func (a *Access) account(name string) (record.Account, error) {
	account, ok := a.records.Rights().AccountNamed(name)
	if !ok {
		return account, noAccount(name)
	}
	return account, nil
}

// SetPassword gives an account another password: its own, with the one it has, or
// an admin anybody's. Sessions and logins of the account end. Only the password
// itself proves the password, and nothing that was got by it.
func (a *Access) SetPassword(ctx context.Context, c Caller, name, current, password string) error {
	if err := a.AsLoggedIn(c); err != nil {
		return err
	}
	own := name == c.Account.Name
	if !own || !c.Whole() {
		if err := a.Admin(c, "set the passwords of others"); err != nil {
			return err
		}
		if err := a.lasting(c, "set passwords"); err != nil {
			return err
		}
	}
	account, err := a.account(name)
	if err != nil {
		return err
	}
	switch {
	case account.Kind == record.Machine:
		return noPassword(name)
	case own && account.Password == "":
		return a.Denied(c, "account "+name, "%s has no password here and logs in by the company's login; another registry admin can give it one", name)
	case own:
		if err := a.proves(ctx, c, current); err != nil {
			return err
		}
	}
	if err := passwords.CheckPassword(name, password); err != nil {
		return err
	}
	hash, err := a.HashPassword(ctx, password)
	if err != nil {
		return err
	}
	e := c.Event(record.EventPasswordChanged)
	e.Subject = "account " + name
	return a.Change(ctx, c, e, func(tx *record.Tx) error {
		now, err := tx.Account(name)
		if err != nil {
			return err
		}
		if own && now.Password != account.Password {
			return oci.Errorf(oci.CodeDenied, "the password was changed by somebody else a moment ago")
		}
		return setPassword(tx, now, hash, c.Token.ID)
	})
}

// setPassword records a password; logins and sessions end, but for one.
func setPassword(tx *record.Tx, account record.Account, hash string, but int64) error {
	account.Password = hash
	if err := tx.SaveAccount(account, record.AccountPassword); err != nil {
		return err
	}
	return tx.EndLogins(account.ID, but)
}

// proves refuses whoever does not know the password of the account by which it came.
func (a *Access) proves(ctx context.Context, c Caller, password string) error {
	_, err := a.prove(ctx, c.Account.Name, password, c.Address)
	if errors.Is(err, oci.CodeUnauthorized) {
		return oci.Errorf(oci.CodeDenied, "the current password is wrong")
	}
	return err
}
