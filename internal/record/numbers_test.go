package record

import (
	"bufio"
	"fmt"
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
	const blobs, repositories, manifests, shared = 1_000_000, 10_000, 200_000, 2000
	path := filepath.Join(b.TempDir(), "records.db")
	if err := schema.Migrate(path); err != nil {
		b.Fatal(err)
	}
	pool := schema.OpenPool(path, "immediate", false, false)
	for _, sql := range []string{
		"INSERT INTO namespaces (name, created_at) WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 50) SELECT 'n' || i, 1 FROM n",
		fmt.Sprintf("INSERT INTO repositories (namespace_id, name, created_at, pushed_at, pushed_served) WITH RECURSIVE n (i) AS (SELECT 0 UNION ALL SELECT i + 1 FROM n WHERE i < %d) SELECT i %% 50 + 1, 'n' || (i %% 50 + 1) || '/r' || i, 1, i, 1 FROM n", repositories-1),
		fmt.Sprintf("INSERT INTO contents (digest) WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < %d) SELECT 'sha256:' || lower(hex(randomblob(32))) FROM n", blobs),
		"INSERT INTO blobs (content_id, size, place, placed_at, touched_served) SELECT id, 1000 + id % 100000, '', 1, id FROM contents",
		"INSERT INTO media_types (id, name) VALUES (1, 'config'), (2, 'layer')",
		fmt.Sprintf(`INSERT INTO manifests (id, repository_id, content_id, digest, state, media_type, artifact_type, subject, size, content_size, platforms, annotations, pushed_at, pushed_served, pushed_by, touched_served)
			SELECT id, (id - 1) %% %d + 1, id, digest, 'live', 'm', '', '', 1500, 50000, 'linux/amd64', '{}', 1, id, 1, id FROM contents WHERE id <= %d`, repositories, manifests),
		// The first shared repositories have one base layer in all their images.
		fmt.Sprintf(`INSERT INTO edges (manifest_id, position, repository_id, content_id, relation, media_type_id, size)
			SELECT m.id, k, m.repository_id, CASE WHEN k = 1 AND m.repository_id <= %[1]d THEN %[2]d + 1 WHEN k < 4 THEN %[2]d + 2 + (m.id * 4 + k) %% %[3]d
				ELSE %[2]d + 2 + (m.repository_id * 80 + (m.id * 7 + k * 13) %% 80) %% %[3]d END, CASE k WHEN 0 THEN 1 ELSE 2 END, CASE k WHEN 0 THEN 1 ELSE 2 END, 1
			FROM manifests AS m, (WITH RECURSIVE n (k) AS (SELECT 0 UNION ALL SELECT k + 1 FROM n WHERE k < 9) SELECT k FROM n)`, shared, manifests, blobs-manifests-2),
		"INSERT INTO holdings (repository_id, content_id, held_at, touched_served) SELECT DISTINCT repository_id, content_id, 1, 1 FROM edges ORDER BY 1, 2",
		// One in twenty is held, and nothing names it.
		"INSERT OR IGNORE INTO holdings (repository_id, content_id, held_at, touched_served) SELECT id % 10000 + 1, id, 1, 1 FROM contents WHERE id % 20 = 0",
	} {
		if _, err := pool.Exec(sql); err != nil {
			b.Fatal(sql, err)
		}
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
				var found []int64
				if err := s.read.Raw(one).Scan(&found).Error; err != nil {
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
