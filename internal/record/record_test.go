package record

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/clock"
	"warthesis/internal/oci"
	"warthesis/internal/record/schema"
	"warthesis/internal/record/taglog"
)

var ctx = context.Background()

func open(t *testing.T, path string) (*Store, *clock.Set) {
	clk := clock.NewSet(time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC))
	s, err := Open(path, func(time.Duration) clock.Clock { return clk })
	require.NoError(t, err)
	return s, clk
}

func startAt(time.Duration) clock.Clock {
	return clock.NewSet(time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC))
}

func fresh(t *testing.T) (*Store, *clock.Set) {
	s, clk := open(t, filepath.Join(t.TempDir(), "records.db"))
	t.Cleanup(func() { require.NoError(t, s.Close()) })
	return s, clk
}

func digestOf(seed any) oci.Digest { return oci.DigestOf(oci.SHA256, fmt.Append(nil, seed)) }

// keep records a manifest under a tag in a repository.
func keep(t *testing.T, s *Store, name oci.Name, tag oci.Tag, digest oci.Digest) Repository {
	var r Repository
	require.NoError(t, s.Update(ctx, "test", func(tx *Tx) (err error) {
		ensured, err := tx.EnsureRepository(name, Maker{Namespace: true})
		if err != nil {
			return err
		}
		r = ensured.Repository
		document, err := tx.KeepBlob(Placing{Digest: digest, Size: 2, Place: "x"})
		if err != nil {
			return err
		}
		m, err := tx.KeepManifest(r, Manifest{Digest: digest, MediaType: oci.MediaTypeImage, Size: 2}, document, nil)
		if err != nil {
			return err
		}
		_, err = tx.MoveTag(r, tag, m, Actor{Account: 7, Token: "laptop"})
		return err
	}))
	return r
}

func TestWhatWasCommittedIsThereAfterReopening(t *testing.T) {
	path := filepath.Join(t.TempDir(), "records.db")
	s, clk := open(t, path)
	r := keep(t, s, "timetable/planner", "latest", digestOf(1))
	clk.MoveTo(clk.Now().Add(time.Hour))
	require.NoError(t, s.Update(ctx, "test", (*Tx).KeepServed))
	require.NoError(t, s.Close())

	var before time.Duration
	s, err := Open(path, func(served time.Duration) clock.Clock {
		before = served
		return clk
	})
	require.NoError(t, err)
	defer s.Close()
	got, err := s.TagTarget(ctx, r.ID, "latest")
	require.NoError(t, err)
	assert.Equal(t, digestOf(1), got)
	assert.Equal(t, time.Hour, before, "served time goes on where the last run stopped")
}

func TestARecordFileOfANewerProgramIsRefused(t *testing.T) {
	path := filepath.Join(t.TempDir(), "records.db")
	pool := schema.OpenPool(path, "immediate", false, false)
	_, err := pool.Exec("PRAGMA user_version = 9999")
	require.NoError(t, err)
	require.NoError(t, pool.Close())
	_, err = Open(path, func(time.Duration) clock.Clock { return nil })
	assert.ErrorContains(t, err, "newer warthesis")
}

func TestAConnectionThatDoesNotTakeItsSettingsIsRefused(t *testing.T) {
	// A database in memory cannot have a write-ahead log.
	memory := schema.OpenPool(":memory:", "immediate", false, false)
	defer memory.Close()
	assert.ErrorContains(t, memory.Ping(), "does not take the setting")
}

func TestAFailedChangeLeavesItsNeighboursInTheGroupBe(t *testing.T) {
	s, _ := fresh(t)
	broken := errors.New("broken")
	var all sync.WaitGroup
	errs := make([]error, 60)
	for i := range errs {
		all.Go(func() {
			errs[i] = s.Update(ctx, "test", func(tx *Tx) error {
				if _, err := tx.EnsureRepository(oci.Name(fmt.Sprintf("r%d", i)), Maker{Namespace: true}); err != nil {
					return err
				}
				switch i % 3 {
				case 1:
					return broken
				case 2:
					panic("lost")
				}
				return nil
			})
		})
	}
	all.Wait()
	for i, err := range errs {
		_, there := s.Repository(ctx, oci.Name(fmt.Sprintf("r%d", i)))
		switch i % 3 {
		case 0:
			assert.NoError(t, err)
			assert.NoError(t, there)
		case 1:
			assert.ErrorIs(t, err, broken)
			assert.ErrorIs(t, there, ErrNotFound)
		case 2:
			assert.ErrorContains(t, err, "panicked")
			assert.ErrorIs(t, there, ErrNotFound)
		}
	}
}

// A reader that asks while tags move must never be told, after a move was
// acknowledged, what was there before it.
func TestCachesFollowEachCommitBeforeItIsAcknowledged(t *testing.T) {
	s, _ := fresh(t)
	r := keep(t, s, "a", "latest", digestOf(0))
	done := make(chan struct{})
	var readers sync.WaitGroup
	for range 4 {
		readers.Go(func() {
			for {
				select {
				case <-done:
					return
				default:
					_, err := s.TagTarget(ctx, r.ID, "latest")
					assert.NoError(t, err)
				}
			}
		})
	}
	for i := range 200 {
		keep(t, s, "a", "latest", digestOf(i))
		got, err := s.TagTarget(ctx, r.ID, "latest")
		require.NoError(t, err)
		require.Equal(t, digestOf(i), got, "move %d", i)
	}
	close(done)
	readers.Wait()
}

func TestTheTagLogHasEveryMove(t *testing.T) {
	s, _ := fresh(t)
	keep(t, s, "a", "stable", digestOf(1))
	keep(t, s, "a", "stable", digestOf(2))
	r := keep(t, s, "a", "stable", digestOf(2))
	require.NoError(t, s.Update(ctx, "test", func(tx *Tx) error { return tx.DeleteTag(r, "stable", 1, Actor{Account: 8}) }))
	log, err := s.View(ctx).TagLog(r.ID).Read("stable", 0, 10)
	require.NoError(t, err)
	require.Len(t, log, 3, "pointing a tag where it points already is no move")
	for i, want := range []taglog.Move{
		{From: digestOf(2), MovedBy: 8}, {From: digestOf(1), To: digestOf(2), MovedBy: 7, Token: "laptop"}, {To: digestOf(1), MovedBy: 7, Token: "laptop"},
	} {
		got := log[i]
		assert.Equal(t, want, taglog.Move{From: got.From, To: got.To, MovedBy: got.MovedBy, Token: got.Token}, i)
	}
}

func TestListsPageByKeyInBothOrders(t *testing.T) {
	s, clk := fresh(t)
	for i := range 7 {
		clk.MoveTo(clk.Now().Add(time.Minute))
		keep(t, s, oci.Name(fmt.Sprintf("n/r%d", (i*3)%7)), "latest", digestOf(i))
	}
	for _, order := range []Order{ByName, ByChange} {
		var names []oci.Name
		page := Page{Order: order, Limit: 3, Seen: Seen{Everything: true}}
		for {
			rows, err := s.Repositories(ctx, "n", page)
			require.NoError(t, err)
			if len(rows) == 0 {
				break
			}
			for _, row := range rows {
				names = append(names, row.Name)
			}
			page.After, page.AfterAt = string(rows[len(rows)-1].Name), rows[len(rows)-1].PushedAt
		}
		want := []oci.Name{"n/r0", "n/r1", "n/r2", "n/r3", "n/r4", "n/r5", "n/r6"}
		if order == ByChange {
			want = []oci.Name{"n/r4", "n/r1", "n/r5", "n/r2", "n/r6", "n/r3", "n/r0"}
		}
		assert.Equal(t, want, names, order)
	}
	rows, err := s.Repositories(ctx, "", Page{Contains: "R3", Limit: 10, Seen: Seen{Everything: true}})
	require.NoError(t, err)
	require.Len(t, rows, 1)
	assert.EqualValues(t, 1, rows[0].Tags)
}

// A SELECT that is never read to its end would keep its connection at the moment
// of the question, and the write-ahead log with it.
func TestAQuestionForHealthHoldsNoReaderBack(t *testing.T) {
	s, _ := fresh(t)
	require.NoError(t, s.Update(ctx, "test", (*Tx).KeepServed))
	for range 2 * readers {
		require.NoError(t, s.Ready(ctx))
	}
	require.NoError(t, s.Update(ctx, "test", func(tx *Tx) error {
		_, err := tx.MakeNamespace(Namespace{Name: "berths"})
		return err
	}))
	var all sync.WaitGroup
	for range 2 * readers {
		all.Go(func() {
			_, err := s.View(ctx).Namespace("berths")
			assert.NoError(t, err)
		})
	}
	all.Wait()
}
