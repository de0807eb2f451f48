package record

import (
	"encoding/json"
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/oci"
	"warthesis/internal/record/arrivals"
	"warthesis/internal/record/unheld"
)

// plan returns what goes, as words, and what stays.
func plan(t *testing.T, s *Store, terms unheld.Terms) (goes []string, kept []unheld.Sum) {
	t.Helper()
	sums, err := s.PlanUnheld(ctx, terms, func() error { return nil }, func(raw []byte) error {
		var f unheld.Found
		require.NoError(t, json.Unmarshal(raw, &f))
		goes = append(goes, fmt.Sprintf("%s %s%s%s %s", f.Kind, f.Repository, f.Name, seedOf(f.Digest), f.Why))
		return nil
	})
	require.NoError(t, err)
	var counted int64
	for _, sum := range sums.Goes {
		counted += sum.Count
	}
	assert.EqualValues(t, len(goes), counted)
	return goes, sums.Stays
}

// seedOf gives a digest of these tests its word back.
func seedOf(d oci.Digest) string {
	for _, seed := range []string{"base", "loose", "free", "image", "index", "document", "child"} {
		if d == digestOf(seed) {
			return "@" + seed
		}
	}
	return ""
}

// shelf is a repository with an index, its child and the child's layer, beside a blob that
// nothing names and one that nothing holds.
func shelf(t *testing.T, s *Store, name oci.Name) Repository {
	var r Repository
	require.NoError(t, s.Update(ctx, "test", func(tx *Tx) error {
		ensured, err := tx.EnsureRepository(name, Maker{Namespace: true})
		if err != nil {
			return err
		}
		r = ensured.Repository
		for _, seed := range []string{"base", "loose", "free"} {
			b, err := tx.KeepBlob(Placing{Digest: digestOf(seed), Size: 10, Place: seed})
			if err == nil && seed != "free" {
				err = tx.Hold(r, b, Actor{})
			}
			if err != nil {
				return err
			}
		}
		edge := func(of oci.Relation, seed string) oci.Edge {
			return oci.Edge{Relation: of, Descriptor: oci.Descriptor{MediaType: "x", Digest: digestOf(seed), Size: 10}}
		}
		for _, m := range []struct {
			seed  string
			named oci.Edge
		}{{"child", edge(oci.RelationLayer, "base")}, {"index", edge(oci.RelationChild, "child")}} {
			document, err := tx.KeepBlob(Placing{Digest: digestOf(m.seed), Size: 10, Place: m.seed})
			if err != nil {
				return err
			}
			kept, err := tx.KeepManifest(r, Manifest{Digest: document.Digest, Size: 10}, document, []oci.Edge{m.named})
			if err != nil {
				return err
			}
			if _, err := tx.MoveTag(r, oci.Tag(m.seed), kept, Actor{}); err != nil {
				return err
			}
		}
		return nil
	}))
	return r
}

func (s *Store) deleteAll(t *testing.T, r Repository, digests ...oci.Digest) {
	require.NoError(t, s.Update(ctx, "test", func(tx *Tx) error {
		found, err := tx.Manifests(r.ID, digests)
		if err != nil {
			return err
		}
		for _, d := range digests {
			removal, err := tx.BeginRemoval(RemovalOfManifest, r, string(d), Actor{})
			if err != nil {
				return err
			}
			if _, err := tx.DeleteManifest(r, found[d].ID, d, removal, Actor{}); err != nil {
				return err
			}
		}
		return nil
	}))
}

const grace = time.Hour

func TestAPlanHasWhatNothingNeedsAndWhyTheRestStays(t *testing.T) {
	s, clk := fresh(t)
	r := shelf(t, s, "a/x")
	pass := func(span time.Duration) { clk.MoveTo(clk.Now().Add(span)) }
	pass(grace - 1)
	goes, kept := plan(t, s, s.Terms(grace))
	assert.Empty(t, goes, "all was touched within the grace")
	assert.ElementsMatch(t, []unheld.Sum{{Kind: "holding", Why: unheld.InGrace, Count: 1, Bytes: 10}, {Kind: "blob", Why: unheld.InGrace, Count: 1, Bytes: 10}}, kept)
	pass(1)
	goes, _ = plan(t, s, s.Terms(grace))
	assert.ElementsMatch(t, []string{"holding a/x@loose unnamed", "blob @free unneeded", "blob @loose unneeded"}, goes)
	scoped := s.Terms(grace)
	scoped.RepositoryID = r.ID
	goes, _ = plan(t, s, scoped)
	assert.Equal(t, []string{"holding a/x@loose unnamed"}, goes, "bytes go with the whole registry alone")
	scoped.RepositoryID++
	goes, _ = plan(t, s, scoped)
	assert.Empty(t, goes)
	crashed := s.Terms(grace)
	crashed.Crashed = true
	goes, kept = plan(t, s, crashed)
	assert.Equal(t, []string{"blob @free unneeded"}, goes)
	assert.Contains(t, kept, unheld.Sum{Kind: "holding", Why: unheld.AfterCrash, Count: 1, Bytes: 10})

	// An open upload keeps what came since it began, and nothing older.
	require.NoError(t, s.Update(ctx, "test", func(tx *Tx) error {
		return tx.KeepUpload(Upload{ID: "u", RepositoryID: r.ID, Algorithm: oci.SHA256})
	}))
	pass(time.Minute)
	require.NoError(t, s.Update(ctx, "test", func(tx *Tx) error {
		return tx.Unheld().Touch([]unheld.Touch{{Repository: r.ID, Digest: digestOf("loose"), Served: tx.Served()}})
	}))
	pass(grace)
	goes, kept = plan(t, s, s.Terms(grace))
	assert.Equal(t, []string{"blob @free unneeded"}, goes)
	assert.Contains(t, kept, unheld.Sum{Kind: "holding", Why: unheld.Uploading, Count: 1, Bytes: 10})
	require.NoError(t, s.Update(ctx, "test", func(tx *Tx) error { return tx.DropUpload("u") }))

	// What was deleted goes when its window is over, a child not before what names it, and
	// with them, in the same plan, what nothing names then.
	s.deleteAll(t, r, digestOf("index"))
	pass(DefaultRestoreWindow - grace)
	require.NoError(t, s.Update(ctx, "test", func(tx *Tx) error {
		id, err := tx.BeginRemoval(RemovalOfTag, r, "child", Actor{})
		if err != nil {
			return err
		}
		return tx.DeleteTag(r, "child", id, Actor{})
	}))
	goes, kept = plan(t, s, s.Terms(grace))
	assert.NotContains(t, goes, "manifest a/x@index window-over")
	assert.Contains(t, kept, unheld.Sum{Kind: "manifest", Why: unheld.InWindow, Count: 1})
	pass(grace)
	goes, _ = plan(t, s, s.Terms(grace))
	assert.Contains(t, goes, "manifest a/x@index window-over")
	assert.NotContains(t, goes, "manifest a/x@child window-over", "it is live")
	s.deleteAll(t, r, digestOf("child"))
	pass(DefaultRestoreWindow)
	goes, _ = plan(t, s, s.Terms(grace))
	assert.Equal(t, []string{"manifest a/x@index window-over", "manifest a/x@child window-over", "holding a/x@base unnamed", "holding a/x@loose unnamed"}, goes[:4])
	assert.Len(t, goes, 9, "the bytes of all five go as well")
}

// What changes between a plan and its taking is asked again.
func TestATakeAsksAgain(t *testing.T) {
	s, clk := fresh(t)
	r := shelf(t, s, "a/x")
	s.deleteAll(t, r, digestOf("index"))
	clk.MoveTo(clk.Now().Add(DefaultRestoreWindow))
	terms := s.Terms(grace)
	var found []unheld.Found
	_, err := s.PlanUnheld(ctx, terms, func() error { return nil }, func(raw []byte) error {
		var f unheld.Found
		found = append(found, f)
		return json.Unmarshal(raw, &found[len(found)-1])
	})
	require.NoError(t, err)
	of := func(kind unheld.Kind) unheld.Found {
		i := slices.IndexFunc(found, func(f unheld.Found) bool { return f.Kind == kind })
		require.GreaterOrEqual(t, i, 0)
		return found[i]
	}
	manifest, held := of(unheld.Manifest), of(unheld.Holding)
	key := unheld.Key{RepositoryID: held.RepositoryID, ContentID: held.ContentID}
	var removal int64
	require.NoError(t, s.read.Raw("SELECT max(id) FROM removals").Scan(&removal).Error)

	take := func() (taken bool) {
		require.NoError(t, s.Update(ctx, "test", func(tx *Tx) (err error) {
			taken, err = tx.Unheld().TakeManifest(manifest.ID, s.Terms(grace), 1)
			return err
		}))
		return taken
	}
	// A longer window came meanwhile; then one that is shorter than it can be.
	window := func(w time.Duration) {
		require.NoError(t, s.Update(ctx, "test", func(tx *Tx) error {
			settings := s.Rights().Settings()
			settings.RestoreWindow = w
			return tx.SaveSettings(settings)
		}))
	}
	window(2 * DefaultRestoreWindow)
	assert.False(t, take())
	window(DefaultRestoreWindow)
	require.True(t, take())
	assert.False(t, take(), "it is gone")
	// What began to go does not come back by a longer window.
	window(2 * DefaultRestoreWindow)
	assert.ErrorIs(t, undo(s, removal), ErrWindow)

	require.NoError(t, s.Update(ctx, "test", func(tx *Tx) error {
		if err := tx.Unheld().Touch([]unheld.Touch{{Repository: r.ID, Digest: held.Digest, Served: tx.Served()}}); err != nil {
			return err
		}
		taken, err := tx.Unheld().TakeHoldings([]unheld.Key{key}, s.Terms(grace), nil, 1)
		assert.Empty(t, taken, "it was touched")
		return err
	}))
	clk.MoveTo(clk.Now().Add(grace))
	require.NoError(t, s.Update(ctx, "test", func(tx *Tx) error {
		taken, err := tx.Unheld().TakeHoldings([]unheld.Key{key, {RepositoryID: r.ID, ContentID: 999}}, s.Terms(grace), nil, 1)
		assert.Equal(t, []unheld.Key{key}, taken)
		if err != nil {
			return err
		}
		blobs, err := tx.Unheld().TakeBlobs(map[int64]oci.Digest{held.ContentID: held.Digest, manifest.ContentID: "sha256:other"}, s.Terms(grace), nil, 1)
		require.Len(t, blobs, 1, "one is another digest's number by now")
		assert.Equal(t, "loose", blobs[0].Place)
		return err
	}))
	// A place that is gone is emptied, and its row stays for the logs.
	var gone int64
	require.NoError(t, s.Update(ctx, "test", func(tx *Tx) error {
		id, err := tx.RemoveRepository(r, Actor{}, over)
		gone = id
		return err
	}))
	clk.MoveTo(clk.Now().Add(2 * DefaultRestoreWindow))
	goes, _ := plan(t, s, s.Terms(grace))
	assert.Contains(t, goes, "manifest a/x@child window-over")
	assert.Contains(t, goes, "repository a/x window-over")
	require.NoError(t, s.Update(ctx, "test", func(tx *Tx) error {
		_, err := tx.Unheld().EmptyRepository(r.ID, s.Terms(grace))
		assert.ErrorIs(t, err, unheld.ErrWaits)
		return nil
	}))
	assert.ErrorIs(t, undo(s, gone), ErrWindow)
}

// A tag that points to nothing that can be pulled cannot come about by our doors; records
// that were mended by hand may have one.
func TestATagOfNothingGoes(t *testing.T) {
	s, _ := fresh(t)
	r := keep(t, s, "a/x", "lost", digestOf("image"))
	require.NoError(t, s.Update(ctx, "test", func(tx *Tx) error {
		id, err := tx.BeginRemoval(RemovalOfManifest, r, "by hand", Actor{})
		if err != nil {
			return err
		}
		return tx.db.Exec("UPDATE manifests SET state = 'deleted', deleted_at = 1, removal_id = ?", id).Error
	}))
	goes, kept := plan(t, s, s.Terms(grace))
	assert.Equal(t, []string{"tag a/xlost@image of-nothing"}, goes)
	assert.Contains(t, kept, unheld.Sum{Kind: "manifest", Why: unheld.InWindow, Count: 1})
	require.NoError(t, s.Update(ctx, "test", func(tx *Tx) error {
		taken, err := tx.Unheld().TakeTags([]int64{1}, s.Terms(grace), 1)
		assert.Equal(t, []int64{1}, taken)
		return err
	}))
}

// What is carried in over days stays since it began, for as long after it was last heard of as
// it was said, and no day longer; renewed, it stays anew.
func TestWhatIsCarriedInStaysUntilItsTimeIsOver(t *testing.T) {
	s, clk := fresh(t)
	r := shelf(t, s, "a/x")
	pass := func(span time.Duration) { clk.MoveTo(clk.Now().Add(span)) }
	var a arrivals.Arrival
	require.NoError(t, s.Update(ctx, "test", func(tx *Tx) (err error) {
		a, err = tx.Arrivals().Make(arrivals.Arrival{
			Kind: arrivals.Parcel, Name: "november", AccountID: 1, State: arrivals.Going, BeganAt: tx.Now(), BeganServed: tx.Served(), HeardAt: tx.Now(), Days: 14,
			UntilServed: tx.Served() + int64(arrivals.Longest),
		}, []oci.Name{"a/x"})
		return err
	}))
	pass(time.Minute)
	require.NoError(t, s.Update(ctx, "test", func(tx *Tx) error {
		return tx.Unheld().Touch([]unheld.Touch{{Repository: r.ID, Digest: digestOf("loose"), Served: tx.Served()}})
	}))
	taken := func() (keys []unheld.Key) {
		content, err := s.View(ctx).Blob(digestOf("loose"))
		require.NoError(t, err)
		require.NoError(t, s.Update(ctx, "test", func(tx *Tx) (err error) {
			keys, err = tx.Unheld().TakeHoldings([]unheld.Key{{RepositoryID: r.ID, ContentID: content.ContentID}}, s.Terms(grace), nil, int64(tx.Now()))
			return err
		}))
		return keys
	}
	for range 2 {
		pass(arrivals.Longest - time.Hour)
		goes, kept := plan(t, s, s.Terms(grace))
		assert.Equal(t, []string{"blob @free unneeded"}, goes)
		assert.Contains(t, kept, unheld.Sum{Kind: "holding", Why: unheld.Uploading, Count: 1, Bytes: 10})
		assert.Empty(t, taken())
		require.NoError(t, s.Update(ctx, "test", func(tx *Tx) error {
			assert.True(t, a.Renew(tx.Served()))
			assert.False(t, a.Renew(tx.Served()), "not again within a minute")
			return tx.Arrivals().Change(a)
		}))
	}
	pass(arrivals.Longest)
	goes, _ := plan(t, s, s.Terms(grace))
	assert.Contains(t, goes, "holding a/x@loose unnamed")
	require.NoError(t, s.Update(ctx, "test", func(tx *Tx) error { return tx.Arrivals().Drop(tx.Now(), tx.Served()) }))
	now, err := s.View(ctx).Arrivals().Get(a.ID)
	require.NoError(t, err)
	assert.Equal(t, arrivals.Stopped, now.State)
	assert.Len(t, taken(), 1)
	// Of one account only so many are open.
	require.NoError(t, s.Update(ctx, "test", func(tx *Tx) error {
		for range arrivals.MostOf {
			if _, err := tx.Arrivals().Make(arrivals.Arrival{AccountID: 2, BeganServed: tx.Served(), UntilServed: tx.Served() + 1}, nil); err != nil {
				return err
			}
		}
		_, err := tx.Arrivals().Make(arrivals.Arrival{AccountID: 2, BeganServed: tx.Served(), UntilServed: tx.Served() + 1}, nil)
		assert.ErrorIs(t, err, arrivals.ErrMost)
		_, err = tx.Arrivals().Make(arrivals.Arrival{AccountID: 3, BeganServed: tx.Served(), UntilServed: tx.Served() + 1}, nil)
		return err
	}))
}
