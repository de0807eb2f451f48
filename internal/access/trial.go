package access

import (
	"context"
	"fmt"

	"warthesis/internal/record"
)

// TrialAccount is the account that everybody is in a trial.
const TrialAccount = "trial"

// BeginTrial lets everybody who asks be one registry admin. Only records that are empty,
// or a trial's already, can be: in a trial anybody could have done anything.
func (a *Access) BeginTrial(ctx context.Context) (Caller, error) {
	err := a.records.Update(ctx, "begin-trial", func(tx *record.Tx) error {
		is, err := tx.IsTrial()
		if err != nil || is {
			return err
		}
		if has, err := tx.HasAccounts(); err != nil || has {
			return orElse(err, fmt.Errorf("the data folder is one of a registry with logins, and a trial has none; give the trial a folder of its own with --data"))
		}
		if _, err := tx.MakeAccount(record.Account{Name: TrialAccount, Kind: record.Person, Admin: true, Description: "Everybody, in a trial"}); err != nil {
			return err
		}
		return tx.BeginTrial()
	})
	if err != nil {
		return Caller{}, err
	}
	return a.As(ctx, TrialAccount)
}

// NoTrial fails where the records are a trial's.
func (a *Access) NoTrial(ctx context.Context) error {
	is, err := a.records.View(ctx).IsTrial()
	if err == nil && is {
		err = fmt.Errorf("the data folder is a trial's, in which anybody could make accounts and tokens: start it with --trial, or give another folder with --data and push there what is worth keeping")
	}
	return err
}

func orElse(err, other error) error {
	if err != nil {
		return err
	}
	return other
}
