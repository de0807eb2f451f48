package record

import (
	"bufio"
	"database/sql"
	"errors"
	"io"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/oci"
	"warthesis/internal/record/schema"
)

// The counts of a namespace are kept by each change of a holding, and must be what
// counting everything gives, whatever happened.
func TestTheSumsOfANamespaceAreWhatCountingGives(t *testing.T) {
	s, _ := fresh(t)
	random := rand.New(rand.NewPCG(3, 4))
	names := []oci.Name{"a/x", "a/y", "b/x", "b/y"}
	for range 300 {
		require.NoError(t, s.Update(ctx, "test", func(tx *Tx) error {
			ensured, err := tx.EnsureRepository(names[random.IntN(len(names))], Maker{Namespace: true})
			if err != nil {
				return err
			}
			digest := digestOf(random.IntN(12))
			switch random.IntN(5) {
			case 0, 1, 2:
				b, err := tx.KeepBlob(Placing{Digest: digest, Size: 100 + int64(digest[8]), Place: "x"})
				if err != nil {
					return err
				}
				return tx.Hold(ensured.Repository, b, Actor{})
			case 3:
				return ignoring(tx.EndHolding(ensured.Repository, digest, Actor{}), ErrNotFound)
			}
			return ignoring(tx.RenameRepository(ensured.Repository, names[random.IntN(len(names))], over), ErrTaken, ErrNotFound)
		}))
	}
	var rows []struct{ Kept, Counted string }
	require.NoError(t, s.read.Raw(`SELECT n.blobs || ' ' || n.blob_bytes || ' ' || coalesce((SELECT sum(holders) FROM namespace_blobs WHERE namespace_id = n.id), 0) AS kept,
		(SELECT count(DISTINCT h.content_id) || ' ' || coalesce((SELECT sum(size) FROM blobs WHERE content_id IN (SELECT h2.content_id FROM holdings AS h2
			JOIN repositories AS r2 ON r2.id = h2.repository_id WHERE r2.namespace_id = n.id AND h2.ended_at = 0)), 0) || ' ' || count(h.content_id)
			FROM repositories AS r JOIN holdings AS h ON h.repository_id = r.id AND h.ended_at = 0 WHERE r.namespace_id = n.id) AS counted
		FROM namespaces AS n`).Scan(&rows).Error)
	require.Len(t, rows, 2)
	for _, row := range rows {
		assert.Equal(t, row.Counted, row.Kept)
		assert.NotEqual(t, "0 0 0", row.Kept)
	}
}

func ignoring(err error, those ...error) error {
	for _, one := range those {
		if err == one {
			return nil
		}
	}
	return err
}

// What a grant, a log or a cache may name never means another thing later.
func TestNumbersAreNeverGivenTwice(t *testing.T) {
	path := filepath.Join(t.TempDir(), "records.db")
	s, _ := open(t, path)
	var last Group
	for range 3 {
		require.NoError(t, s.Update(ctx, "test", func(tx *Tx) (err error) {
			before := last.ID
			if last, err = tx.MakeGroup(Group{Name: "crew"}); err != nil {
				return err
			}
			assert.Greater(t, last.ID, before)
			return tx.RemoveGroup(last)
		}))
		// Also over a restart.
		require.NoError(t, s.Close())
		s, _ = open(t, path)
	}
	defer s.Close()
	for _, table := range []string{"accounts", "groups", "grants", "tokens", "identity_rules", "namespaces", "repositories", "manifests", "tags", "tag_moves", "removals", "events"} {
		var sql string
		require.NoError(t, s.read.Raw("SELECT sql FROM sqlite_master WHERE type = 'table' AND name = ?", table).Scan(&sql).Error)
		assert.Contains(t, sql, "AUTOINCREMENT", table)
	}
}

// BenchmarkAMillionBlobs measures what the later parts are bounded by, on records of a
// million blobs that two million edges name.
func BenchmarkAMillionBlobs(b *testing.B) {
	const shared = 2000
	path := filepath.Join(b.TempDir(), "records.db")
	if err := schema.Migrate(path); err != nil {
		b.Fatal(err)
	}
	pool := schema.OpenPool(path, "immediate", false, false)
	million, err := os.ReadFile(filepath.Join("..", "..", "bench", "million.sql"))
	if err != nil {
		b.Fatal(err)
	}
	if _, err := pool.Exec(string(million)); err != nil {
		b.Fatal(err)
	}
	if err := pool.Close(); err != nil {
		b.Fatal(err)
	}
	s, err := Open(path, startAt)
	if err != nil {
		b.Fatal(err)
	}
	defer s.Close()

	b.Run("unheld", func(b *testing.B) {
		yardstick, err := os.ReadFile(filepath.Join("..", "..", "bench", "unheld.sql"))
		if err != nil {
			b.Fatal(err)
		}
		var plans, asked time.Duration
		for b.Loop() {
			began := time.Now()
			for one := range strings.SplitSeq(strings.TrimSpace(string(yardstick)), ";") {
				rows, err := s.read.Raw(one).Rows()
				if err != nil {
					b.Fatal(err)
				}
				var name, digest sql.RawBytes
				var size int64
				for rows.Next() {
					if err := rows.Scan(&name, &digest, &size); err != nil {
						b.Fatal(err)
					}
				}
				if err := errors.Join(rows.Err(), rows.Close()); err != nil {
					b.Fatal(err)
				}
			}
			asked += time.Since(began)
			began = time.Now()
			out, goes := bufio.NewWriter(io.Discard), 0
			terms := s.Terms(0)
			terms.Served = math.MaxInt64
			if _, err := s.PlanUnheld(ctx, terms, func() error { return nil }, func(raw []byte) error {
				goes++
				_, err := out.Write(raw)
				return err
			}); err != nil || goes == 0 {
				b.Fatal(err, goes)
			}
			plans += time.Since(began)
			b.ReportMetric(float64(goes), "found")
		}
		b.ReportMetric(asked.Seconds()/float64(b.N), "s/query")
		b.ReportMetric(plans.Seconds()/float64(b.N), "s/plan")
		b.ReportMetric(plans.Seconds()/asked.Seconds(), "plan/query")
	})
	b.Run("delete-on-a-shared-layer", func(b *testing.B) {
		next := int64(0)
		var took []time.Duration
		for b.Loop() {
			next++
			r := Repository{ID: next%shared + 1}
			err := s.Update(ctx, "delete", func(tx *Tx) error {
				began := time.Now()
				defer func() { took = append(took, time.Since(began)) }()
				m, err := one[Manifest](manifestRows(tx.db).Where("manifests.repository_id = ? AND manifests.state = ?", r.ID, StateLive))
				if err != nil {
					return err
				}
				if _, err := tx.Namers(r.ID, m.Digest, []oci.Relation{oci.RelationChild}, 5); err != nil {
					return err
				}
				_, err = tx.DeleteManifest(r, m.ID, m.Digest, 1, Actor{})
				return err
			})
			if err != nil {
				b.Fatal(err)
			}
		}
		slices.Sort(took)
		b.ReportMetric(took[len(took)/2].Seconds()*1000, "ms/median")
		b.ReportMetric(took[len(took)*99/100].Seconds()*1000, "ms/p99")
	})
}
