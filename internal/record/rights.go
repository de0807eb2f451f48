package record

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"warthesis/internal/oci"
)

// Role is what somebody may do in a place; each has what the ones before it have.
type Role string

// The roles: pull; also push; also delete, move tags and set rules; also members
// and settings.
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

// Grant gives a role to an account or a group, in a repository, in a namespace or,
// with neither, in the registry. IDs that do not apply are 0.
type Grant struct {
	ID           int64
	AccountID    int64
	GroupID      int64
	NamespaceID  int64
	RepositoryID int64
	Role         Role
	GrantedAt    Stamp
	GrantedBy    string
}

// TokenKind is what a token was made for.
type TokenKind string

// The kinds of tokens: made by hand, by a login of the client, or by signing in to
// the console.
const (
	TokenMade    TokenKind = "token"
	TokenLogin   TokenKind = "login"
	TokenSession TokenKind = "session"
)

// Scope bounds what a token may be used for: the actions, in the repositories
// whose names match the pattern.
type Scope struct {
	Pattern string   `json:"pattern"`
	Actions []string `json:"actions"`
}

// Token is a secret that stands for an account; the records have its hash alone.
type Token struct {
	ID        int64
	AccountID int64
	Kind      TokenKind
	Name      string
	Hash      string
	Scopes    []Scope `gorm:"serializer:json"`
	CreatedAt Stamp
	// EndsAt is 0 for never.
	EndsAt    Stamp
	RevokedAt Stamp
	UsedAt    Stamp
	UsedFrom  string
}

// IdentityRule lets whoever comes with an identity of the issuer be a machine account.
type IdentityRule struct {
	ID        int64
	Name      string
	Issuer    string
	Audience  string
	Subject   string
	AccountID int64
	CreatedAt Stamp
}

// Settings are those of the registry that are changed while it runs.
type Settings struct {
	// AccountsMakeNamespaces lets every person make namespaces, not admins alone.
	AccountsMakeNamespaces bool
	// PushMakesNamespaces lets a push by somebody who may make a namespace make it.
	PushMakesNamespaces bool
}

// Rights is all that verdicts depend on, at one moment. It is never changed.
type Rights struct {
	Accounts map[int64]Account
	ByName   map[string]int64
	Groups   map[int64]Group
	// GroupsOf lists the groups of an account.
	GroupsOf map[int64][]int64
	// Tokens has those neither revoked nor of a disabled account, by hash.
	Tokens map[string]Token
	// TokenIDs tells which tokens are among them.
	TokenIDs   map[int64]Token
	Namespaces map[string]Namespace
	// Repositories has those with a visibility of their own or a grant.
	Repositories map[oci.Name]Repository
	// Grants are by account, those of its groups included.
	Grants   map[int64][]Grant
	Rules    []IdentityRule
	Settings Settings
}

// Rights returns what verdicts depend on, as of the last commit.
func (s *Store) Rights(ctx context.Context) (*Rights, error) {
	if r := s.cache.rights.Load(); r != nil {
		return r, nil
	}
	before := s.cache.now()
	var r *Rights
	err := s.read.WithContext(ctx).Transaction(func(db *gorm.DB) (err error) {
		r, err = loadRights(db)
		return err
	})
	if err != nil {
		return nil, err
	}
	s.cache.mu.Lock()
	defer s.cache.mu.Unlock()
	// What was loaded before a commit may be older than it, and is not kept.
	if s.cache.generation == before {
		s.cache.rights.Store(r)
	}
	return r, nil
}

// rightsChange drops the rights that are kept once the change is committed.
func (tx *Tx) rightsChange() {
	tx.forget = append(tx.forget, func(c *cache) { c.rights.Store(nil) })
}

func loadRights(db *gorm.DB) (*Rights, error) {
	r := &Rights{
		Accounts: map[int64]Account{}, ByName: map[string]int64{}, Groups: map[int64]Group{}, GroupsOf: map[int64][]int64{},
		Tokens: map[string]Token{}, TokenIDs: map[int64]Token{}, Namespaces: map[string]Namespace{},
		Repositories: map[oci.Name]Repository{}, Grants: map[int64][]Grant{},
	}
	var accounts []Account
	var groups []Group
	var members []groupMember
	var grants []Grant
	var tokens []Token
	var namespaces []Namespace
	var repositories []Repository
	err := errors.Join(
		db.Find(&accounts).Error, db.Find(&groups).Error, db.Order("group_id").Find(&members).Error, db.Order("id").Find(&grants).Error,
		db.Where("revoked_at = 0").Find(&tokens).Error, db.Where("removed_at = 0").Find(&namespaces).Error,
		db.Table("live_repositories").Where("visibility <> '' OR id IN (SELECT repository_id FROM grants)").Find(&repositories).Error,
		db.Order("id").Find(&r.Rules).Error,
	)
	if err == nil {
		r.Settings, err = loadSettings(db)
	}
	if err != nil {
		return nil, fmt.Errorf("read the rights: %w", err)
	}
	for _, a := range accounts {
		r.Accounts[a.ID], r.ByName[a.Name] = a, a.ID
	}
	for _, g := range groups {
		r.Groups[g.ID] = g
	}
	for _, m := range members {
		if known := r.GroupsOf[m.AccountID]; len(known) == 0 || known[len(known)-1] != m.GroupID {
			r.GroupsOf[m.AccountID] = append(known, m.GroupID)
		}
	}
	for _, t := range tokens {
		if r.Accounts[t.AccountID].DisabledAt == 0 {
			r.Tokens[t.Hash], r.TokenIDs[t.ID] = t, t
		}
	}
	for _, n := range namespaces {
		r.Namespaces[n.Name] = n
	}
	for _, repository := range repositories {
		r.Repositories[repository.Name] = repository
	}
	r.spread(grants)
	return r, nil
}

// spread puts the grants of groups to their accounts.
func (r *Rights) spread(grants []Grant) {
	byGroup := map[int64][]Grant{}
	for _, g := range grants {
		if g.GroupID != 0 {
			byGroup[g.GroupID] = append(byGroup[g.GroupID], g)
			continue
		}
		r.Grants[g.AccountID] = append(r.Grants[g.AccountID], g)
	}
	for account, groups := range r.GroupsOf {
		for _, group := range groups {
			r.Grants[account] = append(r.Grants[account], byGroup[group]...)
		}
	}
}

const (
	accountsMakeKey = "accounts_make_namespaces"
	pushMakesKey    = "push_makes_namespaces"
)

func loadSettings(db *gorm.DB) (Settings, error) {
	var rows []meta
	err := db.Where("key IN ?", []string{accountsMakeKey, pushMakesKey}).Find(&rows).Error
	s := Settings{PushMakesNamespaces: true}
	for _, row := range rows {
		switch row.Key {
		case accountsMakeKey:
			s.AccountsMakeNamespaces = row.Value == "true"
		case pushMakesKey:
			s.PushMakesNamespaces = row.Value == "true"
		}
	}
	return s, err
}

// SaveSettings records the registry's settings.
func (tx *Tx) SaveSettings(s Settings) error {
	tx.rightsChange()
	return tx.db.Clauses(clause.OnConflict{UpdateAll: true}).Create([]meta{
		{accountsMakeKey, fmt.Sprint(s.AccountsMakeNamespaces)}, {pushMakesKey, fmt.Sprint(s.PushMakesNamespaces)},
	}).Error
}

// MakeAccount records an account. It fails with ErrTaken.
func (tx *Tx) MakeAccount(a Account) (Account, error) {
	tx.rightsChange()
	a.CreatedAt = tx.Now()
	return a, taken(tx.db.Create(&a).Error)
}

// SaveAccount records what is to be changed of an account, its name aside.
func (tx *Tx) SaveAccount(a Account) error {
	tx.rightsChange()
	return tx.db.Model(&a).Select("kind", "admin", "description", "password", "issuer", "subject", "disabled_at").Updates(&a).Error
}

// Account returns an account by name, or ErrNotFound.
func (v View) Account(name string) (Account, error) {
	return one[Account](v.db.Where("name = ?", name))
}

// Accounts returns a page of the accounts.
func (s *Store) Accounts(ctx context.Context, p Page) ([]Account, error) {
	var rows []Account
	return rows, p.on(s.read.WithContext(ctx).Table("accounts"), "name", "created_at").Find(&rows).Error
}

// HasAccounts reports whether there is any account.
func (s *Store) HasAccounts(ctx context.Context) (bool, error) {
	_, err := one[Account](s.read.WithContext(ctx))
	if errors.Is(err, ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}

// MakeGroup records a group. It fails with ErrTaken.
func (tx *Tx) MakeGroup(g Group) (Group, error) {
	tx.rightsChange()
	g.CreatedAt = tx.Now()
	return g, taken(tx.db.Create(&g).Error)
}

// SaveGroup records what is to be changed of a group.
func (tx *Tx) SaveGroup(g Group) error {
	tx.rightsChange()
	return tx.db.Model(&g).Select("description", "claim").Updates(&g).Error
}

// RemoveGroup removes a group with its memberships and its roles.
func (tx *Tx) RemoveGroup(g Group) error {
	tx.rightsChange()
	return errors.Join(tx.db.Where("group_id = ?", g.ID).Delete(&groupMember{}).Error,
		tx.db.Where("group_id = ?", g.ID).Delete(&Grant{}).Error, tx.db.Delete(&g).Error)
}

// Join puts an account into a group.
func (tx *Tx) Join(group, account int64) error {
	tx.rightsChange()
	return tx.db.Clauses(clause.OnConflict{DoNothing: true}).Create(&groupMember{group, account, false}).Error
}

// Leave takes an account out of a group. It fails with ErrNotFound where it is not in it.
func (tx *Tx) Leave(group, account int64) error {
	tx.rightsChange()
	done := tx.db.Where("group_id = ? AND account_id = ?", group, account).Delete(&groupMember{})
	if done.Error == nil && done.RowsAffected == 0 {
		return ErrNotFound
	}
	return done.Error
}

// KeepCompanyGroups makes the account a member, by the company's login, of exactly
// these groups, and reports whether that changes anything.
func (tx *Tx) KeepCompanyGroups(account int64, groups []int64) (changed bool, err error) {
	var before []int64
	err = tx.db.Model(&groupMember{}).Where("account_id = ? AND company", account).Order("group_id").Pluck("group_id", &before).Error
	groups = slices.Sorted(slices.Values(groups))
	if err != nil || slices.Equal(before, groups) {
		return false, err
	}
	tx.rightsChange()
	if err := tx.db.Where("account_id = ? AND company", account).Delete(&groupMember{}).Error; err != nil {
		return false, err
	}
	for _, g := range groups {
		if err := tx.db.Create(&groupMember{g, account, true}).Error; err != nil {
			return false, err
		}
	}
	return true, nil
}

// Give records a role; it replaces the one that the same account or group has in
// the same place.
func (tx *Tx) Give(g Grant) error {
	tx.rightsChange()
	g.GrantedAt = tx.Now()
	return tx.db.Clauses(clause.OnConflict{
		Columns:   []clause.Column{{Name: "account_id"}, {Name: "group_id"}, {Name: "namespace_id"}, {Name: "repository_id"}},
		DoUpdates: clause.AssignmentColumns([]string{"role", "granted_at", "granted_by"}),
	}).Create(&g).Error
}

// TakeRole removes the role that an account or group has in a place. It fails with
// ErrNotFound where it has none.
func (tx *Tx) TakeRole(g Grant) error {
	tx.rightsChange()
	done := tx.db.Where("account_id = ? AND group_id = ? AND namespace_id = ? AND repository_id = ?",
		g.AccountID, g.GroupID, g.NamespaceID, g.RepositoryID).Delete(&Grant{})
	if done.Error == nil && done.RowsAffected == 0 {
		return ErrNotFound
	}
	return done.Error
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
		Where("coalesce(namespaces.removed_at, 0) = 0 AND coalesce(repositories.removed_at, 0) = 0").
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

// GrantsOf returns the roles of an account, those of its groups included.
func (s *Store) GrantsOf(ctx context.Context, account int64) ([]GrantRow, error) {
	var rows []GrantRow
	return rows, grantRows(s.read.WithContext(ctx)).
		Where("(grants.account_id = ? OR grants.group_id IN (SELECT group_id FROM group_members WHERE account_id = ?))", account, account).
		Find(&rows).Error
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

// TokenUse is that a token was used.
type TokenUse struct {
	TokenID  int64
	UsedAt   Stamp
	UsedFrom string
}

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

// MakeToken records a token.
func (tx *Tx) MakeToken(t Token) (Token, error) {
	tx.rightsChange()
	t.CreatedAt = tx.Now()
	if t.Scopes == nil {
		t.Scopes = []Scope{}
	}
	return t, tx.db.Create(&t).Error
}

// RevokeToken ends a token. It fails with ErrNotFound where it is not live.
func (tx *Tx) RevokeToken(id int64) error {
	tx.rightsChange()
	done := tx.db.Model(&Token{}).Where("id = ? AND revoked_at = 0", id).Update("revoked_at", tx.Now())
	if done.Error == nil && done.RowsAffected == 0 {
		return ErrNotFound
	}
	return done.Error
}

// TokensOf returns the tokens of an account that were not revoked, the newest
// first; sessions of the console only where asked for.
func (s *Store) TokensOf(ctx context.Context, account int64, sessions bool) ([]Token, error) {
	query := s.read.WithContext(ctx).Where("account_id = ? AND revoked_at = 0", account)
	if !sessions {
		query = query.Where("kind <> ?", TokenSession)
	}
	var rows []Token
	return rows, query.Order("id DESC").Find(&rows).Error
}

// DropEnded removes sessions and logins that ended before the time.
func (tx *Tx) DropEnded(before Stamp) error {
	tx.rightsChange()
	return tx.db.Where("kind <> ? AND ends_at <> 0 AND ends_at < ?", TokenMade, before).Delete(&Token{}).Error
}

// MakeIdentityRule records a rule. It fails with ErrTaken.
func (tx *Tx) MakeIdentityRule(r IdentityRule) error {
	tx.rightsChange()
	r.CreatedAt = tx.Now()
	return taken(tx.db.Create(&r).Error)
}

// RemoveIdentityRule removes a rule. It fails with ErrNotFound.
func (tx *Tx) RemoveIdentityRule(name string) error {
	tx.rightsChange()
	done := tx.db.Where("name = ?", name).Delete(&IdentityRule{})
	if done.Error == nil && done.RowsAffected == 0 {
		return ErrNotFound
	}
	return done.Error
}
