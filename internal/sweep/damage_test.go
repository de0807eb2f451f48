package sweep

import (
	"bytes"
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/blob"
	"warthesis/internal/clock"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/runs"
	"warthesis/internal/record/schema"
	"warthesis/internal/registry"
	"warthesis/internal/work"
)

// world makes a data folder with live images, deleted ones whose window is over, and blobs
// that nothing references: a sweep has something to delete. It returns the folder, and the
// contents of the live images.
func world(t *testing.T) (root string, live []string) {
	root = t.TempDir()
	h := open(t, root)
	var past []registry.ManifestPush
	for i := range 12 {
		name := oci.Name(fmt.Sprintf("signals/relay-%d", i%4))
		raw, layer := []byte(fmt.Sprintf("config %d", i)), []byte(fmt.Sprintf("layer %d", i))
		config, content := push(t, h, name, raw), push(t, h, name, layer)
		push(t, h, name, []byte(fmt.Sprintf("unreferenced %d", i)))
		image := fmt.Appendf(nil, `{"schemaVersion":2,"mediaType":%q,"config":{"mediaType":"application/x","digest":%q,"size":%d},"layers":[{"mediaType":"application/y","digest":%q,"size":%d}]}`,
			oci.MediaTypeImage, config, len(raw), content, len(layer))
		p := registry.ManifestPush{Name: name, Tags: []oci.Tag{oci.Tag(fmt.Sprintf("1.0.%d", i))}, MediaType: oci.MediaTypeImage, Raw: image}
		_, err := h.PushManifest(ctx, p)
		require.NoError(t, err)
		if i%3 == 0 {
			past = append(past, p)
		} else {
			live = append(live, config.String(), content.String(), oci.DigestOf(oci.SHA256, image).String())
		}
	}
	for _, p := range past {
		require.NoError(t, h.DeleteManifest(ctx, p.Name, oci.DigestOf(oci.SHA256, p.Raw)))
	}
	h.clock.MoveTo(h.clock.Now().Add(3 * window))
	require.NoError(t, h.KeepServed())
	h.close(t)
	return root, live
}

func push(t *testing.T, h *house, name oci.Name, raw []byte) oci.Digest {
	d := oci.DigestOf(oci.SHA256, raw)
	require.NoError(t, h.PushBlob(ctx, name, registry.Part{Body: bytes.NewReader(raw), Offset: -1, Length: int64(len(raw))}, d))
	return d
}

// try opens a data folder that may be damaged, sweeps twice, and returns what a complete
// check of the records finds; an error of opening counts as a finding.
func try(t *testing.T, root string) (found []record.Damage, swept bool) {
	clk := clock.NewSet(time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC))
	blobs, err := blob.Open(root, blob.Options{FreeSpace: -1})
	require.NoError(t, err)
	records, err := record.Open(filepath.Join(root, "warthesis.db"), func(before time.Duration) clock.Clock {
		clk.MoveTo(clk.Now().Add(before))
		return clk
	})
	if err != nil {
		return []record.Damage{{What: err.Error()}}, false
	}
	defer func() { _ = records.Close() }()
	r, err := registry.New(blobs, records, clk, registry.Limits{Grace: grace, UploadIdle: 1000 * time.Hour})
	if err != nil {
		return []record.Damage{{What: err.Error()}}, false
	}
	s, err := New(r, records, clk, filepath.Join(root, "reports"), Settings{ScrubWithin: 14 * 24 * time.Hour, Wait: 24 * time.Hour})
	require.NoError(t, err)
	kinds := s.Kinds()
	for i := range kinds {
		kinds[i].When, kinds[i].Tries = work.Schedule{}, 1
	}
	works, err := work.New(records, clk, kinds...)
	if err != nil {
		return []record.Damage{{What: err.Error()}}, false
	}
	works.Start()
	defer works.Close()
	for range 2 {
		clk.MoveTo(clk.Now().Add(2 * window))
		asked, _, err := works.Ask(ctx, work.Wish{Kind: KindSweep, Cause: runs.BySomebody})
		if err != nil {
			break
		}
		for end := time.Now().Add(30 * time.Second); time.Now().Before(end); time.Sleep(time.Millisecond) {
			row, err := records.View(ctx).Runs().Get(asked.ID)
			if err != nil || !row.Open() {
				swept = err == nil && row.State == runs.Done
				break
			}
		}
	}
	found, err = records.CheckIntegrity(context.Background(), -1, func(int) error { return nil })
	require.NoError(t, err)
	return found, swept
}

func copyFolder(t *testing.T, from string) string {
	to := filepath.Join(t.TempDir(), "data")
	require.NoError(t, os.CopyFS(to, os.DirFS(from)))
	return to
}

func assertLive(t *testing.T, root string, live []string) {
	files := (&house{root: root}).files(t)
	for _, digest := range live {
		assert.True(t, slices.Contains(files, digest), "%s of a live image is gone", digest)
	}
}

// Whichever bit of the records flips, in a table, in an index or elsewhere, no content of a
// live image is deleted, and a check reports it. DAMAGE_ROUNDS is how many are tried.
func TestNoFlippedBitOfTheRecordsCostsContent(t *testing.T) {
	root, live := world(t)
	found, swept := try(t, copyFolder(t, root))
	require.Empty(t, found)
	require.True(t, swept)
	rounds, err := strconv.Atoi(cmp.Or(os.Getenv("DAMAGE_ROUNDS"), "30"))
	require.NoError(t, err)
	raw, err := os.ReadFile(filepath.Join(root, "warthesis.db"))
	require.NoError(t, err)
	pages := len(raw) / 4096
	random := rand.New(rand.NewPCG(7, uint64(rounds)))
	for i := range rounds {
		// Pages in turn, so that each table and each index is met.
		at := (i*pages/rounds)*4096 + random.IntN(4096)
		damaged := slices.Clone(raw)
		damaged[at] ^= 1 << random.UintN(8)
		data := copyFolder(t, root)
		require.NoError(t, os.WriteFile(filepath.Join(data, "warthesis.db"), damaged, 0o600))
		found, _ := try(t, data)
		assert.NotEmpty(t, found, "byte %d (page %d): nothing is reported", at, at/4096+1)
		assertLive(t, data, live)
		if t.Failed() {
			return
		}
	}
}

// An index that lacks entries, in pages with right sums, makes no sweep delete what its
// table still references.
func TestAnIndexThatLacksEntriesMakesNoSweepDeleteContent(t *testing.T) {
	root, live := world(t)
	for _, c := range []struct{ table, index, columns, has string }{
		{"edges", "edges_by_content", "content_id, repository_id, relation", "SELECT 'manifest_id NOT IN (' || group_concat(id) || ')' FROM manifests WHERE state = 'live'"},
		{"holdings", "holdings_by_content", "content_id", "SELECT 'content_id NOT IN (' || group_concat(edges.content_id) || ')' FROM edges JOIN manifests ON manifests.id = manifest_id WHERE state = 'live'"},
		{"manifests", "manifests_by_content", "content_id", "SELECT 'content_id NOT IN (' || group_concat(content_id) || ')' FROM manifests WHERE state = 'live'"},
		{"contents", "contents_by_digest", "digest", "SELECT 'id NOT IN (' || group_concat(edges.content_id) || ')' FROM edges JOIN manifests ON manifests.id = manifest_id WHERE state = 'live'"},
	} {
		t.Run(c.index, func(t *testing.T) {
			data := copyFolder(t, root)
			unique := ""
			if c.table == "contents" {
				unique = "UNIQUE "
			}
			whole := fmt.Sprintf("CREATE %sINDEX %s ON %s (%s)", unique, c.index, c.table, c.columns)
			pool := schema.OpenPool(filepath.Join(data, "warthesis.db"), "immediate", false, true)
			conn, err := pool.Conn(ctx)
			require.NoError(t, err)
			var has string
			require.NoError(t, conn.QueryRowContext(ctx, c.has).Scan(&has))
			for _, statement := range []string{
				"DROP INDEX " + c.index, whole + " WHERE " + has, "PRAGMA writable_schema = ON",
				fmt.Sprintf("UPDATE sqlite_schema SET sql = '%s' WHERE name = '%s'", whole, c.index),
			} {
				_, err := conn.ExecContext(ctx, statement)
				require.NoError(t, err, statement)
			}
			require.NoError(t, errors.Join(conn.Close(), pool.Close()))
			found, _ := try(t, data)
			assert.True(t, slices.ContainsFunc(found, func(d record.Damage) bool { return d.Table == c.table && d.Index == c.index }), "%v", found)
			assertLive(t, data, live)
			// Known damage outlives a restart, until a complete check finds none.
			again, swept := try(t, data)
			assert.NotEmpty(t, again)
			assert.False(t, swept)
			fixed, err := sql.Open("sqlite3", filepath.Join(data, "warthesis.db")+"?vfs=pagesum")
			require.NoError(t, err)
			_, err = fixed.Exec("REINDEX " + c.index)
			require.NoError(t, errors.Join(err, fixed.Close()))
			again, _ = try(t, data)
			assert.Empty(t, again)
			again, swept = try(t, data)
			assert.Empty(t, again)
			assert.True(t, swept)
			assertLive(t, data, live)
		})
	}
}
