package record

import (
	"context"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"warthesis/internal/oci"
	"warthesis/internal/record/seen"
)

// Role is what somebody may do in a place; each has what the ones before it have.
type Role string

// The roles: pull; also push, under a name that is taken too; also remove, move tags by
// hand and seal; also rules, members and settings.
const (
	NoRole  Role = ""
	Reader  Role = "reader"
	Writer  Role = "writer"
	Curator Role = "curator"
	Owner   Role = "owner"
)

// Roles are all roles, the least first.
var Roles = []Role{Reader, Writer, Curator, Owner}

// Rank orders roles: 0 for NoRole, 4 for Owner.
func (r Role) Rank() int {
	for i, role := range Roles {
		if r == role {
			return i + 1
		}
	}
	return 0
}

// GrantKey is whose a grant is, and where: for an account or a group (the other is
// 0), on a repository, on a namespace or, with neither, on the registry.
type GrantKey struct {
	AccountID    int64
	GroupID      int64
	NamespaceID  int64
	RepositoryID int64
}

// Grant gives a role to an account or a group in a place.
type Grant struct {
	ID        int64
	GrantKey  `gorm:"embedded"`
	Role      Role
	GrantedAt Stamp
	GrantedBy string
}

// at keeps the row of a key.
func (k GrantKey) at(db *gorm.DB) *gorm.DB {
	return db.Where("account_id = ? AND group_id = ? AND namespace_id = ? AND repository_id = ?", k.AccountID, k.GroupID, k.NamespaceID, k.RepositoryID)
}

// Give records a role; it replaces the one that the same account or group has in
// the same place.
func (tx *Tx) Give(g Grant) error {
	tx.touched.grants = append(tx.touched.grants, g.GrantKey)
	if g.RepositoryID != 0 {
		tx.touched.repositories = append(tx.touched.repositories, g.RepositoryID)
	}
	g.GrantedAt = tx.Now()
	return tx.db.Clauses(clause.OnConflict{
		Columns:   []clause.Column{{Name: "account_id"}, {Name: "group_id"}, {Name: "namespace_id"}, {Name: "repository_id"}},
		DoUpdates: clause.AssignmentColumns([]string{"role", "granted_at", "granted_by"}),
	}).Create(&g).Error
}

// TakeRole removes the role that an account or group has in a place. It fails with
// ErrNotFound where it has none.
func (tx *Tx) TakeRole(k GrantKey) error {
	there, err := one[Grant](k.at(tx.db))
	if err != nil {
		return err
	}
	return tx.dropGrants([]Grant{there})
}

// dropGrants removes grants with what is known of their use: their IDs may be
// given again.
func (tx *Tx) dropGrants(all []Grant) error {
	for _, g := range all {
		tx.touched.grants = append(tx.touched.grants, g.GrantKey)
		if g.RepositoryID != 0 {
			tx.touched.repositories = append(tx.touched.repositories, g.RepositoryID)
		}
		if err := tx.db.Where("grant_id = ?", g.ID).Delete(&Use{}).Error; err != nil {
			return err
		}
		if err := tx.db.Where("id = ?", g.ID).Delete(&Grant{}).Error; err != nil {
			return err
		}
	}
	return nil
}

// HasRole reports whether an account has, as itself, the role on the namespace.
func (v View) HasRole(account, namespace int64, role Role) (bool, error) {
	g, err := one[Grant](GrantKey{AccountID: account, NamespaceID: namespace}.at(v.db))
	if err == ErrNotFound {
		return false, nil
	}
	return g.Role == role, err
}

// GrantRow is a grant in the words of people.
type GrantRow struct {
	Grant `gorm:"embedded"`
	// Account or Group names who has it.
	Account string
	Group   string
	// Namespace or Repository names where; both are empty for the registry.
	Namespace  string
	Repository oci.Name
	// UsedAt is when the highest thing that the role allows was last done by it.
	UsedAt Stamp
}

const grantRow = `grants.*, coalesce(accounts.name, '') AS account, coalesce(groups.name, '') AS "group",
	coalesce(namespaces.name, '') AS namespace, coalesce(repositories.name, '') AS repository,
	coalesce((SELECT max(used_at) FROM grant_uses WHERE grant_uses.grant_id = grants.id AND grant_uses.action =
		CASE grants.role WHEN 'reader' THEN 'pull' WHEN 'writer' THEN 'push' WHEN 'curator' THEN 'delete' ELSE 'manage' END), 0) AS used_at`

func grantRows(db *gorm.DB) *gorm.DB {
	return db.Table("grants").Select(grantRow).
		Joins("LEFT JOIN accounts ON accounts.id = grants.account_id").
		Joins("LEFT JOIN groups ON groups.id = grants.group_id").
		Joins("LEFT JOIN namespaces ON namespaces.id = grants.namespace_id").
		Joins("LEFT JOIN repositories ON repositories.id = grants.repository_id").
		Joins("LEFT JOIN namespaces AS parents ON parents.id = repositories.namespace_id").
		Where("coalesce(namespaces.removed_at, 0) = 0 AND coalesce(repositories.removed_at, 0) = 0 AND coalesce(parents.removed_at, 0) = 0").
		Order("repositories.name, namespaces.name, groups.name, accounts.name")
}

// GrantsIn returns who has roles in a namespace and its repositories or, with 0,
// in the registry.
func (s *Store) GrantsIn(ctx context.Context, namespace int64) ([]GrantRow, error) {
	query := grantRows(s.read.WithContext(ctx))
	if namespace == 0 {
		query = query.Where("grants.namespace_id = 0 AND grants.repository_id = 0")
	} else {
		query = query.Where("(grants.namespace_id = ? OR repositories.namespace_id = ?)", namespace, namespace)
	}
	var rows []GrantRow
	return rows, query.Find(&rows).Error
}

// ofMember keeps the grants of an account, those of its groups included.
func ofMember(query *gorm.DB, account int64) *gorm.DB {
	return query.Where("("+seen.Member+")", account, account)
}

// GrantsOf returns the roles of an account, those of its groups included.
func (s *Store) GrantsOf(ctx context.Context, account int64) ([]GrantRow, error) {
	var rows []GrantRow
	return rows, ofMember(grantRows(s.read.WithContext(ctx)), account).Find(&rows).Error
}

// GrantsOfGroup returns the roles that a group gives.
func (s *Store) GrantsOfGroup(ctx context.Context, group int64) ([]GrantRow, error) {
	var rows []GrantRow
	return rows, grantRows(s.read.WithContext(ctx)).Where("grants.group_id = ? AND grants.account_id = 0", group).Find(&rows).Error
}

// OwnsSomething reports whether an account is owner of any place.
func (s *Store) OwnsSomething(ctx context.Context, account int64) (bool, error) {
	var found []Grant
	err := ofMember(s.read.WithContext(ctx).Table("grants").Where("role = ?", Owner), account).Limit(1).Find(&found).Error
	return len(found) > 0, err
}

// Owners returns the names of up to limit people who own a repository or the
// namespace around it, in order.
func (s *Store) Owners(ctx context.Context, namespace, repository int64, limit int) ([]string, error) {
	var names []string
	return names, s.read.WithContext(ctx).Table("grants").Distinct("accounts.name").
		Joins("LEFT JOIN group_members ON group_members.group_id = grants.group_id AND grants.group_id <> 0").
		Joins("JOIN accounts ON accounts.id = CASE WHEN grants.group_id <> 0 THEN group_members.account_id ELSE grants.account_id END").
		Where("grants.role = ? AND accounts.disabled_at = 0 AND accounts.kind = ?", Owner, Person).
		Where("(grants.namespace_id = ? AND grants.repository_id = 0 OR grants.namespace_id = 0 AND grants.repository_id = ?)", namespace, repository).
		Order("accounts.name").Limit(limit).Pluck("accounts.name", &names).Error
}

// Use is that a grant was used.
type Use struct {
	GrantID   int64
	AccountID int64
	Action    string
	UsedAt    Stamp
}

// TableName names the table.
func (Use) TableName() string { return "grant_uses" }

// CountUses records when grants and tokens were last used.
func (tx *Tx) CountUses(uses []Use, tokens []TokenUse) error {
	for _, u := range uses {
		if err := tx.db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&u).Error; err != nil {
			return err
		}
	}
	for _, t := range tokens {
		err := tx.db.Model(&Token{}).Where("id = ?", t.TokenID).Updates(map[string]any{"used_at": t.UsedAt, "used_from": t.UsedFrom}).Error
		if err != nil {
			return err
		}
	}
	return nil
}
