package schema

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// fillBefore puts something of everything into records of version 4.
func fillBefore(t *testing.T, path string) {
	pool := OpenPool(path, "immediate", false, false)
	defer pool.Close()
	for _, name := range []string{"0001_first", "0002_deleting", "0003_rights", "0004_bounds"} {
		script, err := migrations.ReadFile("migrations/" + name + ".sql")
		require.NoError(t, err)
		_, err = pool.Exec(string(script))
		require.NoError(t, err, name)
	}
	_, err := pool.Exec(`PRAGMA user_version = 4;
		INSERT INTO meta VALUES ('served', '5000');
		INSERT INTO accounts (id, name, kind, admin, description, password, issuer, subject, created_at, created_by) VALUES (3, 'ines', 'person', 1, '', '', '', '', 1, '');
		INSERT INTO namespaces (id, name, created_at) VALUES (1, 'a', 1), (2, 'b', 1);
		INSERT INTO repositories (id, namespace_id, name, created_at, pushed_at) VALUES (1, 1, 'a/x', 1, 1), (2, 1, 'a/y', 1, 1), (3, 2, 'b/z', 1, 1);
		UPDATE repositories SET removed_at = 9, removed_by = 'ines' WHERE id = 2;
		INSERT INTO grants (id, account_id, group_id, namespace_id, repository_id, role, granted_at, granted_by) VALUES (5, 3, 0, 1, 0, 'owner', 1, '');
		INSERT INTO tokens (id, account_id, kind, name, hash, scopes, created_at, ends_at, parent_id) VALUES (2, 3, 'token', 'x', 'h', '[]', 1, 0, 40);
		WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 3000)
			INSERT INTO blobs (id, digest, size, placed_at, touched_at) SELECT i, 'sha256:' || printf('%064x', i), i, 1, 7 FROM n;
		INSERT INTO holdings (repository_id, blob_id, held_at, touched_at) SELECT 1 + id % 3, id, 1, 7 FROM blobs;
		INSERT INTO holdings (repository_id, blob_id, held_at, touched_at, ended_at, ended_by) VALUES (3, 3, 1, 7, 8, 'ines');
		INSERT INTO manifests (id, repository_id, blob_id, digest, state, media_type, artifact_type, subject, size, content_size, platforms, annotations, pushed_at, pushed_by, touched_at)
			SELECT id, 1 + id % 3, id, digest, 'live', 'm', '', '', size, 9, '', '{}', 5000000000, 'ines', 11 FROM blobs WHERE id <= 1000;
		UPDATE manifests SET state = 'deleted', deleted_at = 100, deleted_by = 'ines' WHERE id = 7;
		INSERT INTO edges (manifest_id, position, relation, digest, size, media_type)
			SELECT id, 0, 'config', 'sha256:' || printf('%064x', id + 3), 1, 'c' FROM manifests UNION ALL SELECT id, 1, 'subject', 'sha256:not here', 1, 'm' FROM manifests;
		INSERT INTO tags (repository_id, name, manifest_id, moved_at, moved_by) SELECT repository_id, CASE id % 2 WHEN 0 THEN '1.' || id || '.0' ELSE 't' || id END, id, 5000000001, 'ines'
			FROM manifests WHERE id <> 7 AND id < 900;
		INSERT INTO tag_moves (id, repository_id, tag, digest, previous, moved_at, moved_by) VALUES (1, 2, 'gone', 'sha256:' || printf('%064x', 7), '', 50, 'ines'),
			(2, 2, 'gone', '', 'sha256:' || printf('%064x', 7), 99, 'ines'), (3, 2, 'alone', '', 'sha256:' || printf('%064x', 1), 99, 'ines');
		INSERT INTO uploads VALUES ('u', 1, 'sha256', 0, x'', 1, 7);
		INSERT INTO events (at, kind, repository, tag, digest, account, address, request) VALUES (1, 'login', '', '', '', 'ines', '', ''), (1, 'refused', '', '', '', 'who', '', '')`)
	require.NoError(t, err)
}

// sums is what must hold of migrated records, in one line each.
var sums = map[string]string{
	`SELECT count(*) || ' ' || sum(size) || ' ' || sum(touched_served) || ' ' || group_concat(DISTINCT place) FROM blobs`: "3000 4501500 21000 ",
	`SELECT count(*) FROM contents`: "3001",
	`SELECT count(*) || ' ' || count(DISTINCT repository_id) FROM edges JOIN manifests USING (repository_id) WHERE edges.manifest_id = manifests.id`:                    "2000 3",
	`SELECT count(*) FROM edges JOIN contents ON contents.id = content_id WHERE digest = 'sha256:not here' AND relation = 4`:                                            "1000",
	`SELECT holders || ' ' || (SELECT blobs || ' ' || blob_bytes FROM namespaces WHERE id = 1) FROM namespace_blobs WHERE content_id = 3 AND namespace_id = 1`:          "1 2000 3001000",
	`SELECT group_concat(kind || ' ' || name || ' ' || removed_served || ' ' || removed_by, ', ') FROM (SELECT * FROM removals WHERE kind <> 'manifest' ORDER BY id)`:   "repository a/y 5000 3, blob sha256:" + strings.Repeat("0", 63) + "3 5000 3, tag alone 5000 3",
	`SELECT tags.name || ' ' || removals.kind || ' ' || hex(order_key) || ' ' || moved_at FROM tags JOIN removals ON removals.id = removal_id WHERE tags.name = 'gone'`: "gone manifest 00676F6E65 50",
	`SELECT hex(order_key) || ' ' || moved_served FROM tags WHERE name = '1.8.0'`:                                                                                       "013101380130FF 11",
	`SELECT untagged_at || ' ' || untagged_served FROM manifests WHERE id = 950`:                                                                                        "5000000000 5000",
	// What the tables of before took is given back, also where a cut came between.
	`SELECT freelist_count || ' ' || (SELECT count(*) FROM meta WHERE key = 'shrink') FROM pragma_freelist_count`: "0 0",
	`SELECT group_concat(account_id) FROM events`:                                                                 "3,0",
	`SELECT group_concat(to_id || '-' || from_id || '-' || moved_by) FROM tag_moves`:                              "7-0-3,0-7-3,0-1-3",
	`SELECT seq FROM sqlite_sequence WHERE name = 'tokens'`:                                                       "40",
	`SELECT coalesce(removal_id, 0) > 0 FROM holdings WHERE repository_id = 3 AND content_id = 3`:                 "1",
}

func holds(t *testing.T, path string) {
	pool := OpenPool(path, "immediate", false, true)
	defer pool.Close()
	for query, want := range sums {
		var got string
		require.NoError(t, pool.QueryRow(query).Scan(&got), query)
		assert.Equal(t, want, got, query)
	}
}

// Whenever a migration is cut, the records are as they were or as they shall be, and
// the next start brings them there.
func TestAMigrationThatIsKilledAnywhereIsDoneByTheNextStart(t *testing.T) {
	if path := os.Getenv("MIGRATE_THIS"); path != "" {
		require.NoError(t, Migrate(path))
		return
	}
	cuts := 0
	for after := time.Millisecond; ; after = after*5/4 + time.Millisecond {
		path := filepath.Join(t.TempDir(), "records.db")
		fillBefore(t, path)
		child := exec.Command(os.Args[0], "-test.run", "^TestAMigrationThatIsKilledAnywhereIsDoneByTheNextStart$")
		child.Env = append(os.Environ(), "MIGRATE_THIS="+path)
		out, err := child.StdoutPipe()
		require.NoError(t, err)
		child.Stderr = child.Stdout
		require.NoError(t, child.Start())
		// The copy is the first sign of life: the program's own start is not what is cut.
		began := time.Now()
		for ; !exists(path+".version-4.part") && !exists(path+".version-4"); time.Sleep(time.Millisecond) {
			require.Less(t, time.Since(began), 30*time.Second)
		}
		timer := time.AfterFunc(after-time.Millisecond, func() { _ = child.Process.Kill() })
		said := make([]byte, 64<<10)
		for n := 0; ; {
			m, err := out.Read(said[n:])
			if n += m; err != nil || n == len(said) {
				break
			}
		}
		err = child.Wait()
		timer.Stop()
		require.NoError(t, Migrate(path), "after a cut at %s", after)
		holds(t, path)
		assert.NoFileExists(t, path+".version-4.part")
		if err == nil {
			break
		}
		cuts++
	}
	assert.Greater(t, cuts, 3, "it was cut on its way")
	t.Logf("cut %d times", cuts)
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// A disk that is full at any point of the change leaves the records as they were, and
// says so.
func TestAMigrationThatFindsTheDiskFullChangesNothing(t *testing.T) {
	if path := os.Getenv("MIGRATE_WITHIN"); path != "" {
		limit, err := strconv.ParseUint(os.Getenv("MIGRATE_LIMIT"), 10, 64)
		require.NoError(t, err)
		// A write behind the limit fails, as on a full disk, instead of ending the program.
		require.NoError(t, syscall.Setrlimit(syscall.RLIMIT_FSIZE, &syscall.Rlimit{Cur: limit, Max: limit}))
		err = Migrate(path)
		if err != nil {
			t.Log("refused: " + err.Error())
			os.Exit(3)
		}
		return
	}
	path := filepath.Join(t.TempDir(), "records.db")
	fillBefore(t, path)
	size, err := sizeOf(path)
	require.NoError(t, err)
	refused := 0
	for limit := size / 8; ; limit = limit * 5 / 4 {
		child := exec.Command(os.Args[0], "-test.v", "-test.run", "^TestAMigrationThatFindsTheDiskFullChangesNothing$")
		child.Env = append(os.Environ(), "MIGRATE_WITHIN="+path, "MIGRATE_LIMIT="+strconv.FormatInt(limit, 10))
		out, err := child.CombinedOutput()
		var exit *exec.ExitError
		if err == nil {
			break
		}
		require.True(t, errors.As(err, &exit) && exit.ExitCode() == 3, "%s", out)
		refused++
		pool := OpenPool(path, "immediate", false, false)
		var version, manifests int
		require.NoError(t, pool.QueryRow("PRAGMA user_version").Scan(&version))
		require.NoError(t, pool.QueryRow("SELECT count(*) FROM manifests").Scan(&manifests))
		require.NoError(t, pool.Close())
		// Each version is one change: those before the one that failed are whole.
		if _, by, failed := strings.Cut(string(out), "refused: migrate by "); failed {
			assert.Equal(t, fmt.Sprintf("%04d_", version+1), by[:5], "%s", out)
		} else {
			assert.Equal(t, 4, version, "%s", out)
		}
		assert.Equal(t, 1000, manifests)
	}
	assert.Greater(t, refused, 3)
	// The space of before may not have been given back within the limit.
	require.NoError(t, Migrate(path))
	holds(t, path)
}

func TestRecordsOfBeforeAreCopiedFirst(t *testing.T) {
	path := filepath.Join(t.TempDir(), "records.db")
	fillBefore(t, path)
	// What a try of before has left is not taken for a copy of today.
	require.NoError(t, os.WriteFile(path+".version-4", []byte("old"), 0o600))
	require.NoError(t, Migrate(path))
	pool := OpenPool(path+".version-4", "immediate", false, false)
	defer pool.Close()
	var version, blobs int
	require.NoError(t, pool.QueryRow("PRAGMA user_version").Scan(&version))
	require.NoError(t, pool.QueryRow("SELECT count(*) FROM blobs WHERE digest LIKE 'sha256:%'").Scan(&blobs))
	assert.Equal(t, []int{4, 3000}, []int{version, blobs})
}

// What was written before lines belonged to places belongs to the place that had the
// name then.
func TestOldLinesOfTheAuditLogFindTheirPlace(t *testing.T) {
	path := filepath.Join(t.TempDir(), "records.db")
	pool := OpenPool(path, "immediate", false, false)
	for i, name := range []string{"0001_first.sql", "0002_deleting.sql", "0003_rights.sql"} {
		script, err := migrations.ReadFile("migrations/" + name)
		require.NoError(t, err)
		_, err = pool.Exec(string(script) + fmt.Sprintf("; PRAGMA user_version = %d", i+1))
		require.NoError(t, err)
	}
	_, err := pool.Exec(`INSERT INTO namespaces (id, name, created_at, removed_at) VALUES (1, 'berths', 10, 50), (2, 'berths', 60, 0);
		INSERT INTO repositories (id, namespace_id, name, created_at, pushed_at) VALUES (1, 1, 'berths/a', 20, 20), (2, 2, 'berths/a', 70, 70);
		INSERT INTO events (at, kind, repository, tag, digest, account, address, request, subject) VALUES
			(30, 'x', 'berths/a', '', '', '', '', '', ''), (80, 'x', 'berths/a', '', '', '', '', '', ''), (55, 'x', 'berths/a', '', '', '', '', '', ''),
			(40, 'x', '', '', '', '', '', '', 'namespace berths'), (90, 'x', '', '', '', '', '', '', 'namespace berths')`)
	require.NoError(t, err)
	require.NoError(t, pool.Close())
	require.NoError(t, Migrate(path))
	pool = OpenPool(path, "immediate", false, false)
	defer pool.Close()
	var places string
	require.NoError(t, pool.QueryRow("SELECT group_concat(namespace_id || ' ' || repository_id, ', ') FROM (SELECT * FROM events ORDER BY id)").Scan(&places))
	assert.Equal(t, "1 1, 2 2, 0 1, 1 0, 2 0", places)
}
