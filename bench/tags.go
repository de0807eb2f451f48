package main

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"warthesis/internal/rule"
)

// versionTags is how many tags a repository has whose pages are measured.
const versionTags = 100_000

// tags measures pages of a repository with very many versions, a search inside their
// names, and names that are held for many at once.
func (b *bench) tags() error {
	s, err := b.start()
	if err != nil {
		return err
	}
	s.kill()
	defer os.RemoveAll(s.data)
	if err := fillTags(s.data); err != nil {
		return err
	}
	if _, s, err = b.readyAgain(s.data); err != nil {
		return err
	}
	defer s.stop()
	for _, list := range []struct{ name, query string }{
		{"by name", "sort=name"}, {"by version", "sort=version"}, {"by move", "sort=change"}, {"by version, with a prefix", "sort=version&prefix=1.7"},
	} {
		at := "/api/v1/tags?repository=large/app&limit=100&" + list.query
		first, last, err := s.tagPages(at)
		if err != nil {
			return err
		}
		fmt.Printf("%-42s p95 first %.1f ms, last %.1f ms\n", "100 of 100 k tags "+list.name, first, last)
	}
	for _, search := range []struct{ name, query string }{{"inside names", "contains=99.31"}, {"by a pattern", "pattern=*.99.3*"}, {"by a kind, of which there is none", "pattern=%3Ccommit%3E"}} {
		one, _, err := s.percentiles("/api/v1/tags?repository=large/app&limit=100&"+search.query, "/api/v1/service")
		if err != nil {
			return err
		}
		fmt.Printf("%-42s p95 %.1f ms\n", "search among 100 k tags "+search.name, one)
	}
	if err := s.holds(); err != nil {
		return err
	}
	return s.removeLarge()
}

// removeLarge prints how long it takes to remove a repository with all its tags, whose
// seals are judged, and how long the writer is held by that.
func (s *service) removeLarge() error {
	for _, ask := range []struct{ method, path, body string }{
		{http.MethodPut, "/api/v1/rules?place=large", `{"words":"- seal: \"*:stable\"\n","reason":"measured"}`},
		{http.MethodDelete, "/api/v1/repository?repository=large/app", ""},
	} {
		request, err := http.NewRequest(ask.method, s.address+ask.path, strings.NewReader(ask.body))
		if err != nil {
			return err
		}
		request.Header.Set("Content-Type", "application/json")
		began := time.Now()
		answer, err := client.Do(request)
		if err != nil {
			return err
		}
		answer.Body.Close()
		if answer.StatusCode >= 300 {
			return fmt.Errorf("%s %s: %s", ask.method, ask.path, answer.Status)
		}
		if ask.method == http.MethodDelete {
			fmt.Printf("%-42s %.0f ms\n", "a repository of 100 k tags is removed in", float64(time.Since(began).Microseconds())/1000)
		}
	}
	return s.held()
}

// fillTags makes the records of a repository with versions from 1.0.0 to 10.99.99.
func fillTags(data string) error {
	db, err := sql.Open("sqlite3", "file:"+filepath.Join(data, "warthesis.db"))
	if err != nil {
		return err
	}
	defer db.Close()
	tx, err := db.Begin()
	if err != nil {
		return err
	}
	for _, statement := range []string{
		`INSERT INTO namespaces (id, name, created_at) VALUES (1, 'large', 1)`,
		`INSERT INTO repositories (id, namespace_id, name, created_at, pushed_at, pushed_served) VALUES (1, 1, 'large/app', 1, 1, 1)`,
		`INSERT INTO contents (id, digest) VALUES (1, 'sha256:` + subject + `')`,
		`INSERT INTO blobs (content_id, size, place, placed_at, touched_served) VALUES (1, 1000, '', 1, 1)`,
		`INSERT INTO manifests (id, repository_id, content_id, digest, state, media_type, artifact_type, subject, size, content_size, platforms, annotations, pushed_at, pushed_by, pushed_served, touched_served)
			VALUES (1, 1, 1, 'sha256:` + subject + `', 'live', 'application/vnd.oci.image.manifest.v1+json', 'application/x', '', 1000, 1000, '', '{}', 1, 0, 1, 1)`,
	} {
		if _, err := tx.Exec(statement); err != nil {
			return err
		}
	}
	insert, err := tx.Prepare(`INSERT INTO tags (repository_id, name, order_key, manifest_id, moved_at, moved_served, moved_by, first_served) VALUES (1, ?, ?, 1, ?, 1, 0, 1)`)
	if err != nil {
		return err
	}
	for i := range versionTags {
		name := fmt.Sprintf("%d.%d.%d", 1+i/10000, i/100%100, i%100)
		if _, err := insert.Exec(name, rule.OrderKey(name), i+1); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// tagPages returns the 95th percentile of the first and of the last page of a list.
func (s *service) tagPages(at string) (first, last float64, err error) {
	end := at
	for after := ""; ; {
		answer, err := client.Get(s.address + strings.Replace(at, "limit=100", "limit=1000", 1) + "&after=" + after)
		if err != nil {
			return 0, 0, err
		}
		var list struct{ Next string }
		err = json.NewDecoder(answer.Body).Decode(&list)
		answer.Body.Close()
		if err != nil {
			return 0, 0, err
		}
		if list.Next == "" {
			break
		}
		after = list.Next
		end = at + "&after=" + after
	}
	return s.percentiles(at, end)
}

// holds prints how long the writer is held where 200 machines hold a next version at once.
func (s *service) holds() error {
	var all sync.WaitGroup
	var mu sync.Mutex
	var names []string
	var failed error
	for range 200 {
		all.Go(func() {
			answer, err := client.Post(s.address+"/api/v1/next-version?repository=large/app", "application/json", nil)
			var next struct{ Tag string }
			if err == nil {
				err = json.NewDecoder(answer.Body).Decode(&next)
				answer.Body.Close()
			}
			mu.Lock()
			defer mu.Unlock()
			names = append(names, next.Tag)
			if err != nil {
				failed = err
			}
		})
	}
	all.Wait()
	slices.Sort(names)
	fmt.Printf("%-42s %d of 200\n", "different next versions held at once", len(slices.Compact(names)))
	return failed
}
