package access

import (
	"context"
	"errors"

	"warthesis/internal/access/passwords"
	"warthesis/internal/record"
)

// MadeUpPassword returns a password that nobody has thought of.
func MadeUpPassword() string {
	secret, _ := NewSecret()
	return secret[len(secretPrefix) : len(secretPrefix)+20]
}

// firstAdmin is the account of the first admin.
const firstAdmin = "admin"

// NeedsAdmin reports whether there is no account yet.
func (a *Access) NeedsAdmin(ctx context.Context) (bool, error) {
	has, err := a.records.View(ctx).HasAccounts()
	return !has, err
}

// MakeFirstAdmin makes the first account, where there is none still.
func (a *Access) MakeFirstAdmin(ctx context.Context, password string) error {
	if err := passwords.CheckPassword(firstAdmin, password); err != nil {
		return err
	}
	hash, err := a.HashPassword(ctx, password)
	if err != nil {
		return err
	}
	return a.records.Update(ctx, "first-admin", func(tx *record.Tx) error {
		if has, err := tx.HasAccounts(); err != nil || has {
			return err
		}
		_, err := tx.MakeAccount(record.Account{Name: firstAdmin, Kind: record.Person, Admin: true, Description: "Registry admin", Password: hash})
		if err != nil {
			return err
		}
		return tx.Log(record.Event{Kind: record.EventAccountMade, Subject: "account " + firstAdmin, Detail: "by the first start"})
	})
}

// LetIn gives a registry admin another password, by its hash, and makes the account,
// enables it and makes it a registry admin where that is missing: for whoever has
// the machine, and with it everything. Its logins and sessions end.
func (a *Access) LetIn(ctx context.Context, name, hash string) error {
	if err := CheckName("an account", name); err != nil {
		return err
	}
	return a.records.Update(ctx, "recover-admin", func(tx *record.Tx) error {
		account, err := tx.Account(name)
		if errors.Is(err, record.ErrNotFound) {
			account, err = tx.MakeAccount(record.Account{Name: name, Kind: record.Person, Admin: true, Description: "Registry admin"})
		}
		if err != nil {
			return err
		}
		if account.Kind == record.Machine {
			return noPassword(name)
		}
		account.Admin, account.DisabledAt = true, 0
		if err := tx.SaveAccount(account, record.AccountAdmin, record.AccountDisabled); err != nil {
			return err
		}
		if err := setPassword(tx, account, hash, 0); err != nil {
			return err
		}
		return tx.Log(record.Event{Kind: record.EventPasswordChanged, Subject: "account " + name, Detail: "a registry admin, by whoever has the machine of the service"})
	})
}
