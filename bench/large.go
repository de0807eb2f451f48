package main

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	_ "github.com/mattn/go-sqlite3"
)

// What a registry of some years holds.
const (
	manyBlobs     = 1_000_000
	manyManifests = 100_000
	manyTags      = 1_000_000
	manyReferrers = 10_000
)

// fill makes the records of a large registry. The rows are made by SQLite itself,
// in seconds; the files are not made, since nothing here reads them.
func fill(data string) error {
	db, err := sql.Open("sqlite3", "file:"+filepath.Join(data, "warthesis.db"))
	if err != nil {
		return err
	}
	defer db.Close()
	const count = `WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < %d) `
	for _, statement := range []string{
		`INSERT INTO namespaces (id, name, created_at) VALUES (1, 'large', 1)`,
		`INSERT INTO repositories (id, namespace_id, name, created_at, pushed_at, pushed_served) VALUES (1, 1, 'large/app', 1, 1, 1)`,
		fmt.Sprintf(count, manyBlobs) + `INSERT INTO contents (id, digest) SELECT i, printf('sha256:%064x', i * 2654435761) FROM n`,
		fmt.Sprintf(count, manyBlobs) + `INSERT INTO blobs (content_id, size, place, placed_at, touched_served) SELECT i, 1000, '', 1, 1 FROM n`,
		fmt.Sprintf(count, manyBlobs) + `INSERT INTO holdings (repository_id, content_id, held_at, touched_served) SELECT 1, i, 1, 1 FROM n`,
		fmt.Sprintf(count, manyManifests) + `INSERT INTO manifests (id, repository_id, content_id, digest, state, media_type, artifact_type, subject, size, content_size, platforms, annotations, pushed_at, pushed_by, pushed_served, touched_served)
			SELECT i, 1, i, printf('sha256:%064x', i * 2654435761), 'live', 'application/vnd.oci.image.manifest.v1+json', 'application/x', CASE WHEN i <= ` + fmt.Sprint(manyReferrers) + ` THEN 'sha256:` + subject + `' ELSE '' END, 1000, 1000, '', '{"a":"b"}', i, 0, 1, 1 FROM n`,
		fmt.Sprintf(count, manyTags) + `INSERT INTO tags (repository_id, name, order_key, manifest_id, moved_at, moved_served, moved_by) SELECT 1, printf('t%08d', i), x'', 1 + i % ` + fmt.Sprint(manyManifests) + `, i, 1, 0 FROM n`,
	} {
		if _, err := db.Exec(statement); err != nil {
			return err
		}
	}
	return nil
}

const subject = "00000000000000000000000000000000000000000000000000000000000000ff"

// scale measures starts and pages of a large registry.
func (b *bench) scale() error {
	s, err := b.start()
	if err != nil {
		return err
	}
	s.kill()
	defer os.RemoveAll(s.data)
	if err := fill(s.data); err != nil {
		return err
	}
	took, s, err := b.readyAgain(s.data)
	if err != nil {
		return err
	}
	fmt.Printf("%-42s %8.2f s\n", "ready with 1 M blobs, 100 k manifests, 1 M tags", took.Seconds())
	if err := s.pages(); err != nil {
		return err
	}
	return b.afterKill(s)
}

// afterKill measures a start after the process died with a long write-ahead log:
// a reader that stays keeps the log from being written back, and manifests with
// large annotations make it long.
func (b *bench) afterKill(s *service) error {
	reader, err := sql.Open("sqlite3", "file:"+filepath.Join(s.data, "warthesis.db"))
	if err != nil {
		return err
	}
	defer reader.Close()
	if _, err := reader.Exec("BEGIN; SELECT count(*) FROM namespaces"); err != nil {
		return err
	}
	if err := upload(s.address, "large/notes", emptyDigest, strings.NewReader("{}"), 2); err != nil {
		return err
	}
	for i := range longLog {
		raw := fmt.Appendf(nil, `{"schemaVersion":2,"mediaType":"application/vnd.oci.image.manifest.v1+json","artifactType":"application/vnd.example.note","config":{"mediaType":"application/vnd.oci.empty.v1+json","digest":"%s","size":2},"layers":[],"annotations":{"n":"%d","text":"%s"}}`,
			emptyDigest, i, strings.Repeat("a", mib))
		at := fmt.Sprintf("%s/v2/large/notes/manifests/n%d", s.address, i)
		if err := put(at, "application/vnd.oci.image.manifest.v1+json", bytesReader(raw), int64(len(raw))); err != nil {
			return err
		}
	}
	s.kill()
	// The reader would write the log back when it closes: the start is on a copy of
	// what a power cut leaves.
	copied, err := os.MkdirTemp(b.folder, "killed-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(copied)
	if out, err := exec.Command("cp", "-a", s.data+"/.", copied).CombinedOutput(); err != nil {
		return fmt.Errorf("%s: %w", out, err)
	}
	if err := os.Remove(filepath.Join(copied, "warthesis.db-shm")); err != nil {
		return err
	}
	wal, err := os.Stat(filepath.Join(copied, "warthesis.db-wal"))
	if err != nil {
		return err
	}
	took, s, err := b.readyAgain(copied)
	if err != nil {
		return err
	}
	s.kill()
	fmt.Printf("%-42s %8.2f s\n", fmt.Sprintf("the same after a kill, log of %d MiB", wal.Size()/mib), took.Seconds())
	return nil
}

const (
	// longLog is how many manifests of 1 MiB are pushed before the kill.
	longLog = 300
	// emptyDigest is that of the empty descriptor (image-spec, "Guidance for an Empty Descriptor").
	emptyDigest = "sha256:44136fa355b3678a1146ad16f7e8649e94fb4fc21fe77e8310c060f61caaff8a"
)

func (b *bench) readyAgain(data string) (time.Duration, *service, error) {
	began := time.Now()
	s, err := b.startOn(data)
	if err != nil {
		return 0, nil, err
	}
	answer, err := client.Get(s.address + "/healthz/ready")
	if err != nil {
		return 0, nil, err
	}
	return time.Since(began), s, answer.Body.Close()
}

// pages prints the 95th percentile of the first and of the last pages.
func (s *service) pages() error {
	for _, list := range []struct{ name, first, last string }{
		{"page of 1000 tags out of 1 M", "/v2/large/app/tags/list?n=1000", fmt.Sprintf("/v2/large/app/tags/list?n=1000&last=t%08d", manyTags-1000)},
		{"page of referrers out of 10 k", "/v2/large/app/referrers/sha256:" + subject, ""},
	} {
		_, after, err := s.page(list.first)
		if err != nil {
			return err
		}
		if list.last == "" {
			if list.last, err = s.lastPage(after); err != nil {
				return err
			}
		}
		first, last, err := s.percentiles(list.first, list.last)
		if err != nil {
			return err
		}
		fmt.Printf("%-42s p95 first %.1f ms, last %.1f ms, ratio %.2f\n", list.name, first, last, last/first)
	}
	return nil
}

// lastPage follows the links from a page on.
func (s *service) lastPage(at string) (string, error) {
	for {
		_, next, err := s.page(at)
		if err != nil || next == "" {
			return at, err
		}
		at = next
	}
}

// percentiles asks for two pages in turn and returns the 95th percentile of each,
// in milliseconds.
func (s *service) percentiles(one, other string) (float64, float64, error) {
	var first, last []float64
	for range 300 {
		for path, all := range map[string]*[]float64{one: &first, other: &last} {
			took, _, err := s.page(path)
			if err != nil {
				return 0, 0, err
			}
			*all = append(*all, float64(took.Microseconds())/1000)
		}
	}
	slices.Sort(first)
	slices.Sort(last)
	return first[len(first)*95/100], last[len(last)*95/100], nil
}

func (s *service) page(path string) (time.Duration, string, error) {
	began := time.Now()
	answer, err := client.Get(s.address + path)
	if err != nil {
		return 0, "", err
	}
	defer answer.Body.Close()
	raw, err := io.ReadAll(answer.Body)
	if err != nil || answer.StatusCode != http.StatusOK || !json.Valid(raw) {
		return 0, "", fmt.Errorf("%s: %s %v", path, answer.Status, err)
	}
	next := answer.Header.Get("Link")
	if next != "" {
		next = next[1 : len(next)-len(`>; rel="next"`)]
	}
	return time.Since(began), next, nil
}
