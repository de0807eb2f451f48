package pagesum_test

import (
	"context"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/record/pagesum"
	"warthesis/internal/record/schema"
)

// made returns a database file with some content in it, all of it out of the log.
func made(t *testing.T) string {
	file := filepath.Join(t.TempDir(), "warthesis.db")
	require.NoError(t, schema.Migrate(file))
	pool := schema.OpenPool(file, "immediate", false, true)
	_, err := pool.Exec("CREATE TABLE scratch (a INTEGER PRIMARY KEY, b TEXT); CREATE INDEX scratch_b ON scratch (b)")
	require.NoError(t, err)
	_, err = pool.Exec("WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 5000) INSERT INTO scratch SELECT i, hex(randomblob(20)) FROM n")
	require.NoError(t, err)
	require.NoError(t, pool.Close())
	return file
}

func wrongPages(t *testing.T, file string) []uint32 {
	f, err := pagesum.Open(file)
	require.NoError(t, err)
	defer f.Close()
	wrong, next, err := f.Check(1, 1000, func(int) error { return nil })
	require.NoError(t, err)
	require.Zero(t, next)
	return wrong
}

func flip(t *testing.T, file string, at int64, bit uint) {
	f, err := os.OpenFile(file, os.O_RDWR, 0)
	require.NoError(t, err)
	defer f.Close()
	one := make([]byte, 1)
	_, err = f.ReadAt(one, at)
	require.NoError(t, err)
	one[0] ^= 1 << bit
	_, err = f.WriteAt(one, at)
	require.NoError(t, err)
}

func TestEveryFlippedBitOfAnyPageIsFound(t *testing.T) {
	file := made(t)
	require.Empty(t, wrongPages(t, file))
	info, err := os.Stat(file)
	require.NoError(t, err)
	r := rand.New(rand.NewPCG(1, 2))
	for range 20 {
		at, bit := r.Int64N(info.Size()), r.UintN(8)
		if at < 100 {
			continue
		}
		flip(t, file, at, bit)
		assert.Equal(t, []uint32{uint32(at/4096) + 1}, wrongPages(t, file), "bit %d of byte %d", bit, at)
		flip(t, file, at, bit)
	}
	require.Empty(t, wrongPages(t, file))
}

func TestAQuestionThatMeetsADamagedPageIsNoticed(t *testing.T) {
	file := made(t)
	counter, err := pagesum.CounterOf(file)
	require.NoError(t, err)
	before, _ := counter.Failures()
	info, err := os.Stat(file)
	require.NoError(t, err)
	// The last page was written by the last statement.
	flip(t, file, info.Size()-2000, 3)
	pool := schema.OpenPool(file, "deferred", true, true)
	defer pool.Close()
	var n int
	// The question may be answered, fail, or answer something wrong: it is noticed.
	_ = pool.QueryRow("SELECT count(*) FROM scratch NOT INDEXED WHERE b > ''").Scan(&n)
	_ = pool.QueryRow("SELECT count(*) FROM scratch INDEXED BY scratch_b WHERE b > ''").Scan(&n)
	after, page := counter.Failures()
	assert.Greater(t, after, before)
	assert.Equal(t, uint32(info.Size()/4096), page)
}

func TestADatabaseWithoutSumsGetsThem(t *testing.T) {
	file := filepath.Join(t.TempDir(), "old.db")
	plain := schema.OpenPool(file, "immediate", false, true)
	_, err := plain.Exec("CREATE TABLE t (a, b); WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 9000) INSERT INTO t SELECT i, hex(randomblob(30)) FROM n")
	require.NoError(t, err)
	require.NoError(t, plain.Close())
	f, err := pagesum.Open(file)
	require.NoError(t, err)
	has, err := f.HasSums()
	require.NoError(t, err)
	require.False(t, has)
	require.NoError(t, f.Close())

	pool := schema.OpenPool(file, "immediate", false, true)
	conn, err := pool.Conn(context.Background())
	require.NoError(t, err)
	require.NoError(t, schema.AddSums(context.Background(), conn))
	require.NoError(t, conn.Close())
	require.Empty(t, wrongPages(t, file))
	// What is written from then on has sums too.
	_, err = pool.Exec("DELETE FROM t WHERE a % 3 = 0; UPDATE t SET b = hex(randomblob(40)) WHERE a % 5 = 0; PRAGMA wal_checkpoint(TRUNCATE)")
	require.NoError(t, err)
	require.Empty(t, wrongPages(t, file))
	var fine string
	require.NoError(t, pool.QueryRow("PRAGMA integrity_check").Scan(&fine))
	assert.Equal(t, "ok", fine)
	require.NoError(t, pool.Close())
	counter, err := pagesum.CounterOf(file)
	require.NoError(t, err)
	before, _ := counter.Failures()
	again := schema.OpenPool(file, "immediate", false, true)
	defer again.Close()
	require.NoError(t, again.QueryRow("PRAGMA integrity_check").Scan(&fine))
	after, _ := counter.Failures()
	assert.Equal(t, before, after)
}
