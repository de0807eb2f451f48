package record

import (
	"context"
	"errors"
	"slices"

	"gorm.io/gorm/clause"
)

// AccountKind is who an account is for.
type AccountKind string

// The kinds of accounts.
const (
	Person  AccountKind = "person"
	Machine AccountKind = "machine"
)

// Account is somebody, or a program, that can log in.
type Account struct {
	ID          int64
	Name        string
	Kind        AccountKind
	Admin       bool
	Description string
	// Password is a hash in its own form, "" for none.
	Password string
	// Issuer and Subject name the account at the company's login.
	Issuer     string
	Subject    string
	CreatedAt  Stamp
	CreatedBy  string
	DisabledAt Stamp
}

// Identity names an account at an issuer.
type Identity struct{ Issuer, Subject string }

// MakeAccount records an account. It fails with ErrTaken.
func (tx *Tx) MakeAccount(a Account) (Account, error) {
	a.CreatedAt = tx.Now()
	err := taken(tx.db.Create(&a).Error)
	tx.touched.accounts = append(tx.touched.accounts, a.ID)
	return a, err
}

// AccountColumn is what can be changed of an account.
type AccountColumn string

// The columns of accounts that can be changed.
const (
	AccountAdmin       AccountColumn = "admin"
	AccountDescription AccountColumn = "description"
	AccountPassword    AccountColumn = "password"
	AccountDisabled    AccountColumn = "disabled_at"
)

// SaveAccount records the columns named of an account, which was read in this
// change; all others stay.
func (tx *Tx) SaveAccount(a Account, columns ...AccountColumn) error {
	tx.touched.accounts = append(tx.touched.accounts, a.ID)
	return saveColumns(tx, &a, columns)
}

// saveColumns records the columns of a row by name.
func saveColumns[T any, C ~string](tx *Tx, row *T, columns []C) error {
	if len(columns) == 0 {
		return nil
	}
	names := make([]string, len(columns))
	for i, c := range columns {
		names[i] = string(c)
	}
	return tx.db.Model(row).Select(names).Updates(row).Error
}

// Account returns an account by name, or ErrNotFound.
func (v View) Account(name string) (Account, error) {
	return one[Account](v.db.Where("name = ?", name))
}

// AdminsBeside counts the registry admins that can log in, without one account: by
// a password, or at one of the issuers.
func (v View) AdminsBeside(account int64, issuers []string) (int64, error) {
	var count int64
	return count, v.db.Model(&Account{}).Where("admin AND disabled_at = 0 AND id <> ?", account).
		Where("(password <> '' OR subject <> '' AND issuer IN ?)", append([]string{""}, issuers...)).Count(&count).Error
}

// Accounts returns a page of the accounts.
func (s *Store) Accounts(ctx context.Context, p Page) ([]Account, error) {
	var rows []Account
	return rows, p.On(s.read.WithContext(ctx).Table("accounts"), "name", "created_at").Find(&rows).Error
}

// HasAccounts reports whether there is any account.
func (v View) HasAccounts() (bool, error) {
	_, err := one[Account](v.db)
	if errors.Is(err, ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}

// Group is accounts that get roles together.
type Group struct {
	ID          int64
	Name        string
	Description string
	// Claim is the name of the group at the company's login, "" for none.
	Claim     string
	CreatedAt Stamp
}

type groupMember struct {
	GroupID   int64
	AccountID int64
	Company   bool
}

// MakeGroup records a group. It fails with ErrTaken.
func (tx *Tx) MakeGroup(g Group) (Group, error) {
	g.CreatedAt = tx.Now()
	err := taken(tx.db.Create(&g).Error)
	tx.touched.groups = append(tx.touched.groups, g.ID)
	return g, err
}

// GroupColumn is what can be changed of a group.
type GroupColumn string

// The columns of groups that can be changed.
const (
	GroupDescription GroupColumn = "description"
	GroupClaim       GroupColumn = "claim"
)

// Group returns a group by name, or ErrNotFound.
func (v View) Group(name string) (Group, error) {
	return one[Group](v.db.Where("name = ?", name))
}

// SaveGroup records the columns named of a group; all others stay.
func (tx *Tx) SaveGroup(g Group, columns ...GroupColumn) error {
	tx.touched.groups = append(tx.touched.groups, g.ID)
	return saveColumns(tx, &g, columns)
}

// RemoveGroup removes a group with its memberships and its roles.
func (tx *Tx) RemoveGroup(g Group) error {
	tx.touched.groups = append(tx.touched.groups, g.ID)
	var members []groupMember
	var grants []Grant
	err := errors.Join(tx.db.Where("group_id = ?", g.ID).Find(&members).Error, tx.db.Where("group_id = ?", g.ID).Find(&grants).Error)
	if err != nil {
		return err
	}
	for _, m := range members {
		tx.touched.members = append(tx.touched.members, m.AccountID)
	}
	return errors.Join(tx.db.Where("group_id = ?", g.ID).Delete(&groupMember{}).Error, tx.dropGrants(grants), tx.db.Delete(&g).Error)
}

// Join puts an account into a group.
func (tx *Tx) Join(group, account int64) error {
	tx.touched.members = append(tx.touched.members, account)
	return tx.db.Clauses(clause.OnConflict{DoNothing: true}).Create(&groupMember{group, account, false}).Error
}

// Leave takes an account out of a group. It fails with ErrNotFound where it is not in it.
func (tx *Tx) Leave(group, account int64) error {
	tx.touched.members = append(tx.touched.members, account)
	done := tx.db.Where("group_id = ? AND account_id = ?", group, account).Delete(&groupMember{})
	if done.Error == nil && done.RowsAffected == 0 {
		return ErrNotFound
	}
	return done.Error
}

// KeepCompanyGroups makes the account a member, by the company's login, of exactly
// the groups whose claims are said, and returns their names and whether that
// changes anything.
func (tx *Tx) KeepCompanyGroups(account int64, claims []string) (names []string, changed bool, err error) {
	var groups []Group
	if err := tx.db.Where("claim <> ''").Order("id").Find(&groups).Error; err != nil {
		return nil, false, err
	}
	groups = slices.DeleteFunc(groups, func(g Group) bool { return !slices.Contains(claims, g.Claim) })
	var before []int64
	err = tx.db.Model(&groupMember{}).Where("account_id = ? AND company", account).Order("group_id").Pluck("group_id", &before).Error
	if err != nil || slices.EqualFunc(before, groups, func(id int64, g Group) bool { return id == g.ID }) {
		return nil, false, err
	}
	tx.touched.members = append(tx.touched.members, account)
	if err := tx.db.Where("account_id = ? AND company", account).Delete(&groupMember{}).Error; err != nil {
		return nil, false, err
	}
	for _, g := range groups {
		if err := tx.db.Create(&groupMember{g.ID, account, true}).Error; err != nil {
			return nil, false, err
		}
		names = append(names, g.Name)
	}
	slices.Sort(names)
	return names, true, nil
}
