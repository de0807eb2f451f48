package access

import (
	"cmp"
	"context"
	"errors"
	"strings"

	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// Newcomer is somebody whose identity the company's login has just verified, with what
// it says of them.
type Newcomer struct {
	record.Identity
	// Named is what the claim called Claim says they are called; About is their whole
	// name, and Groups are those that the company has them in.
	Named, Claim, About string
	Groups              []string
}

// TrustIssuer makes an issuer the one by which people may log in.
func (a *Access) TrustIssuer(issuer string) { a.companyIssuer.Store(&issuer) }

// Asking returns a context by which an issuer is asked.
func (a *Access) Asking(ctx context.Context) context.Context { return a.outgoing(ctx) }

// Arrive returns the account of somebody whom the company's login has just verified,
// or makes it, and keeps the groups that the company has it in. It fails with
// CodeUnauthorized where there can be none.
func (a *Access) Arrive(ctx context.Context, n Newcomer) (Caller, error) {
	account, known := a.records.Rights().AccountOf(n.Identity)
	if !known {
		var err error
		if account, err = a.newcomersAccount(ctx, n); err != nil {
			return Caller{}, err
		}
	}
	if account.DisabledAt != 0 {
		return Caller{}, oci.Errorf(oci.CodeUnauthorized, "the account %s is disabled here; a registry admin can enable it", account.Name)
	}
	return Caller{Account: account, proved: true}, a.keepCompanyGroups(ctx, account, n.Groups)
}

func (a *Access) newcomersAccount(ctx context.Context, n Newcomer) (record.Account, error) {
	name, _, _ := strings.Cut(strings.ToLower(n.Named), "@")
	if err := CheckName("an account", name); err != nil {
		return record.Account{}, oci.Errorf(oci.CodeUnauthorized, "the company's login calls you %.60q in its claim %s, and that is no name for an account here; whoever runs the registry can name another claim", n.Named, n.Claim)
	}
	made := record.Account{Name: name, Kind: record.Person, Description: n.About, Issuer: n.Issuer, Subject: n.Subject}
	e := record.Event{Kind: record.EventAccountMade, Subject: "account " + name, Account: name, Detail: "by the company's login"}
	err := a.Change(ctx, Caller{}, e, func(tx *record.Tx) (err error) {
		made, err = tx.MakeAccount(made)
		return err
	})
	if errors.Is(err, record.ErrTaken) {
		return made, oci.Errorf(oci.CodeUnauthorized, "there is an account %s here already that is not the company's; whoever runs the registry can name another claim", name)
	}
	return made, err
}

// keepCompanyGroups makes the account a member of the groups whose claim the company
// says, and of no others that it knows.
func (a *Access) keepCompanyGroups(ctx context.Context, account record.Account, said []string) error {
	return a.records.Update(ctx, "company-groups", func(tx *record.Tx) error {
		names, changed, err := tx.KeepCompanyGroups(account.ID, said)
		if err != nil || !changed {
			return err
		}
		return tx.Log(record.Event{
			Kind: record.EventGroupChanged, Account: account.Name, Subject: "account " + account.Name,
			Detail: "in groups by the company's login: " + cmp.Or(strings.Join(names, ", "), "none"),
		})
	})
}
