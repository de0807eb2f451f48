package record

import (
	"errors"
	"fmt"

	"gorm.io/gorm"

	"warthesis/internal/oci"
	"warthesis/internal/record/table"
)

// Rights is all that verdicts depend on, as of one commit. It is never changed: a
// commit makes the next one of it, which shares what stayed. It is safe for
// concurrent use.
type Rights struct {
	accounts   table.Table[int64, Account]
	names      table.Table[string, int64]
	identities table.Table[Identity, int64]
	groups     table.Table[int64, Group]
	groupsOf   table.Table[int64, []int64]
	// tokens has those that are not revoked, by hash.
	tokens     table.Table[string, Token]
	hashes     table.Table[int64, string]
	namespaces table.Table[string, Namespace]
	// namespaceNames and repositoryNames tell under which name a place stands here.
	namespaceNames table.Table[int64, string]
	// repositories has those with a visibility of their own or a grant.
	repositories    table.Table[oci.Name, Repository]
	repositoryNames table.Table[int64, oci.Name]
	grants          table.Table[GrantKey, Grant]
	rules           []IdentityRule
	settings        Settings
}

// Account returns an account by ID.
func (r *Rights) Account(id int64) (Account, bool) { return r.accounts.Get(id) }

// AccountNamed returns an account by name.
func (r *Rights) AccountNamed(name string) (Account, bool) {
	id, ok := r.names.Get(name)
	if !ok {
		return Account{}, false
	}
	return r.accounts.Get(id)
}

// AccountOf returns the account of somebody at the company's login.
func (r *Rights) AccountOf(i Identity) (Account, bool) {
	id, ok := r.identities.Get(i)
	if !ok {
		return Account{}, false
	}
	return r.accounts.Get(id)
}

// EachAccount calls each for every account, in no order.
func (r *Rights) EachAccount(each func(Account)) {
	r.accounts.All(func(_ int64, a Account) { each(a) })
}

// Group returns a group by ID.
func (r *Rights) Group(id int64) (Group, bool) { return r.groups.Get(id) }

// EachGroup calls each for every group, in no order.
func (r *Rights) EachGroup(each func(Group)) { r.groups.All(func(_ int64, g Group) { each(g) }) }

// GroupsOf returns the IDs of an account's groups.
func (r *Rights) GroupsOf(account int64) []int64 {
	groups, _ := r.groupsOf.Get(account)
	return groups
}

// EachMember calls each for every account that is in groups, in no order.
func (r *Rights) EachMember(each func(account int64, groups []int64)) { r.groupsOf.All(each) }

// Token returns a token that is not revoked by the hash of its secret.
func (r *Rights) Token(hash string) (Token, bool) { return r.tokens.Get(hash) }

// TokenByID returns a token that is not revoked.
func (r *Rights) TokenByID(id int64) (Token, bool) {
	hash, ok := r.hashes.Get(id)
	if !ok {
		return Token{}, false
	}
	return r.tokens.Get(hash)
}

// Namespace returns a namespace by name.
func (r *Rights) Namespace(name string) (Namespace, bool) { return r.namespaces.Get(name) }

// EachNamespace calls each for every namespace that is not removed, in no order.
func (r *Rights) EachNamespace(each func(Namespace)) {
	r.namespaces.All(func(_ string, n Namespace) { each(n) })
}

// NamespaceByID returns a namespace that is not removed.
func (r *Rights) NamespaceByID(id int64) (Namespace, bool) {
	name, ok := r.namespaceNames.Get(id)
	if !ok {
		return Namespace{}, false
	}
	return r.namespaces.Get(name)
}

// Repository returns a repository that has a visibility of its own or a grant.
func (r *Rights) Repository(name oci.Name) (Repository, bool) { return r.repositories.Get(name) }

// Grant returns the grant of an account or a group in exactly one place.
func (r *Rights) Grant(k GrantKey) (Grant, bool) { return r.grants.Get(k) }

// IdentityRules returns the identity rules, the oldest first. They are shared: the
// caller does not change them.
func (r *Rights) IdentityRules() []IdentityRule { return r.rules }

// Settings returns the registry's settings.
func (r *Rights) Settings() Settings { return r.settings }

// Rights returns what verdicts depend on, as of the last commit.
func (s *Store) Rights() *Rights { return s.rights.Load() }

// touched is which rows that rights depend on a change has written.
type touched struct {
	accounts, groups, members, tokens, namespaces, repositories []int64
	grants                                                      []GrantKey
	rules, settings                                             bool
}

// edit is one step from rights to the next.
type edit func(*Rights)

// editsOf reads what a change has touched, as it is now within the change, and
// returns the steps that bring the rights there.
func (tx *Tx) editsOf() ([]edit, error) {
	t := tx.touched
	var edits []edit
	err := errors.Join(
		reread(tx, &edits, t.accounts, "id IN ?", func(r *Rights, id int64, a *Account) {
			if a != nil {
				r.setAccount(*a)
			}
		}, func(a Account) int64 { return a.ID }),
		reread(tx, &edits, t.groups, "id IN ?", func(r *Rights, id int64, g *Group) {
			if g == nil {
				r.groups.Drop(id)
			} else {
				r.groups.Set(id, *g)
			}
		}, func(g Group) int64 { return g.ID }),
		reread(tx, &edits, t.tokens, "id IN ? AND revoked_at = 0", (*Rights).setToken, func(t Token) int64 { return t.ID }),
		reread(tx, &edits, t.namespaces, "id IN ? AND removed_at = 0", (*Rights).setNamespace, func(n Namespace) int64 { return n.ID }),
		reread(tx, &edits, t.repositories, "id IN ? AND id IN (SELECT id FROM live_repositories) AND "+ownRights, (*Rights).setRepository,
			func(r Repository) int64 { return r.ID }),
		tx.membersEdits(&edits), tx.grantEdits(&edits),
	)
	if t.rules && err == nil {
		var rules []IdentityRule
		err = tx.db.Order("id").Find(&rules).Error
		edits = append(edits, func(r *Rights) { r.rules = rules })
	}
	if t.settings && err == nil {
		var s Settings
		s, err = loadSettings(tx.db)
		edits = append(edits, func(r *Rights) { r.settings = s })
	}
	if err != nil {
		return nil, fmt.Errorf("follow the rights: %w", err)
	}
	return edits, nil
}

// ownRights keeps the repositories that rights have to know one by one.
const ownRights = "(visibility <> '' OR id IN (SELECT repository_id FROM grants WHERE repository_id <> 0))"

// reread adds a step for each touched row; the row is nil where it is not to be seen.
func reread[T any](tx *Tx, edits *[]edit, touched []int64, which string, set func(*Rights, int64, *T), idOf func(T) int64) error {
	return inSlices(touched, func(some []int64) error {
		var rows []T
		if err := tx.db.Where(which, some).Find(&rows).Error; err != nil {
			return err
		}
		found := make(map[int64]*T, len(rows))
		for i := range rows {
			found[idOf(rows[i])] = &rows[i]
		}
		// What went makes way first: its name may be another's now.
		for _, gone := range []bool{true, false} {
			for _, id := range some {
				if row := found[id]; (row == nil) == gone {
					*edits = append(*edits, func(r *Rights) { set(r, id, row) })
				}
			}
		}
		return nil
	})
}

func (tx *Tx) membersEdits(edits *[]edit) error {
	for _, account := range tx.touched.members {
		var groups []int64
		err := tx.db.Model(&groupMember{}).Distinct("group_id").Where("account_id = ?", account).Order("group_id").Pluck("group_id", &groups).Error
		if err != nil {
			return err
		}
		*edits = append(*edits, func(r *Rights) {
			if len(groups) == 0 {
				r.groupsOf.Drop(account)
			} else {
				r.groupsOf.Set(account, groups)
			}
		})
	}
	return nil
}

func (tx *Tx) grantEdits(edits *[]edit) error {
	for _, key := range tx.touched.grants {
		g, err := one[Grant](key.at(tx.db))
		if err != nil && !errors.Is(err, ErrNotFound) {
			return err
		}
		*edits = append(*edits, func(r *Rights) {
			if g.ID == 0 {
				r.grants.Drop(key)
			} else {
				r.grants.Set(key, g)
			}
		})
	}
	return nil
}

func (r *Rights) setAccount(a Account) {
	if before, known := r.accounts.Get(a.ID); known && before.Subject != "" {
		r.identities.Drop(Identity{before.Issuer, before.Subject})
	}
	r.accounts.Set(a.ID, a)
	r.names.Set(a.Name, a.ID)
	if a.Subject != "" {
		r.identities.Set(Identity{a.Issuer, a.Subject}, a.ID)
	}
}

func (r *Rights) setToken(id int64, t *Token) {
	if hash, known := r.hashes.Get(id); known {
		r.tokens.Drop(hash)
		r.hashes.Drop(id)
	}
	if t != nil {
		r.tokens.Set(t.Hash, *t)
		r.hashes.Set(id, t.Hash)
	}
}

func (r *Rights) setNamespace(id int64, n *Namespace) {
	setNamed(&r.namespaces, &r.namespaceNames, id, n, func(n Namespace) (int64, string) { return n.ID, n.Name })
}

func (r *Rights) setRepository(id int64, found *Repository) {
	setNamed(&r.repositories, &r.repositoryNames, id, found, func(r Repository) (int64, oci.Name) { return r.ID, r.Name })
}

// setNamed puts a place under the name that it has now, and takes it from the one
// that it had, where that is not another's by now; nil takes it away.
func setNamed[N comparable, P any](places *table.Table[N, P], names *table.Table[int64, N], id int64, place *P, of func(P) (int64, N)) {
	if before, known := names.Get(id); known {
		there, _ := places.Get(before)
		if owner, _ := of(there); owner == id {
			places.Drop(before)
		}
		names.Drop(id)
	}
	if place != nil {
		_, name := of(*place)
		places.Set(name, *place)
		names.Set(id, name)
	}
}

// seal ends the changes of this copy.
func (r *Rights) seal() {
	r.accounts.Seal()
	r.names.Seal()
	r.identities.Seal()
	r.groups.Seal()
	r.groupsOf.Seal()
	r.tokens.Seal()
	r.hashes.Seal()
	r.namespaces.Seal()
	r.namespaceNames.Seal()
	r.repositories.Seal()
	r.repositoryNames.Seal()
	r.grants.Seal()
}

// followRights makes the next rights of the last ones. Only the writer calls it.
func (s *Store) followRights(edits []edit) {
	if len(edits) == 0 {
		return
	}
	next := *s.rights.Load()
	for _, step := range edits {
		step(&next)
	}
	next.seal()
	s.rights.Store(&next)
}

// loadRights reads the rights whole, once, before the writer starts.
func loadRights(db *gorm.DB) (*Rights, error) {
	r := &Rights{}
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
		db.Table("live_repositories").Where(ownRights).Find(&repositories).Error,
		db.Order("id").Find(&r.rules).Error,
	)
	if err == nil {
		r.settings, err = loadSettings(db)
	}
	if err != nil {
		return nil, fmt.Errorf("read the rights: %w", err)
	}
	for _, a := range accounts {
		r.setAccount(a)
	}
	for _, g := range groups {
		r.groups.Set(g.ID, g)
	}
	for _, m := range members {
		known := r.GroupsOf(m.AccountID)
		if len(known) == 0 || known[len(known)-1] != m.GroupID {
			r.groupsOf.Set(m.AccountID, append(known, m.GroupID))
		}
	}
	for i := range tokens {
		r.setToken(tokens[i].ID, &tokens[i])
	}
	for i := range namespaces {
		r.setNamespace(namespaces[i].ID, &namespaces[i])
	}
	for i := range repositories {
		r.setRepository(repositories[i].ID, &repositories[i])
	}
	for _, g := range grants {
		r.grants.Set(g.GrantKey, g)
	}
	r.seal()
	return r, nil
}
