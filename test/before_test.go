package test

import (
	"archive/tar"
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/kit"
	"warthesis/internal/oci"
)

// beforeArchive is a data folder that the version before the records' present shape
// has made, with the answers that it gave.
const beforeArchive = "testdata/before.tar.gz"

// What a registry answered before its records got another shape, it answers after.
// With BEFORE_MADE_BY_THIS set, the program under test makes the data folder and the
// answers instead: that is how the archive came to be, by the version before.
func TestAnswersAreThoseOfTheVersionBefore(t *testing.T) {
	t.Parallel()
	if os.Getenv("BEFORE_MADE_BY_THIS") != "" {
		makeBefore(t)
		return
	}
	folder := t.TempDir()
	unpack(t, beforeArchive, folder)
	raw, err := os.ReadFile(filepath.Join(folder, "answers.json"))
	require.NoError(t, err)
	var then map[string]string
	require.NoError(t, json.Unmarshal(raw, &then))
	now := answers(t, kit.StartAlone(t, filepath.Join(folder, "data")))
	require.Greater(t, len(then), 500)
	assert.Equal(t, slices.Sorted(maps.Keys(then)), slices.Sorted(maps.Keys(now)))
	for question, answer := range then {
		if !assert.Equal(t, asNow(answer), asNow(now[question]), question) {
			break
		}
	}
}

// beside is what was said to people of a repository that is not there, and has changed,
// with the length that it gave the answer.
var beside = regexp.MustCompile(`Content-Length:\[[0-9]+\] |; it is made by the first push to it|; the first push makes it, or whoever may make one`)

// told is what a search tells besides since.
var told = regexp.MustCompile(`,"(artifact_type|platforms|tags|since|twins)":("[^"]*"|\[[^]]*\])`)

// windows is what is told of restore windows since, and of removals by number.
var windows = regexp.MustCompile(`,"(restore_window":"[^"]*"|removal":[0-9]+)`)

// asNow leaves that out.
func asNow(answer string) string {
	answer = windows.ReplaceAllString(answer, "")
	if strings.Contains(answer, `"places":`) {
		return told.ReplaceAllString(answer, "")
	}
	if strings.HasPrefix(answer, "404") {
		return beside.ReplaceAllString(answer, "")
	}
	return answer
}

func makeBefore(t *testing.T) {
	folder := t.TempDir()
	data := filepath.Join(folder, "data")
	s := kit.Start(t, data)
	fillBefore(t, s)
	s.Stop()
	kept := filepath.Join(folder, "kept")
	require.NoError(t, os.CopyFS(kept, os.DirFS(data)))
	s = kit.StartAlone(t, data)
	raw, err := json.MarshalIndent(answers(t, s), "", " ")
	require.NoError(t, err)
	s.Stop()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "answers.json"), raw, 0o644))
	require.NoError(t, os.MkdirAll("testdata", 0o755))
	f, err := os.Create(beforeArchive)
	require.NoError(t, err)
	zipped := gzip.NewWriter(f)
	w := tar.NewWriter(zipped)
	pack(t, w, kept, "data")
	pack(t, w, filepath.Join(folder, "answers.json"), "answers.json")
	require.NoError(t, errors.Join(w.Close(), zipped.Close(), f.Close()))
}

func pack(t *testing.T, w *tar.Writer, from, as string) {
	require.NoError(t, filepath.WalkDir(from, func(path string, entry os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		name := as + strings.TrimPrefix(path, from)
		if entry.IsDir() {
			return w.WriteHeader(&tar.Header{Name: name + "/", Mode: 0o700, Typeflag: tar.TypeDir})
		}
		raw, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		if err := w.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: int64(len(raw))}); err != nil {
			return err
		}
		_, err = w.Write(raw)
		return err
	}))
}

func unpack(t *testing.T, archive, into string) {
	f, err := os.Open(archive)
	require.NoError(t, err)
	defer f.Close()
	zipped, err := gzip.NewReader(f)
	require.NoError(t, err)
	for r := tar.NewReader(zipped); ; {
		header, err := r.Next()
		if errors.Is(err, io.EOF) {
			return
		}
		require.NoError(t, err)
		at := filepath.Join(into, header.Name)
		if header.Typeflag == tar.TypeDir {
			require.NoError(t, os.MkdirAll(at, 0o755))
			continue
		}
		raw, err := io.ReadAll(r)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(at, raw, 0o600))
	}
}

// beforeCallers are all kinds of people who ask.
var beforeCallers = map[string][]string{
	"admin": {"Authorization", kit.AdminHeader}, "owner": kit.Basic("owner", kit.MemberPassword), "member": kit.Basic("member", kit.MemberPassword),
	"stranger": kit.Basic("stranger", kit.MemberPassword), "nobody": {"Authorization", ""},
}

// fillBefore makes some of everything that the records know.
func fillBefore(t *testing.T, s *kit.Service) {
	for _, name := range []string{"owner", "member", "stranger"} {
		kit.MakeAccount(t, s, name)
	}
	do := func(method, path, body string) { kit.AsAdmin(t, s, method, "/api/v1"+path, body) }
	del := func(path string) {
		code, body := kit.Status(s, http.MethodDelete, path)
		require.Equal(t, http.StatusAccepted, code, body)
	}
	for _, n := range []string{`{"name":"timetable","labels":{"team":"t"}}`, `{"name":"base","open":true,"description":"Base images"}`, `{"name":"gone"}`, `{"name":"moved"}`} {
		do("POST", "/namespaces", n)
	}
	do("POST", "/groups", `{"name":"crew","description":"The crew"}`)
	do("PUT", "/groups/crew/members/member", "")
	do("PUT", "/roles", `{"place":"timetable","account":"owner","role":"owner"}`)
	do("POST", "/tokens", `{"account":"owner","name":"pipeline","scopes":[{"pattern":"timetable/*","actions":["pull","push"]}]}`)
	do("POST", "/tokens", `{"account":"member","name":"laptop","scopes":[{"pattern":"*","actions":["pull"]}]}`)

	empty := []byte("{}")
	for i, repository := range []string{"base/os", "timetable/planner", "timetable/board", "gone/first", "moved/app"} {
		config := kit.PutBlob(t, s, repository, empty)
		shared := kit.PutBlob(t, s, repository, []byte("a layer that all repositories share"))
		kit.PutBlob(t, s, repository, fmt.Appendf(nil, "a blob that nothing names, %d", i))
		for n, tag := range []string{"1.0.0", "1.10.0", "1.9.0", "v2.0.0-rc.1", "20240101", "latest"} {
			own := fmt.Appendf(nil, "layer %d of %s", n, repository)
			kit.PutBlob(t, s, repository, own)
			image := kit.Artifact(config, nil, "application/x.app", n)
			image.Layers = []oci.Descriptor{
				{MediaType: oci.MediaTypeLayer, Digest: shared, Size: 35},
				{MediaType: oci.MediaTypeLayer, Digest: oci.DigestOf(oci.SHA256, own), Size: int64(len(own))},
			}
			kit.PutManifest(t, s, repository, tag, oci.MediaTypeImage, image)
		}
	}
	do("PUT", "/roles", `{"place":"timetable/planner","group":"crew","role":"writer"}`)
	planner := "timetable/planner"
	config := oci.DigestOf(oci.SHA256, empty)
	// Indexes, one with a blob as its child; referrers, one of them of nothing here.
	one := kit.PutManifest(t, s, planner, "", oci.MediaTypeImage, kit.Artifact(config, nil, "application/x.app", 100))
	one.Platform = &oci.Platform{OS: "linux", Architecture: "arm64"}
	two := kit.PutManifest(t, s, planner, "", oci.MediaTypeImage, kit.Artifact(config, nil, "application/x.app", 101))
	index := v1.Index{MediaType: oci.MediaTypeIndex, Manifests: []oci.Descriptor{one, two, {MediaType: oci.MediaTypeLayer, Digest: config, Size: 2}}}
	index.SchemaVersion = 2
	whole := kit.PutManifest(t, s, planner, "multi", oci.MediaTypeIndex, index)
	for n := range 3 {
		kit.PutManifest(t, s, planner, "", oci.MediaTypeImage, kit.Artifact(config, &whole, fmt.Sprintf("application/x.note%d", n%2), n))
	}
	missing := oci.Descriptor{MediaType: oci.MediaTypeImage, Digest: oci.DigestOf(oci.SHA256, []byte("not here")), Size: 8}
	kit.PutManifest(t, s, planner, "", oci.MediaTypeImage, kit.Artifact(config, &missing, "application/x.note", 9))
	elsewhere := kit.Artifact(config, nil, "application/x.app", 102)
	elsewhere.Layers = []oci.Descriptor{{MediaType: "application/vnd.oci.image.layer.nondistributable.v1.tar+gzip", Digest: oci.DigestOf(oci.SHA256, []byte("elsewhere")), Size: 9}}
	kit.PutManifest(t, s, planner, "elsewhere", oci.MediaTypeImage, elsewhere)
	// The other hash.
	long := []byte("content under the other hash")
	longDigest := oci.DigestOf(oci.SHA512, long)
	answer, body := s.Do(http.MethodPost, "/v2/"+planner+"/blobs/uploads/?digest="+longDigest.String(), strings.NewReader(string(long)))
	require.Equal(t, http.StatusCreated, answer.StatusCode, "%s", body)
	// Tags that moved, went and came again; manifests and blobs that were deleted, and one that came back.
	moving := kit.Artifact(config, nil, "application/x.app", 103)
	kit.PutManifest(t, s, planner, "latest", oci.MediaTypeImage, moving)
	del("/v2/timetable/planner/manifests/1.9.0")
	old := kit.PutManifest(t, s, planner, "old", oci.MediaTypeImage, kit.Artifact(config, nil, "application/x.app", 104))
	kit.PutManifest(t, s, planner, "older", oci.MediaTypeImage, kit.Artifact(config, nil, "application/x.app", 104))
	del("/v2/timetable/planner/manifests/" + old.Digest.String())
	back := kit.Artifact(config, nil, "application/x.app", 105)
	again := kit.PutManifest(t, s, planner, "back", oci.MediaTypeImage, back)
	del("/v2/timetable/planner/manifests/" + again.Digest.String())
	kit.PutManifest(t, s, planner, "back", oci.MediaTypeImage, back)
	del("/v2/timetable/planner/blobs/" + oci.DigestOf(oci.SHA256, []byte("a blob that nothing names, 1")).String())
	// Places that went, came back, and have other names.
	do("PATCH", "/repository?repository=timetable/board", `{"rename":"base/board","visibility":"closed","description":"The station board"}`)
	do("DELETE", "/repository?repository=moved/app", "")
	do("POST", "/repository/restore?repository=moved/app", "")
	do("PATCH", "/namespaces/moved", `{"rename":"stayed"}`)
	do("POST", "/repositories", `{"name":"stayed/empty"}`)
	do("DELETE", "/repository?repository=stayed/empty", "")
	do("DELETE", "/namespaces/gone", "")
	answer, body = s.Do(http.MethodPatch, kit.StartUpload(t, s, planner), strings.NewReader("half a blob"))
	require.Equal(t, http.StatusAccepted, answer.StatusCode, "%s", body)
	for _, tag := range []string{"latest", "1.0.0", "1.0.0"} {
		code, body := kit.Status(s, http.MethodGet, "/v2/timetable/planner/manifests/"+tag)
		require.Equal(t, http.StatusOK, code, body)
	}
	s.Do(http.MethodGet, "/v2/timetable/planner/manifests/latest", nil, beforeCallers["stranger"]...)
}

// passing is what differs between two answers to one question whatever the records say.
var passing = regexp.MustCompile(`under request \S+|[0-9a-f]{10}-[0-9]+|127\.0\.0\.1:[0-9]+|"(used_at|pulled_at|used_from|version|pulls)":("[^"]*"|[0-9]+),?`)

// answers asks all there is to ask, as everybody. Pulls come last: they are counted.
func answers(t *testing.T, s *kit.Service) map[string]string {
	given := map[string]string{}
	ask := func(who, method, path string) []byte {
		answer, raw := s.Do(method, path, nil, beforeCallers[who]...)
		kept := http.Header{}
		for _, name := range []string{"Content-Type", "Content-Length", "Docker-Content-Digest", "Oci-Filters-Applied", "Etag", "Link", "Location", "Www-Authenticate"} {
			if values := answer.Header.Values(name); len(values) > 0 && !(name == "Content-Length" && strings.HasPrefix(path, "/api/")) {
				kept[name] = values
			}
		}
		whole := passing.ReplaceAllString(fmt.Sprintf("%d %v\n%s", answer.StatusCode, kept, raw), "")
		given[who+" "+method+" "+path] = whole
		return raw
	}
	repositories := []string{"base/os", "base/board", "timetable/planner", "timetable/board", "gone/first", "moved/app", "stayed/app", "stayed/empty", "never/there"}
	digests := map[string]bool{}
	for _, who := range slices.Sorted(maps.Keys(beforeCallers)) {
		for _, path := range []string{
			"/service", "/me", "/accounts", "/accounts/member/roles", "/groups", "/namespaces", "/namespaces?sort=change", "/removed", "/settings", "/identity-rules",
			"/repositories", "/repositories?sort=change", "/repositories?limit=2", "/repositories?contains=PLAN", "/roles?place=timetable", "/roles?place=timetable/planner", "/roles",
			"/tokens", "/tokens?account=owner", "/audit?limit=500", "/audit?limit=3", "/audit?account=admin&limit=5", "/audit?repository=timetable/planner", "/audit?namespace=timetable",
			"/audit?namespace=gone", "/audit?namespace=moved", "/audit?kind=tag-deleted", "/audit?verdict=refused", "/find?q=planner", "/find?q=lat", "/find?q=timetable/planner:1",
		} {
			ask(who, "GET", "/api/v1"+path)
		}
		for _, n := range []string{"base", "timetable", "gone", "moved", "stayed", "never"} {
			ask(who, "GET", "/api/v1/namespaces/"+n)
		}
		ask(who, "GET", "/v2/_catalog")
		for _, r := range repositories {
			in := "repository=" + url.QueryEscape(r)
			ask(who, "GET", "/api/v1/repository?"+in)
			ask(who, "GET", "/api/v1/tags?sort=change&"+in)
			ask(who, "GET", "/v2/"+r+"/tags/list?n=3")
			raw := ask(who, "GET", "/api/v1/tags?"+in)
			for _, found := range regexp.MustCompile(`sha(256|512):[0-9a-f]{64,128}`).FindAllString(string(raw), -1) {
				digests[found] = true
			}
		}
	}
	for _, raw := range []string{"{}", "not here", "elsewhere", "a layer that all repositories share", "a blob that nothing names, 1", "a blob that nothing names, 2"} {
		digests[oci.DigestOf(oci.SHA256, []byte(raw)).String()] = true
	}
	digests[oci.DigestOf(oci.SHA512, []byte("content under the other hash")).String()] = true
	for _, who := range []string{"admin", "member", "nobody"} {
		for _, d := range slices.Sorted(maps.Keys(digests)) {
			ask(who, "GET", "/api/v1/find?q="+d[:15])
			ask(who, "GET", "/api/v1/find?q="+d)
		}
		for _, r := range repositories[:7] {
			for _, d := range slices.Sorted(maps.Keys(digests)) {
				ask(who, "GET", "/api/v1/image?repository="+url.QueryEscape(r)+"&reference="+d)
				ask(who, "GET", "/v2/"+r+"/referrers/"+d)
			}
		}
	}
	for _, who := range []string{"admin", "member"} {
		for _, r := range repositories[:7] {
			for _, d := range slices.Sorted(maps.Keys(digests)) {
				ask(who, "HEAD", "/v2/"+r+"/blobs/"+d)
				ask(who, "GET", "/v2/"+r+"/blobs/"+d)
				ask(who, "GET", "/v2/"+r+"/manifests/"+d)
			}
			for _, tag := range []string{"latest", "1.9.0", "old", "older", "back", "multi", "1.10.0"} {
				ask(who, "HEAD", "/v2/"+r+"/manifests/"+tag)
			}
		}
	}
	return given
}
