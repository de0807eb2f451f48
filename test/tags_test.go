package test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/api"
	"warthesis/internal/kit"
	"warthesis/internal/oci"
)

// versions pushes artifacts that differ by a number, each under a tag, and returns their
// digests.
func versions(t *testing.T, s *kit.Service, repository string, tags ...string) []oci.Digest {
	config := kit.PutBlob(t, s, repository, []byte("{}"))
	digests := make([]oci.Digest, len(tags))
	for i, tag := range tags {
		digests[i] = kit.PutManifest(t, s, repository, tag, oci.MediaTypeImage, kit.Artifact(config, nil, "application/x.one", i)).Digest
	}
	return digests
}

// document returns the bytes of the artifact that versions pushed.
func document(t *testing.T, number int) []byte {
	raw, err := json.Marshal(kit.Artifact(oci.DigestOf(oci.SHA256, []byte("{}")), nil, "application/x.one", number))
	require.NoError(t, err)
	return raw
}

func target(t *testing.T, s *kit.Service, repository, tag string) string {
	answer, _ := s.Do(http.MethodHead, "/v2/"+repository+"/manifests/"+tag, nil)
	return answer.Header.Get("Docker-Content-Digest")
}

func TestATagIsPushedOnlyWhereItIsWhatThePusherSaw(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	digests := versions(t, s, "a", "stable", "next")
	quoted := func(d oci.Digest) string { return `"` + d.String() + `"` }
	put := func(path string, number int, headers ...string) (int, string) {
		answer, body := s.Do(http.MethodPut, "/v2/a/manifests/"+path, bytes.NewReader(document(t, number)), append([]string{"Content-Type", oci.MediaTypeImage}, headers...)...)
		return answer.StatusCode, string(body)
	}
	for _, try := range []struct {
		path    string
		number  int
		headers []string
		code    int
		is      oci.Digest
	}{
		{"stable", 1, []string{"If-Match", quoted(digests[1])}, http.StatusPreconditionFailed, digests[0]},
		{"stable", 1, []string{"If-Match", "W/" + quoted(digests[0])}, http.StatusPreconditionFailed, digests[0]},
		{"stable", 1, []string{"If-None-Match", "*"}, http.StatusPreconditionFailed, digests[0]},
		{"stable", 0, []string{"If-None-Match", "*"}, http.StatusCreated, digests[0]},
		{"stable", 0, []string{"If-Match", quoted(digests[1])}, http.StatusCreated, digests[0]},
		{"stable", 1, []string{"If-Match", digests[0].String()}, http.StatusBadRequest, digests[0]},
		{"stable", 1, []string{"If-Match", quoted(digests[0]) + ", " + quoted(digests[1])}, http.StatusBadRequest, digests[0]},
		{"stable", 1, []string{"If-None-Match", quoted(digests[0])}, http.StatusBadRequest, digests[0]},
		{"stable?tag=other", 1, []string{"If-Match", quoted(digests[0])}, http.StatusBadRequest, digests[0]},
		{digests[1].String() + "?tag=stable", 1, []string{"If-Match", quoted(digests[0])}, http.StatusBadRequest, digests[0]},
		{"stable", 1, []string{"If-Match", "*", "If-None-Match", "*"}, http.StatusBadRequest, digests[0]},
		{"stable", 1, []string{"If-Match", quoted(digests[0])}, http.StatusCreated, digests[1]},
		{"new", 1, []string{"If-Match", "*"}, http.StatusPreconditionFailed, ""},
		{"new", 1, []string{"If-None-Match", "*"}, http.StatusCreated, digests[1]},
	} {
		name, _, _ := strings.Cut(try.path, "?")
		if strings.Contains(name, ":") {
			name = "stable"
		}
		code, body := put(try.path, try.number, try.headers...)
		assert.Equal(t, try.code, code, "%v: %s", try, body)
		assert.Equal(t, try.is.String(), target(t, s, "a", name), "%v", try)
		if code == http.StatusPreconditionFailed {
			assert.Contains(t, body, "TAG_MOVED")
		}
	}
	answer, _ := s.Do(http.MethodDelete, "/v2/a/manifests/stable", nil, "If-Match", quoted(digests[0]))
	assert.Equal(t, http.StatusPreconditionFailed, answer.StatusCode)
	answer, _ = s.Do(http.MethodDelete, "/v2/a/manifests/stable", nil, "If-Match", quoted(digests[1]))
	assert.Equal(t, http.StatusAccepted, answer.StatusCode)
}

// Twelve machines move one tag, each from what it saw: every move that was acknowledged
// is in the log, and each begins where the one before ended.
func TestTwoMachinesNeverUndoEachOtherUnseen(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	names := make([]string, 12)
	for i := range names {
		names[i] = fmt.Sprintf("build-%d", i)
	}
	digests := versions(t, s, "a", names...)
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/tags?repository=a", `{"changes":[{"act":"add","tag":"stable","to":"build-0"}]}`)
	var mu sync.Mutex
	moved, refused := 0, 0
	var wg sync.WaitGroup
	for i, digest := range digests {
		wg.Go(func() {
			for range 10 {
				saw := target(t, s, "a", "stable")
				if saw == digest.String() {
					continue
				}
				answer, body, err := s.Try(http.MethodPut, "/v2/a/manifests/stable", bytes.NewReader(document(t, i)), "Content-Type", oci.MediaTypeImage, "If-Match", `"`+saw+`"`)
				mu.Lock()
				switch {
				case !assert.NoError(t, err):
				case answer.StatusCode == http.StatusCreated:
					moved++
				case assert.Equal(t, http.StatusPreconditionFailed, answer.StatusCode, "%s", body):
					refused++
				}
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	assert.Positive(t, refused, "nobody met anybody")
	var log api.TagMoveList
	require.NoError(t, json.Unmarshal(kit.AsAdmin(t, s, http.MethodGet, "/api/v1/tag-log?repository=a&tag=stable&limit=1000", ""), &log))
	require.Len(t, log.Moves, moved+1)
	for i, line := range log.Moves[:moved] {
		assert.Equal(t, log.Moves[i+1].To, line.From)
		assert.Equal(t, line.At, *log.Moves[i+1].Until)
	}
	assert.Equal(t, "hand", log.Moves[moved].Origin)
	assert.Equal(t, "push", log.Moves[0].Origin)
}

func TestChangesOfTagsAreDoneAllOrNone(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	digests := versions(t, s, "a", "1.0", "2.0")
	change := func(headers []string, changes ...string) (int, string) {
		answer, body := s.Do(http.MethodPost, "/api/v1/tags?repository=a", strings.NewReader(`{"changes":[`+strings.Join(changes, ",")+`]}`),
			append([]string{"Content-Type", "application/json"}, headers...)...)
		return answer.StatusCode, string(body)
	}
	for _, try := range []struct {
		code    int
		said    string
		changes []string
	}{
		{http.StatusConflict, "points to " + digests[1].String(), []string{`{"act":"add","tag":"new","to":"1.0"}`, `{"act":"add","tag":"2.0","to":"1.0"}`}},
		{http.StatusNotFound, "no tag 9.0", []string{`{"act":"add","tag":"new","to":"1.0"}`, `{"act":"move","tag":"9.0","to":"1.0"}`}},
		{http.StatusNotFound, "no tag 9.0", []string{`{"act":"add","tag":"new","to":"9.0"}`}},
		{http.StatusConflict, "a tag 2.0", []string{`{"act":"add","tag":"new","to":"1.0"}`, `{"act":"rename","tag":"1.0","name":"2.0"}`}},
		{http.StatusPreconditionFailed, digests[0].String() + " now", []string{`{"act":"add","tag":"new","to":"1.0"}`, `{"act":"remove","tag":"1.0","if":"` + digests[1].String() + `"}`}},
		{http.StatusUnprocessableEntity, "name is for rename", []string{`{"act":"rename","tag":"1.0"}`}},
		{http.StatusUnprocessableEntity, "to is for add and move", []string{`{"act":"remove","tag":"1.0","to":"2.0"}`}},
		{http.StatusUnprocessableEntity, "", []string{`{"act":"add","tag":"new tag","to":"2.0"}`}},
	} {
		code, body := change(nil, try.changes...)
		assert.Equal(t, try.code, code, "%v: %s", try.changes, body)
		assert.Contains(t, body, try.said)
		assert.Empty(t, target(t, s, "a", "new"), "%v", try.changes)
		assert.Equal(t, digests[0].String(), target(t, s, "a", "1.0"), "%v", try.changes)
	}
	code, body := change([]string{"If-Match", `"` + digests[1].String() + `"`}, `{"act":"remove","tag":"1.0"}`)
	assert.Equal(t, http.StatusPreconditionFailed, code, body)

	// One after the other: a name that goes is free for the next.
	code, body = change(nil, `{"act":"rename","tag":"1.0","name":"old"}`, `{"act":"rename","tag":"2.0","name":"1.0"}`, `{"act":"add","tag":"2.0","to":"old"}`,
		`{"act":"move","tag":"1.0","to":"`+digests[0].String()+`"}`, `{"act":"remove","tag":"old"}`)
	require.Equal(t, http.StatusOK, code, body)
	var done api.TagsChanged
	require.NoError(t, json.Unmarshal([]byte(body), &done))
	for i, want := range [][2]oci.Digest{{digests[0], digests[0]}, {digests[1], digests[1]}, {"", digests[0]}, {digests[1], digests[0]}, {digests[0], ""}} {
		assert.Equal(t, want, [2]oci.Digest{done.Changes[i].Before, done.Changes[i].After}, i)
	}
	assert.Equal(t, digests[0].String(), target(t, s, "a", "1.0"))
	assert.Equal(t, digests[0].String(), target(t, s, "a", "2.0"))
	assert.Empty(t, target(t, s, "a", "old"))
	// The audit log tells what was done by hand from what was pushed.
	for kind, times := range map[string]int{"tag-moved": 2, "tag-added": 1, "tag-moved-by-hand": 3, "tag-deleted": 3} {
		var lines api.LineList
		require.NoError(t, json.Unmarshal(kit.AsAdmin(t, s, http.MethodGet, "/api/v1/audit?kind="+kind, ""), &lines))
		assert.Len(t, lines.Lines, times, kind)
	}
	var log api.TagMoveList
	require.NoError(t, json.Unmarshal(kit.AsAdmin(t, s, http.MethodGet, "/api/v1/tag-log?repository=a&tag=old", ""), &log))
	require.Len(t, log.Moves, 2, "a tag that is gone has its log")
	assert.Equal(t, [2]oci.Digest{digests[0], ""}, [2]oci.Digest{log.Moves[0].From, log.Moves[0].To})
	assert.True(t, log.Moves[1].There)
}

func TestTagsAreListedByVersionAndByHowTheyBegin(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	versions(t, s, "a", "latest", "2.0.0", "1.10.0", "v1.9.0", "1.10.0-rc.2", "1.10.0-rc.10", "nightly-9", "nightly-10")
	list := func(query string) (names []string) {
		for after := ""; ; {
			var page api.TagList
			require.NoError(t, json.Unmarshal(kit.AsAdmin(t, s, http.MethodGet, "/api/v1/tags?repository=a&limit=3"+query+"&after="+after, ""), &page))
			for _, tag := range page.Tags {
				names = append(names, string(tag.Name))
			}
			if after = page.Next; after == "" {
				return names
			}
		}
	}
	assert.Equal(t, []string{"2.0.0", "1.10.0", "1.10.0-rc.10", "1.10.0-rc.2", "v1.9.0", "nightly-10", "nightly-9", "latest"}, list("&sort=version"))
	assert.Equal(t, []string{"1.10.0", "1.10.0-rc.10", "1.10.0-rc.2"}, list("&sort=version&prefix=1."))
	assert.Equal(t, []string{"nightly-10", "nightly-9"}, list("&prefix=nightly"))
}

func TestTwoHundredWhoHoldTheNextVersionGetTwoHundred(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/teams", `{"name":"berths"}`)
	for _, name := range []string{"jun", "marit"} {
		kit.MakeAccount(t, s, name)
		kit.AsAdmin(t, s, http.MethodPut, "/api/v1/roles", `{"place":"berths","account":"`+name+`","role":"writer"}`)
	}
	versions(t, s, "berths/app", "v1.2.0", "v1.3.0")
	ask := func(method, query string, headers ...string) api.NextVersion {
		answer, raw, err := s.Try(method, "/api/v1/next-version?repository=berths/app"+query, nil, headers...)
		assert.NoError(t, err)
		var next api.NextVersion
		assert.Equal(t, http.StatusOK, answer.StatusCode, "%s", raw)
		assert.NoError(t, json.Unmarshal(raw, &next))
		return next
	}
	s.Do(http.MethodDelete, "/v2/berths/app/manifests/v1.3.0", nil)
	assert.EqualValues(t, "v1.4.0", ask(http.MethodGet, "").Tag, "what was removed counts as used")
	var secrets []string
	for _, name := range []string{"jun", "marit"} {
		var made struct{ Secret string }
		require.NoError(t, json.Unmarshal(kit.AsAdmin(t, s, http.MethodPost, "/api/v1/tokens",
			`{"account":"`+name+`","name":"build","scopes":[{"pattern":"*","actions":["pull","push","delete"]}]}`), &made))
		secrets = append(secrets, made.Secret)
	}
	as := [][]string{kit.Basic("jun", secrets[0]), kit.Basic("marit", secrets[1])}
	var mu sync.Mutex
	held := map[oci.Tag]int{}
	var wg sync.WaitGroup
	for i := range 200 {
		wg.Go(func() {
			next := ask(http.MethodPost, "", as[i%2]...)
			mu.Lock()
			defer mu.Unlock()
			assert.NotNil(t, next.HeldUntil)
			assert.NotContains(t, held, next.Tag)
			held[next.Tag] = i % 2
		})
	}
	wg.Wait()
	require.Len(t, held, 200)
	assert.EqualValues(t, "v1.204.0", ask(http.MethodGet, "").Tag)
	assert.EqualValues(t, "v1.203.1-rc.1", ask(http.MethodGet, "&part=patch&word=rc").Tag)
	// Nobody else makes a tag of a name that is held, whatever the door.
	tag, others := "v1.150.0", as[1-held["v1.150.0"]]
	put := func(headers []string) (int, string) {
		answer, body := s.Do(http.MethodPut, "/v2/berths/app/manifests/"+tag, bytes.NewReader(document(t, 0)), append([]string{"Content-Type", oci.MediaTypeImage}, headers...)...)
		return answer.StatusCode, string(body)
	}
	code, body := put(others)
	assert.Equal(t, http.StatusForbidden, code)
	assert.Contains(t, body, "is held in berths/app for ")
	for _, change := range []string{`{"act":"add","tag":"` + tag + `","to":"v1.2.0"}`, `{"act":"rename","tag":"v1.2.0","name":"` + tag + `"}`} {
		kit.AsAdmin(t, s, http.MethodPut, "/api/v1/roles", `{"place":"berths","account":"jun","role":"curator"}`)
		kit.AsAdmin(t, s, http.MethodPut, "/api/v1/roles", `{"place":"berths","account":"marit","role":"curator"}`)
		answer, raw := s.Do(http.MethodPost, "/api/v1/tags?repository=berths/app", strings.NewReader(`{"changes":[`+change+`]}`), append([]string{"Content-Type", "application/json"}, others...)...)
		assert.Equal(t, http.StatusForbidden, answer.StatusCode, "%s", raw)
		assert.Contains(t, string(raw), "is held")
	}
	code, body = put(as[held[oci.Tag(tag)]])
	assert.Equal(t, http.StatusCreated, code, body)
	code, body = put(others)
	assert.Equal(t, http.StatusCreated, code, "what is pushed is not held any more: %s", body)
	for _, query := range []string{"&part=x", "&word=1", "&word=a-b", "&prefix=a%20b"} {
		answer, raw := s.Do(http.MethodGet, "/api/v1/next-version?repository=berths/app"+query, nil)
		assert.Equal(t, http.StatusUnprocessableEntity, answer.StatusCode, "%s: %s", query, raw)
	}
}
