package sweeps

import (
	"bytes"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	_ "github.com/mattn/go-sqlite3" // the records are looked at past the service
	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/api"
	"warthesis/internal/kit"
	"warthesis/internal/oci"
)

// short is a service whose windows are a second.
func short(t *testing.T, data string, more ...string) *kit.Service {
	return kit.Start(t, data, append([]string{"--short-windows", "--grace", "1s", "--restore-window", "1s", "--sweep-at", "never"}, more...)...)
}

func asked[T any](t testing.TB, s *kit.Service, method, path, body string) (found T) {
	require.NoError(t, json.Unmarshal(kit.AsAdmin(t, s, method, "/api/v1/"+path, body), &found))
	return found
}

// until waits for something that a run does. Each question is a request, which runs let go
// first: they are asked seldom.
func until(t testing.TB, what string, holds func() bool, explain ...func() string) {
	t.Helper()
	for end := time.Now().Add(2 * time.Minute); !holds(); time.Sleep(300 * time.Millisecond) {
		if time.Now().After(end) {
			for _, e := range explain {
				t.Log(e())
			}
			require.FailNow(t, "waited in vain until "+what)
		}
	}
}

// run asks for a run and waits for its end.
func run(t testing.TB, s *kit.Service, path, body string) (done api.Run) {
	begun := asked[api.Asked](t, s, http.MethodPost, path, body)
	until(t, "the run ends", func() bool {
		done = asked[api.Run](t, s, http.MethodGet, fmt.Sprintf("runs/%d", begun.Run.ID), "")
		return done.EndedAt != nil
	}, s.Log)
	require.Equal(t, "done", done.State, done.Error)
	return done
}

func sweep(t testing.TB, s *kit.Service) api.Run { return run(t, s, "sweeps", "{}") }

// files are the files of content in a data folder, by digest.
func files(t testing.TB, data string) map[oci.Digest][]string {
	all := map[oci.Digest][]string{}
	for _, algorithm := range []string{"sha256", "sha512"} {
		found, err := filepath.Glob(filepath.Join(data, "blobs", algorithm, "*", "*"))
		require.NoError(t, err)
		for _, f := range found {
			hex, _, _ := strings.Cut(filepath.Base(f), ".")
			d := oci.Digest(algorithm + ":" + hex)
			all[d] = append(all[d], f)
		}
	}
	return all
}

func push(t testing.TB, s *kit.Service, repository, tag string, layers ...[]byte) kit.Image {
	image := kit.NewImage(t, layers...)
	for _, raw := range image.Blobs {
		kit.PutBlob(t, s, repository, raw)
	}
	answer, body := s.Do(http.MethodPut, "/v2/"+repository+"/manifests/"+tag, bytes.NewReader(image.Raw), "Content-Type", oci.MediaTypeImage)
	require.Equal(t, http.StatusCreated, answer.StatusCode, "%s", body)
	return image
}

// pass waits until windows and grace are over.
func pass() { time.Sleep(1500 * time.Millisecond) }

// What a person sees of it: a preview, the run, its report, and what is told of content
// before and after.
func TestASweepTakesWhatNothingNeedsAndSaysSo(t *testing.T) {
	t.Parallel()
	s := short(t, t.TempDir())
	kept := push(t, s, "timetable/planner", "1.0.0", kit.Bytes(1, 5000))
	gone := push(t, s, "timetable/planner", "2.0.0", kit.Bytes(1, 5000), kit.Bytes(2, 300_000))
	loose := kit.PutBlob(t, s, "timetable/planner", kit.Bytes(3, 7000))
	planner := s.Address + "/timetable/planner"
	assert.Contains(t, kit.Must(t, "explain", planner+":2.0.0"), "the tag 2.0.0 points to it")
	shared := oci.DigestOf(oci.SHA256, kit.Bytes(1, 5000))
	said := kit.Must(t, "explain", s.Address, shared.String())
	assert.Contains(t, said, "tag 1.0.0 → manifest "+kept.Manifest.Digest.Encoded()[:12]+" → layer")
	assert.Contains(t, said, "the tag 1.0.0 has it in it, and 1 more")
	assert.Contains(t, kit.Must(t, "explain", s.Address, loose.String()), "no manifest names it; the first sweep after the grace lets go of it")

	kit.Must(t, "remove", planner+":2.0.0", "--yes")
	assert.Contains(t, kit.Must(t, "explain", s.Address, gone.Manifest.Digest.String()), "can come back until the restore window is over")
	pass()
	preview := kit.Must(t, "sweep", "preview", s.Address)
	assert.Contains(t, preview, "would go  1 image")
	assert.Contains(t, preview, "it was removed by the removal 1, and its restore window is over")
	out := kit.Must(t, "sweep", "run", s.Address)
	assert.Contains(t, out, "went      1 image")
	assert.Regexp(t, `is done: 3\d\d KiB in 4 files are free`, out)

	left := files(t, s.Data)
	assert.Len(t, left, len(kept.Blobs)+1)
	for d := range kept.Blobs {
		assert.Len(t, left[d], 1)
	}
	refused := kit.Run(t, "removal", "undo", s.Address, "1")
	assert.Equal(t, 2, refused.Code)
	assert.Contains(t, refused.Err, "the restore window of the removal 1 is over")
	refused = kit.Run(t, "explain", s.Address, loose.String())
	assert.Equal(t, 4, refused.Code)
	assert.Contains(t, kit.Must(t, "sweep", "list", s.Address), "1 image, 3 holdings, 4 blobs went")
	assert.Contains(t, kit.Must(t, "sweep", "show", s.Address, fmt.Sprint(asked[api.RunList](t, s, http.MethodGet, "runs?kind=sweep", "").Runs[0].ID), "--kind", "blob"), "no repository holds it")
	assert.Contains(t, s.Log(), "short_windows is true")

	// What is served by the cache of what was is asked again.
	code, _ := kit.Status(s, http.MethodHead, "/v2/timetable/planner/blobs/"+loose.String())
	assert.Equal(t, http.StatusNotFound, code)
	pulled := t.TempDir()
	kit.Must(t, "pull", planner+":1.0.0", pulled)
	kit.SameFiles(t, kept, pulled)
}

// Owners let their places go and see that, and nothing of others'.
func TestOwnersSweepTheirPlacesAlone(t *testing.T) {
	t.Parallel()
	s := short(t, t.TempDir())
	for _, name := range []string{"marit", "teodor"} {
		kit.MakeAccount(t, s, name)
	}
	kit.PutBlob(t, s, "timetable/planner", kit.Bytes(3, 7000))
	kit.PutBlob(t, s, "signals/box", kit.Bytes(3, 7000))
	kit.AsAdmin(t, s, http.MethodPut, "/api/v1/roles", `{"account":"marit","place":"timetable","role":"owner"}`)
	kit.AsAdmin(t, s, http.MethodPut, "/api/v1/roles", `{"account":"teodor","place":"timetable","role":"curator"}`)
	as := func(account, method, path, body string) (int, string) {
		answer, raw := s.Do(method, "/api/v1/"+path, strings.NewReader(body), append(kit.Basic(account, kit.MemberPassword), "Content-Type", "application/json")...)
		return answer.StatusCode, string(raw)
	}
	pass()
	code, said := as("marit", http.MethodPost, "sweeps", `{"place":"timetable"}`)
	require.Equal(t, http.StatusOK, code, said)
	var begun api.Asked
	require.NoError(t, json.Unmarshal([]byte(said), &begun))
	var done api.Run
	until(t, "it ends", func() bool {
		code, said := as("marit", http.MethodGet, fmt.Sprintf("runs/%d", begun.Run.ID), "")
		require.Equal(t, http.StatusOK, code, said)
		require.NoError(t, json.Unmarshal([]byte(said), &done))
		return done.EndedAt != nil
	})
	assert.Equal(t, "1 holding went", done.Report)
	assert.Len(t, files(t, s.Data), 1, "others need the bytes, which is not told")
	code, said = as("marit", http.MethodGet, fmt.Sprintf("runs/%d/items", begun.Run.ID), "")
	assert.Equal(t, http.StatusOK, code)
	assert.Contains(t, said, "timetable/planner")
	whole := sweep(t, s)
	for _, refused := range [][3]string{
		{http.MethodPost, "sweeps", "{}"}, {http.MethodPost, "sweeps", `{"place":"signals"}`}, {http.MethodPost, "sweeps", `{"place":"nowhere"}`}, {http.MethodPost, "scrubs", "{}"},
		{http.MethodGet, fmt.Sprintf("runs/%d", whole.ID), ""}, {http.MethodGet, "runs/999", ""}, {http.MethodGet, fmt.Sprintf("runs/%d/items", whole.ID), ""},
		{http.MethodPost, fmt.Sprintf("runs/%d/stop", whole.ID), ""}, {http.MethodGet, "runs?place=signals", ""}, {http.MethodGet, "hurts", ""}, {http.MethodGet, "health", ""},
		{http.MethodGet, "bans", ""}, {http.MethodGet, "bans?namespace=signals", ""}, {http.MethodPost, "bans/1/lift", `{"reason":"x"}`},
	} {
		code, said := as("marit", refused[0], refused[1], refused[2])
		assert.Equal(t, http.StatusForbidden, code, "%s %s: %s", refused[1], refused[2], said)
		code, _ = as("teodor", refused[0], refused[1], refused[2])
		assert.Equal(t, http.StatusForbidden, code, refused[1])
	}
	code, _ = as("teodor", http.MethodPost, "sweeps", `{"place":"timetable"}`)
	assert.Equal(t, http.StatusForbidden, code, "curators remove, and do not let go")
	// A stranger is told of content that is there as of content that is not.
	kit.MakeAccount(t, s, "una")
	there := oci.DigestOf(oci.SHA256, kit.Bytes(3, 7000))
	_, of := as("una", http.MethodGet, "explain?digest="+there.String(), "")
	absent := oci.DigestOf(oci.SHA256, []byte("absent"))
	_, none := as("una", http.MethodGet, "explain?digest="+absent.String(), "")
	assert.Equal(t, strings.ReplaceAll(withoutRequest(none), absent.String(), there.String()), withoutRequest(of))
}

// To readers what was removed is gone, also where it is asked why content is here.
func TestReadersAreNotToldOfWhatWasRemoved(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir(), "--sweep-at", "never")
	kit.MakeAccount(t, s, "una")
	kit.PutBlob(t, s, "timetable/planner", []byte("{}"))
	kit.AsAdmin(t, s, http.MethodPut, "/api/v1/roles", `{"account":"una","place":"timetable","role":"reader"}`)
	shared := kit.Bytes(1, 500)
	kept := push(t, s, "timetable/planner", "1.0.0", shared)
	gone := push(t, s, "timetable/planner", "secret-plan", shared, kit.Bytes(2, 500))
	answer, body := s.Do(http.MethodDelete, "/v2/timetable/planner/manifests/"+gone.Manifest.Digest.String(), nil)
	require.Equal(t, http.StatusAccepted, answer.StatusCode, "%s", body)
	explain := func(d oci.Digest) (int, string) {
		answer, raw := s.Do(http.MethodGet, "/api/v1/explain?digest="+d.String(), nil, kit.Basic("una", kit.MemberPassword)...)
		return answer.StatusCode, string(raw)
	}
	code, said := explain(oci.DigestOf(oci.SHA256, shared))
	assert.Equal(t, http.StatusOK, code)
	assert.Contains(t, said, kept.Manifest.Digest.String())
	assert.NotContains(t, said, gone.Manifest.Digest.String())
	assert.NotContains(t, said, "secret-plan")
	code, _ = explain(gone.Manifest.Digest)
	assert.Equal(t, http.StatusNotFound, code)
	assert.Contains(t, kit.Must(t, "explain", s.Address, gone.Manifest.Digest.String()), "secret-plan", "who can bring it back is told")
}

// withoutRequest leaves out of an answer what is another in each.
func withoutRequest(raw string) string {
	var fields map[string]any
	if json.Unmarshal([]byte(raw), &fields) != nil {
		return raw
	}
	delete(fields, "request")
	shown, _ := json.Marshal(fields)
	return string(shown)
}

// hammer is somebody who pushes, moves, removes, brings back and mounts at random, beside
// others and beside sweeps.
type hammer struct {
	s      *kit.Service
	random *rand.Rand
	failed func(format string, args ...any)
	// alone is who has a repository of its own, in which it removes images alone.
	alone bool
	own   string
}

func (h *hammer) do(method, path string, body []byte, headers ...string) (int, []byte) {
	answer, raw, err := h.s.Try(method, path, bytes.NewReader(body), headers...)
	if err != nil {
		return 0, nil
	}
	if answer.StatusCode >= 500 {
		h.failed("%s %s: %d %s", method, path, answer.StatusCode, raw)
	}
	return answer.StatusCode, raw
}

func (h *hammer) repository() string {
	if h.alone {
		return h.own
	}
	return fmt.Sprintf("ns%d/app%d", h.random.IntN(2), h.random.IntN(2))
}

func (h *hammer) step() {
	in := h.repository()
	layer := kit.Bytes(uint64(h.random.IntN(12)), 2000)
	d := oci.DigestOf(oci.SHA256, layer)
	kinds := 9
	if h.alone {
		kinds = 6
	}
	switch h.random.IntN(kinds) {
	case 0, 1, 2:
		h.push(in, layer, d)
	case 3:
		h.do(http.MethodPost, "/v2/"+in+"/blobs/uploads/?mount="+d.String()+"&from="+h.repository(), nil)
	case 4:
		h.do(http.MethodDelete, fmt.Sprintf("/v2/%s/manifests/t%d", in, h.random.IntN(4)), nil)
	case 5:
		var tags struct{ Tags []struct{ Digest string } }
		if code, raw := h.do(http.MethodGet, "/api/v1/tags?repository="+in, nil); code == http.StatusOK && json.Unmarshal(raw, &tags) == nil && len(tags.Tags) > 0 {
			h.do(http.MethodDelete, "/v2/"+in+"/manifests/"+tags.Tags[h.random.IntN(len(tags.Tags))].Digest, nil)
		}
	case 6:
		var list api.RemovalList
		if code, raw := h.do(http.MethodGet, "/api/v1/removals?limit=5", nil); code == http.StatusOK && json.Unmarshal(raw, &list) == nil && len(list.Removals) > 0 {
			h.do(http.MethodPost, fmt.Sprintf("/api/v1/removals/%d/undo", list.Removals[h.random.IntN(len(list.Removals))].ID), []byte("{}"), "Content-Type", "application/json")
		}
	case 7:
		h.do(http.MethodDelete, "/v2/"+in+"/blobs/"+d.String(), nil)
	default:
		if h.random.IntN(8) == 0 {
			h.do(http.MethodDelete, "/api/v1/repository?repository="+in, nil)
		}
	}
}

// push pushes as clients do: what it is told is there it does not send.
func (h *hammer) push(in string, layer []byte, d oci.Digest) {
	config := []byte("{}")
	began := time.Now()
	for raw, digest := range map[string]oci.Digest{string(layer): d, string(config): oci.DigestOf(oci.SHA256, config)} {
		if code, _ := h.do(http.MethodHead, "/v2/"+in+"/blobs/"+digest.String(), nil); code != http.StatusOK {
			h.do(http.MethodPost, "/v2/"+in+"/blobs/uploads/?digest="+digest.String(), []byte(raw))
		}
	}
	m := v1.Manifest{MediaType: oci.MediaTypeImage, Config: oci.Descriptor{MediaType: "application/vnd.larkspur.x", Digest: oci.DigestOf(oci.SHA256, config), Size: 2},
		Layers: []oci.Descriptor{{MediaType: oci.MediaTypeLayer, Digest: d, Size: int64(len(layer))}}}
	m.SchemaVersion = 2
	raw, _ := json.Marshal(m)
	code, said := h.do(http.MethodPut, fmt.Sprintf("/v2/%s/manifests/t%d", in, h.random.IntN(4)), raw, "Content-Type", oci.MediaTypeImage)
	// Where nobody else removes, what was said to be there within the grace is there.
	if h.alone && code == http.StatusNotFound && time.Since(began) < 700*time.Millisecond {
		h.failed("%s lost what it was told is there: %s", in, said)
	}
}

// Pushes, mounts, moves, removals and undos beside sweeps without a pause: no stored
// manifest lacks anything at any time, and when all windows are over and two sweeps went
// not one byte is over.
func TestSweepsBesideEverythingLoseNothingAndLeaveNothing(t *testing.T) {
	t.Parallel()
	rounds := 1200
	if given := os.Getenv("SWEEP_HAMMER"); given != "" {
		_, err := fmt.Sscan(given, &rounds)
		require.NoError(t, err)
	}
	data := t.TempDir()
	s := short(t, data)
	var mu sync.Mutex
	var failures []string
	failed := func(format string, args ...any) {
		mu.Lock()
		defer mu.Unlock()
		failures = append(failures, fmt.Sprintf(format, args...))
	}
	var all sync.WaitGroup
	done := make(chan struct{})
	for worker := range 6 {
		h := &hammer{s: s, random: rand.New(rand.NewPCG(uint64(worker), 11)), failed: failed, alone: worker%2 == 1, own: fmt.Sprintf("own/app%d", worker)}
		all.Go(func() {
			for range rounds / 6 {
				h.step()
			}
		})
	}
	var beside sync.WaitGroup
	var swept int
	beside.Go(func() {
		for {
			select {
			case <-done:
				return
			default:
				sweep(t, s)
				swept++
			}
		}
	})
	beside.Go(func() {
		for {
			select {
			case <-done:
				return
			default:
				pullAll(s, failed)
			}
		}
	})
	all.Wait()
	close(done)
	beside.Wait()
	require.Empty(t, failures)
	assert.Positive(t, swept)
	pass()
	sweep(t, s)
	sweep(t, s)
	needed := pullAll(s, failed)
	require.Empty(t, failures)
	left := files(t, data)
	for d, places := range left {
		assert.True(t, needed[d], "%s is over", d)
		assert.Len(t, places, 1)
	}
	assert.Len(t, left, len(needed))
}

// pullAll pulls all that there is, as the records have it, and returns the digests. What
// goes while it is pulled is no failure: it is asked again.
func pullAll(s *kit.Service, failed func(string, ...any)) map[oci.Digest]bool {
	needed := map[oci.Digest]bool{}
	for _, image := range images(s, failed) {
		in, digest := image[0], oci.Digest(image[1])
		at := "/v2/" + in + "/manifests/" + digest.String()
		answer, raw := s.Do(http.MethodGet, at, nil)
		var m v1.Manifest
		if answer.StatusCode != http.StatusOK || json.Unmarshal(raw, &m) != nil {
			continue
		}
		needed[digest] = true
		for _, d := range append([]oci.Descriptor{m.Config}, m.Layers...) {
			needed[d.Digest] = true
			if code, _ := kit.Status(s, http.MethodGet, "/v2/"+in+"/blobs/"+d.Digest.String()); code == http.StatusOK {
				continue
			}
			// It may have been removed since.
			if again, _ := s.Do(http.MethodHead, at, nil); again.StatusCode != http.StatusOK {
				break
			}
			if code, said := kit.Status(s, http.MethodGet, "/v2/"+in+"/blobs/"+d.Digest.String()); code != http.StatusOK {
				if again, _ := s.Do(http.MethodHead, at, nil); again.StatusCode == http.StatusOK {
					failed("%s of %s@%s: %d %s", d.Digest, in, digest, code, said)
				}
			}
		}
	}
	return needed
}

// images are all live images, with or without a tag.
func images(s *kit.Service, failed func(string, ...any)) (all [][2]string) {
	db, err := sql.Open("sqlite3", "file:"+filepath.Join(s.Data, "warthesis.db")+"?mode=ro")
	if err != nil {
		failed("%s", err)
		return nil
	}
	defer db.Close()
	rows, err := db.Query("SELECT live_repositories.name, manifests.digest FROM manifests JOIN live_repositories ON live_repositories.id = manifests.repository_id WHERE manifests.state = 'live'")
	if err != nil {
		failed("%s", err)
		return nil
	}
	defer rows.Close()
	for rows.Next() {
		var one [2]string
		if err := rows.Scan(&one[0], &one[1]); err != nil {
			failed("%s", err)
		}
		all = append(all, one)
	}
	return all
}

// A sweep that is killed again and again, at any moment, loses nothing and comes to its end.
func TestASweepIsKilledAndLosesNothing(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	s := short(t, data)
	kept := push(t, s, "timetable/planner", "1.0.0", kit.Bytes(1, 5000))
	for i := range 400 {
		kit.PutBlob(t, s, fmt.Sprintf("timetable/app%d", i%5), kit.Bytes(uint64(100+i), 500))
	}
	for i := range 20 {
		push(t, s, "timetable/old", "1.0", kit.Bytes(uint64(1000+i), 500))
	}
	kit.AsAdmin(t, s, http.MethodDelete, "/api/v1/repository?repository=timetable/old", "")
	pass()
	random := rand.New(rand.NewPCG(5, 5))
	ended := false
	for round := 0; !ended && round < 40; round++ {
		begun := asked[api.Asked](t, s, http.MethodPost, "sweeps", "{}")
		time.Sleep(time.Duration(random.IntN(120)) * time.Millisecond)
		if round < 12 {
			s.Kill()
			s.Restart()
		}
		until(t, "it goes on to its end", func() bool {
			now := asked[api.Run](t, s, http.MethodGet, fmt.Sprintf("runs/%d", begun.Run.ID), "")
			return now.EndedAt != nil || round < 12
		}, s.Log)
		ended = round >= 14
	}
	// After a crash what was said to be there before is kept for a grace.
	pass()
	sweep(t, s)
	sweep(t, s)
	left := files(t, data)
	for d := range kept.Blobs {
		assert.Len(t, left[d], 1)
		delete(left, d)
	}
	delete(left, kept.Manifest.Digest)
	assert.Empty(t, left, "nothing is over")
	entries, err := os.ReadDir(filepath.Join(data, "reports"))
	require.NoError(t, err)
	for _, e := range entries {
		assert.False(t, strings.HasSuffix(e.Name(), ".new"), e.Name())
	}
}

// Records of yesterday with content of today: all of today is still on the disk, and all of
// yesterday can be pulled.
func TestRecordsOfYesterdayWithContentOfTodayLoseNothing(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	s := short(t, data)
	yesterday := push(t, s, "timetable/planner", "1.0.0", kit.Bytes(1, 5000))
	moved := yesterday.Manifest.Digest
	s.Stop()
	raw, err := os.ReadFile(filepath.Join(data, "warthesis.db"))
	require.NoError(t, err)
	s.Restart()
	for i := range 30 {
		push(t, s, "timetable/planner", fmt.Sprintf("2.%d.0", i), kit.Bytes(uint64(10+i), 5000))
	}
	// One is mended today, and so has another place than yesterday.
	at := files(t, data)[moved][0]
	require.NoError(t, os.Remove(at))
	push(t, s, "timetable/planner", "1.0.0", kit.Bytes(1, 5000))
	require.NotEqual(t, at, files(t, data)[moved][0])
	today := files(t, data)
	s.Stop()
	for _, end := range []string{"-wal", "-shm"} {
		if err := os.Remove(filepath.Join(data, "warthesis.db"+end)); !errors.Is(err, fs.ErrNotExist) {
			require.NoError(t, err)
		}
	}
	require.NoError(t, os.WriteFile(filepath.Join(data, "warthesis.db"), raw, 0o600))
	s.Restart()
	done := sweep(t, s)
	assert.EqualValues(t, 1, done.Sweep.Adopted)
	pass()
	done = sweep(t, s)
	assert.Contains(t, done.Report, "the records are older than the files, so an admin must decide")
	assert.Equal(t, today, files(t, data))
	folder := t.TempDir()
	kit.Must(t, "pull", s.Address+"/timetable/planner:1.0.0", folder)
	kit.SameFiles(t, yesterday, folder)
	// With an admin's word they go.
	done = run(t, s, "sweeps", `{"unrecorded":true}`)
	assert.EqualValues(t, len(today)-3, done.Sweep.Files)
	assert.Len(t, files(t, data), 3)
}

// Fewer files than would count as too many are kept as well while the records are older than
// the files, and unrecorded files of a crash are still deleted by themselves.
func TestAFewUnrecordedFilesAreKeptWhileTheRecordsAreOlder(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	s := short(t, data)
	push(t, s, "timetable/planner", "1.0.0", kit.Bytes(1, 5000))
	s.Stop()
	raw, err := os.ReadFile(filepath.Join(data, "warthesis.db"))
	require.NoError(t, err)
	s.Restart()
	// A restart alone is no sign of older records.
	pass()
	assert.NotContains(t, sweep(t, s).Report, "older")
	push(t, s, "timetable/planner", "2.0.0", kit.Bytes(2, 5000))
	s.Stop()
	require.NoError(t, os.WriteFile(filepath.Join(data, "warthesis.db"), raw, 0o600))
	today := files(t, data)
	s.Restart()
	for range 2 {
		sweep(t, s)
		pass()
		done := sweep(t, s)
		assert.Contains(t, done.Report, "kept 3 unrecorded files: the records are older than the files")
		assert.Equal(t, today, files(t, data))
		s.Stop()
		s.Restart()
	}
	done := run(t, s, "sweeps", `{"unrecorded":true}`)
	assert.EqualValues(t, 3, done.Sweep.Files)
	assert.NotContains(t, sweep(t, s).Report, "older")
}

// A sweep stops within a second when it is told to, and what it had not taken is left.
func TestASweepStopsAtOnce(t *testing.T) {
	t.Parallel()
	s := short(t, t.TempDir(), "--sweep-files-per-second", "5")
	for i := range 60 {
		kit.PutBlob(t, s, "timetable/app", kit.Bytes(uint64(i), 100))
	}
	pass()
	begun := asked[api.Asked](t, s, http.MethodPost, "sweeps", "{}")
	path := fmt.Sprintf("runs/%d", begun.Run.ID)
	kit.Eventually(t, "it takes", func() bool {
		now := asked[api.Run](t, s, http.MethodGet, path, "")
		return now.Step == "taking" && now.Done > 60
	})
	began := time.Now()
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/"+path+"/stop", "")
	var now api.Run
	kit.Eventually(t, "it stops", func() bool {
		now = asked[api.Run](t, s, http.MethodGet, path, "")
		return now.State == "stopped"
	})
	assert.Less(t, time.Since(began), time.Second)
	assert.Contains(t, now.Report, "so far")
	assert.NotEmpty(t, files(t, s.Data))
	list := asked[api.SweepItems](t, s, http.MethodGet, path+"/items?limit=1000", "")
	assert.True(t, slices.ContainsFunc(list.Items, func(i api.SweepItem) bool { return i.Went == nil }), "some are not decided")
}
