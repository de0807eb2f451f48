package record

import (
	"fmt"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/oci"
	"warthesis/internal/record/seals"
)

// Lists, finds and mounts ask the database who sees what, however many places have
// a visibility or grants of their own.
func TestWhatIsSeenDoesNotGrowWithWhatOthersMake(t *testing.T) {
	path := filepath.Join(t.TempDir(), "records.db")
	s, _ := open(t, path)
	const many = 40_000
	var jun Account
	require.NoError(t, s.Update(ctx, "test", func(tx *Tx) (err error) {
		n, err := tx.MakeNamespace(Namespace{Name: "crowd", Open: true})
		require.NoError(t, err)
		jun, err = tx.MakeAccount(Account{Name: "jun", Kind: Person})
		require.NoError(t, err)
		for _, sql := range []string{
			`WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < ?) INSERT INTO repositories (namespace_id, name, visibility, created_at, pushed_at, pushed_served)
				SELECT ?, 'crowd/r' || i, CASE i % 2 WHEN 0 THEN 'open' ELSE 'closed' END, 1, 1, 1 FROM n`,
			`INSERT INTO grants (account_id, group_id, namespace_id, repository_id, role, granted_at, granted_by)
				SELECT 1 + 0 * ?, 0, 0, id, 'reader', 1, '' FROM repositories WHERE namespace_id = ? AND id % 4 = 1`,
		} {
			require.NoError(t, tx.db.Exec(sql, many, n.ID).Error)
		}
		for _, name := range []oci.Name{"crowd/r1", "crowd/r2"} {
			r, err := tx.Repository(name)
			require.NoError(t, err)
			b, err := tx.KeepBlob(Placing{Digest: digestOf(name), Size: 7, Place: "x"})
			require.NoError(t, err)
			require.NoError(t, tx.Hold(r, b, Actor{}))
		}
		return nil
	}))
	require.NoError(t, s.Close())
	require.EqualValues(t, 1, jun.ID)
	s, _ = open(t, path)
	t.Cleanup(func() { _ = s.Close() })
	for _, c := range []struct {
		says   string
		seen   Seen
		first  oci.Name
		count  int64
		mounts bool
	}{
		{"nobody", Seen{}, "crowd/r10", many / 2, false},
		{"somebody with very many roles", Seen{Account: jun.ID}, "crowd/r1", many/2 + many/4, true},
		{"somebody without any", Seen{Account: 77}, "crowd/r10", many / 2, false},
		{"everything", Seen{Everything: true}, "crowd/r1", many, true},
		{"everything within a pattern", Seen{Everything: true, Globs: []string{"crowd/r39*"}}, "crowd/r39", 1111, false},
		{"nothing", Seen{Nothing: true}, "", 0, false},
	} {
		names, err := s.RepositoryNames(ctx, "", 1, c.seen)
		require.NoError(t, err, c.says)
		if c.first != "" {
			require.Equal(t, []oci.Name{c.first}, names, c.says)
		}
		rows, err := s.Namespaces(ctx, Page{Limit: 10, Seen: c.seen})
		require.NoError(t, err, c.says)
		if c.count > 0 {
			require.Len(t, rows, 1, c.says)
			assert.Equal(t, c.count, rows[0].Repositories, c.says)
		}
		_, err = s.Repositories(ctx, "crowd", Page{Limit: 10, Seen: c.seen})
		require.NoError(t, err, c.says)
		_, err = s.View(ctx).HeldAnywhere(digestOf(oci.Name("crowd/r1")), "", c.seen)
		assert.Equal(t, c.mounts, err == nil, c.says)
		_, err = s.View(ctx).Find(c.seen).Digest("sha256:abcdef", 10)
		require.NoError(t, err, c.says)
		_, err = s.View(ctx).Find(c.seen).HolderCounts([]oci.Digest{digestOf(oci.Name("crowd/r1"))})
		require.NoError(t, err, c.says)
	}
}

// The rights that commits have brought along are those that are read from the file.
func TestRightsFollowEachCommitRowByRow(t *testing.T) {
	path := filepath.Join(t.TempDir(), "records.db")
	s, _ := open(t, path)
	change := func(do func(*Tx) error) { require.NoError(t, s.Update(ctx, "test", do)) }
	var ines, jun Account
	var group Group
	var berths, beds Namespace
	var seatmap, pricing Repository
	var login, child, made Token
	change(func(tx *Tx) (err error) {
		ines, err = tx.MakeAccount(Account{Name: "ines", Kind: Person, Admin: true, Password: "x"})
		require.NoError(t, err)
		jun, err = tx.MakeAccount(Account{Name: "jun", Kind: Person, Issuer: "i", Subject: "s"})
		require.NoError(t, err)
		group, err = tx.MakeGroup(Group{Name: "berths", Claim: "dept"})
		require.NoError(t, err)
		berths, err = tx.MakeNamespace(Namespace{Name: "berths"})
		require.NoError(t, err)
		seatmap, err = tx.MakeRepository(Repository{NamespaceID: berths.ID, Name: "berths/seatmap", Visibility: VisibilityOpen})
		require.NoError(t, err)
		pricing, err = tx.MakeRepository(Repository{NamespaceID: berths.ID, Name: "berths/pricing"})
		require.NoError(t, err)
		require.NoError(t, tx.Join(group.ID, jun.ID))
		login, err = tx.MakeToken(Token{AccountID: jun.ID, Kind: TokenLogin, Hash: "login"})
		require.NoError(t, err)
		child, err = tx.MakeToken(Token{AccountID: jun.ID, Kind: TokenSession, Hash: "child", ParentID: login.ID})
		require.NoError(t, err)
		made, err = tx.MakeToken(Token{AccountID: jun.ID, Kind: TokenMade, Hash: "made", ParentID: login.ID})
		return err
	})
	steps := []func(*Tx) error{
		func(tx *Tx) error {
			return tx.Give(Grant{GrantKey: GrantKey{GroupID: group.ID, NamespaceID: berths.ID}, Role: Writer})
		},
		func(tx *Tx) error {
			return tx.Give(Grant{GrantKey: GrantKey{AccountID: jun.ID, RepositoryID: pricing.ID}, Role: Reader})
		},
		func(tx *Tx) error {
			return tx.SaveRepository(Repository{ID: seatmap.ID, Name: seatmap.Name}, RepositoryVisibility)
		},
		func(tx *Tx) error { return tx.RenameNamespace(berths, "beds", over) },
		func(tx *Tx) (err error) {
			beds, err = tx.MakeNamespace(Namespace{Name: "berths", Open: true})
			return err
		},
		func(tx *Tx) error { return tx.EndLogin(login.ID) },
		func(tx *Tx) error { return tx.TakeRole(GrantKey{AccountID: jun.ID, RepositoryID: pricing.ID}) },
		func(tx *Tx) error { _, err := tx.RemoveNamespace(beds, Actor{}, over); return err },
		func(tx *Tx) error { return tx.RenameNamespace(berths, "berths", over) },
		func(tx *Tx) error { return tx.SaveAccount(Account{ID: ines.ID, DisabledAt: 1}, AccountDisabled) },
		func(tx *Tx) error { return tx.SaveSettings(Settings{AccountsMakeNamespaces: true}) },
		func(tx *Tx) error { return tx.MakeIdentityRule(IdentityRule{Name: "r", AccountID: jun.ID}) },
		func(tx *Tx) error { return tx.RemoveGroup(group) },
		func(tx *Tx) error { return tx.RemoveIdentityRule("r") },
	}
	for i, step := range steps {
		change(step)
		want, err := loadRights(s.read)
		require.NoError(t, err)
		assert.Equal(t, whole(want), whole(s.Rights()), "after step %d", i)
	}
	_, live := s.Rights().TokenByID(child.ID)
	assert.False(t, live, "what was got by a login ends with it")
	kept, live := s.Rights().TokenByID(made.ID)
	assert.True(t, live, "what was made by hand goes on")
	assert.Zero(t, kept.ParentID)
	require.ErrorIs(t, s.Update(ctx, "test", func(tx *Tx) error {
		_ = tx.SaveAccount(Account{ID: jun.ID, Admin: true}, AccountAdmin)
		return ErrTaken
	}), ErrTaken)
	admin, _ := s.Rights().Account(jun.ID)
	assert.False(t, admin.Admin, "a change that failed changes nothing")
	require.NoError(t, s.Close())
}

// whole is all that rights hold, in a form that can be compared.
func whole(r *Rights) map[string]map[string]string {
	all := map[string]map[string]string{}
	put := func(what string, key, value any) {
		if all[what] == nil {
			all[what] = map[string]string{}
		}
		all[what][fmt.Sprint(key)] = fmt.Sprintf("%+v", value)
	}
	r.accounts.All(func(k int64, v Account) { put("accounts", k, v) })
	r.names.All(func(k string, v int64) { put("names", k, v) })
	r.identities.All(func(k Identity, v int64) { put("identities", k, v) })
	r.groups.All(func(k int64, v Group) { put("groups", k, v) })
	r.groupsOf.All(func(k int64, v []int64) { put("groups of", k, v) })
	r.tokens.All(func(k string, v Token) { put("tokens", k, v) })
	r.hashes.All(func(k int64, v string) { put("hashes", k, v) })
	r.namespaces.All(func(k string, v Namespace) { put("namespaces", k, v) })
	r.namespaceNames.All(func(k int64, v string) { put("namespace names", k, v) })
	r.repositories.All(func(k oci.Name, v Repository) { put("repositories", k, v) })
	r.repositoryNames.All(func(k int64, v oci.Name) { put("repository names", k, v) })
	r.grants.All(func(k GrantKey, v Grant) { put("grants", k, v) })
	put("rules", "", r.rules)
	put("settings", "", r.settings)
	return all
}

// over goes over seals, of which there are none here.
var over = seals.Leave{Over: "a test"}
