package console

import (
	"database/sql"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	_ "github.com/mattn/go-sqlite3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/kit"
)

// Damaged records are told wherever somebody looks: which table, and what to do. Nothing is
// deleted then, and pulls and pushes go on.
func TestDamageOfTheRecordsIsToldEverywhere(t *testing.T) {
	t.Parallel()
	data := sampleWorld(t)
	s := kit.Start(t, data)
	s.Stop()
	file := filepath.Join(data, "warthesis.db")
	records, err := sql.Open("sqlite3", "file:"+file+"?immutable=1")
	require.NoError(t, err)
	var root, size int64
	require.NoError(t, records.QueryRow("SELECT rootpage FROM sqlite_schema WHERE name = 'edges_by_content'").Scan(&root))
	require.NoError(t, records.QueryRow("PRAGMA page_size").Scan(&size))
	require.NoError(t, records.Close())
	f, err := os.OpenFile(file, os.O_RDWR, 0)
	require.NoError(t, err)
	one := make([]byte, 1)
	at := root*size - 20
	_, err = f.ReadAt(one, at)
	require.NoError(t, err)
	one[0] ^= 4
	_, err = f.WriteAt(one, at)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	s.Restart()

	const part = "index edges_by_content of table edges"
	kit.Eventually(t, "the audit log tells the damage", func() bool {
		_, raw := s.Do(http.MethodGet, "/api/v1/audit?kind=records-damaged", nil)
		return strings.Contains(string(raw), part) && strings.Contains(string(raw), "Restore the records from a backup")
	})
	_, told := s.Do(http.MethodGet, "/api/v1/audit?kind=records-damaged", nil)
	_, raw := s.Do(http.MethodGet, "/healthz/ready", nil)
	assert.Equal(t, "ready, and the records are damaged: nothing is deleted\n", string(raw))
	_, raw = s.Do(http.MethodGet, "/metrics", nil)
	assert.Regexp(t, `(?m)^warthesis_records_damages [1-9]`, string(raw))
	listed := kit.Run(t, "hurt", "list", s.Address)
	assert.Equal(t, 5, listed.Code, "%s", listed.Err)
	assert.Contains(t, listed.Err, part)

	page := openBrowser(t, s)
	require.NoError(t, page.Go(s.URL("/service")))
	says(t, page, part)
	says(t, page, "Restore the records from a backup")
	press(t, page, "Sweep now")
	require.NoError(t, page.Click(`[role=dialog] button[type=submit]`))
	says(t, page, "so nothing is deleted")

	// A restart tells it no second time.
	s.Stop()
	s.Restart()
	_, raw = s.Do(http.MethodGet, "/api/v1/audit?kind=records-damaged", nil)
	assert.Equal(t, string(told), string(raw))
}
