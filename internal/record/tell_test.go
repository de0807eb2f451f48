package record

import (
	"encoding/binary"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/mattn/go-sqlite3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/record/schema"
)

// Damage that can't be told, as on a full disk, is looked for once, and told as soon as that
// works.
func TestDamageThatCantBeToldIsSoughtOnce(t *testing.T) {
	path := filepath.Join(t.TempDir(), "records.db")
	s, _ := open(t, path)
	require.NoError(t, s.Close())
	pool := schema.OpenPool(path, "immediate", false, false)
	for _, statement := range []string{
		"CREATE TABLE many AS WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 50) SELECT randomblob(3000) FROM n", "DROP TABLE many",
		"CREATE TRIGGER full BEFORE INSERT ON events BEGIN SELECT RAISE(ABORT, 'full'); END", "PRAGMA wal_checkpoint(TRUNCATE)",
	} {
		_, err := pool.Exec(statement)
		require.NoError(t, err, statement)
	}
	require.NoError(t, pool.Close())
	// A bit flips in a free page, which is of no table.
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	free, size := int(binary.BigEndian.Uint32(raw[32:])), int(binary.BigEndian.Uint16(raw[16:]))
	require.NotZero(t, free)
	raw[free*size-20] ^= 1
	require.NoError(t, os.WriteFile(path, raw, 0o600))

	s, _ = open(t, path)
	defer func() { require.NoError(t, s.Close()) }()
	read := 0
	tell := func() error {
		read = 0
		return s.TellDamage(ctx, func(int) error { read++; return nil })
	}
	require.Error(t, tell())
	assert.NotZero(t, read)
	require.Error(t, tell())
	assert.Zero(t, read)
	require.Len(t, s.Damages(), 1)
	require.NoError(t, s.write.Exec("DROP TRIGGER full").Error)
	require.NoError(t, tell())
	assert.Zero(t, read)
	assert.True(t, s.Damages()[0].Told)
}

// While damage is known, a question that meets it is no news: each would begin a complete
// check, and a line in the audit log.
func TestASignOfKnownDamageSaysNothingNew(t *testing.T) {
	s, _ := fresh(t)
	meets := func() {
		damageLogger{integrity: s.integrity}.Trace(ctx, time.Now(), nil, sqlite3.Error{Code: sqlite3.ErrCorrupt})
	}
	meets()
	assert.Len(t, s.Damages(), 1)
	s.integrity.replace([]Damage{{Table: "tags", What: "a page"}})
	meets()
	assert.Len(t, s.Damages(), 1)
	assert.Equal(t, "tags", s.Damages()[0].Table)
	s.integrity.replace(nil)
	assert.Empty(t, s.Damages())
}
