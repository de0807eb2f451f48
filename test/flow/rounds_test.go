package flow

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/api"
	"warthesis/internal/kit"
	"warthesis/internal/kit/line"
	"warthesis/internal/oci"
)

// However often either side is killed, both have the same in the end, and no tag ever went
// back at the other side. FLOW_MINUTES lets it go on for so long.
func TestBothSidesConvergeHoweverOftenTheyAreKilled(t *testing.T) {
	t.Parallel()
	here, there := pair(t)
	kit.Must(t, "replication", "make", here.Address, "depot", "--copy", "signals/*", "--to", "depot")
	until, rounds := time.Now(), 3
	if minutes, err := strconv.Atoi(os.Getenv("FLOW_MINUTES")); err == nil {
		until, rounds = until.Add(time.Duration(minutes)*time.Minute), 0
	}
	// The number of each image that a tag had, by its digest.
	numbers := map[oci.Digest]int{}
	shared := kit.Bytes(77, 40_000)
	next := 0
	for round := 0; round < rounds || time.Now().Before(until); round++ {
		for range 4 {
			next++
			image := kit.NewImage(t, shared, kit.Bytes(uint64(next), 20_000))
			numbers[image.Manifest.Digest] = next
			push(t, here, image, fmt.Sprintf("signals/relay-%d:%s", rand.N(2), []string{"stable", "night"}[rand.N(2)]))
		}
		time.Sleep(rand.N(400 * time.Millisecond)) // where a kill hits is left to chance
		killed := []*kit.Service{here, there}[round%2]
		killed.Kill()
		killed.Restart()
	}
	kit.AsAdmin(t, here, http.MethodPost, "/api/v1/replications/depot/run", `{}`)
	assert.Zero(t, rests(t, here, "depot").Conflicting)
	kit.Must(t, "replication", "drift", here.Address, "depot")
	for _, name := range []string{"signals/relay-0", "signals/relay-1"} {
		for _, tag := range []string{"stable", "night"} {
			var log api.TagMoveList
			status, body := kit.Status(there, http.MethodGet, fmt.Sprintf("/api/v1/tag-log?repository=%s&tag=%s", name, tag))
			if status == http.StatusNotFound {
				continue
			}
			require.NoError(t, json.Unmarshal([]byte(body), &log), body)
			for i := range log.Moves[:max(0, len(log.Moves)-1)] {
				newer, older := numbers[log.Moves[i].To], numbers[log.Moves[i+1].To]
				assert.Greater(t, newer, older, "%s:%s went back", name, tag)
			}
			if tagOf(here, name, tag) != "" {
				kit.Must(t, "pull", there.Address+"/"+name+":"+tag, t.TempDir()+"/pulled")
			}
		}
	}
}

// Two rules that each let their own side win, at the same moment over a slow line: each puts
// its own at the other, and that ends there, in a conflict that is told and can be settled.
func TestTwoThatOverrideEachOtherEndInAConflictThatIsTold(t *testing.T) {
	t.Parallel()
	sides := []*kit.Service{kit.Start(t, t.TempDir(), inside...), kit.Start(t, t.TempDir(), inside...)}
	images := []kit.Image{imageOf(t, 1), imageOf(t, 2)}
	for i, s := range sides {
		far, stop, err := line.Start(sides[1-i].Address, 100*time.Millisecond)
		require.NoError(t, err)
		t.Cleanup(stop)
		made := kit.RunWith(t, kit.Password+"\n", "peer", "make", s.Address, "other", far, "--account", kit.Admin, "--from-stdin", "--plain-http")
		require.Zero(t, made.Code, made.Out+made.Err)
		kit.AsAdmin(t, s, http.MethodPost, "/api/v1/namespaces", `{"name":"signals"}`)
		kit.Must(t, "replication", "make", s.Address, "out", "--copy", "signals/*", "--to", "other", "--conflicts", "ours")
		kit.AsAdmin(t, s, http.MethodPost, "/api/v1/replications/out/pause", `{"paused":true}`)
		push(t, s, images[i], "signals/relay:stable")
	}
	var both sync.WaitGroup
	for _, s := range sides {
		both.Go(func() {
			kit.AsAdmin(t, s, http.MethodPost, "/api/v1/replications/out/pause", `{"paused":false}`)
		})
	}
	both.Wait()
	for _, s := range sides {
		rests(t, s, "out")
	}
	// Where one was quicker, the other took it: then there is nothing to tell.
	if is := tagOf(sides[0], "signals/relay", "stable"); is != tagOf(sides[1], "signals/relay", "stable") {
		assert.EqualValues(t, 2, rule(t, sides[0], "out").Conflicting+rule(t, sides[1], "out").Conflicting)
		kit.Must(t, "replication", "run", sides[0].Address, "out", "--settle", "signals/relay:stable", "--yes")
		assert.Equal(t, is, tagOf(sides[1], "signals/relay", "stable"))
		kit.Eventually(t, "nothing is left to tell", func() bool { return rule(t, sides[0], "out").Conflicting+rule(t, sides[1], "out").Conflicting == 0 })
	}
	for _, s := range sides {
		var log api.TagMoveList
		require.NoError(t, json.Unmarshal(kit.AsAdmin(t, s, http.MethodGet, "/api/v1/tag-log?repository=signals/relay&tag=stable", ""), &log))
		assert.LessOrEqual(t, len(log.Moves), 3)
	}
}

// many is how many a test takes, unless the environment says.
func many(name string, usual int) int {
	if n, err := strconv.Atoi(os.Getenv(name)); err == nil {
		return n
	}
	return usual
}

// What is equal costs one question a tag, and lists of whatever length are read to their end.
// FLOW_IMAGES and FLOW_TAGS say how many there are.
func TestWhatIsEqualCostsOneQuestionATag(t *testing.T) {
	t.Parallel()
	s, f := kit.Start(t, t.TempDir(), inside...), kit.StartForeign(t, nil)
	f.Put("signals/base", "1", imageOf(t, 99))
	kit.Must(t, "peer", "make", s.Address, "depot", f.Address, "--plain-http", "--repository", "signals/base")
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/namespaces", `{"name":"signals"}`)
	kit.Must(t, "replication", "make", s.Address, "depot", "--copy", "signals/*", "--to", "depot")
	images := many("FLOW_IMAGES", 50)
	put := func(raw []byte) map[string]any {
		return map[string]any{"mediaType": "application/vnd.example.part", "digest": kit.PutBlob(t, s, "signals/relay", raw), "size": len(raw)}
	}
	config, layer := put([]byte("{}")), put(kit.Bytes(1, 300_000))
	for i := range images {
		kit.PutManifest(t, s, "signals/relay", fmt.Sprintf("t%d", i), oci.MediaTypeImage, map[string]any{
			"schemaVersion": 2, "mediaType": oci.MediaTypeImage, "config": config, "layers": []any{layer}, "annotations": map[string]string{"number": fmt.Sprint(i)},
		})
	}
	rests(t, s, "depot")
	asked := f.Asked()
	assert.Equal(t, 2, count(asked, "POST "), "what they share is sent once")
	began := time.Now()
	kit.Must(t, "replication", "run", s.Address, "depot")
	t.Logf("%d equal tags were compared within %s", images, time.Since(began))
	asked = f.Asked()
	assert.Equal(t, images, count(asked, "HEAD /v2/signals/relay/manifests/"))
	assert.LessOrEqual(t, len(asked), images+2)

	tags := many("FLOW_TAGS", 500)
	f.Pages(1)
	for i := range tags {
		f.PutRaw("signals/relay", fmt.Sprintf("extra-%06d", i), oci.MediaTypeImage, []byte("{}"))
	}
	began = time.Now()
	var drift api.DriftReport
	require.NoError(t, json.Unmarshal([]byte(kit.Run(t, "replication", "drift", s.Address, "depot", "--output", "json").Out), &drift))
	t.Logf("%d tags in pages of one were compared within %s", tags, time.Since(began))
	assert.Equal(t, [3]int64{0, 0, int64(tags)}, [3]int64{drift.Missing, drift.Different, drift.Extra})
}

// Over a line that is slow, loses packets and is cut by kills of either side, all arrives.
func TestALossyLineBringsAllOfIt(t *testing.T) {
	if !line.Alone(t) {
		return
	}
	bad := line.Lossy{Each: 25 * time.Millisecond, Jitter: 10 * time.Millisecond, Loss: 0.02, Rate: 2 << 20}
	far, err := bad.Connect("10.77.0.1", "10.77.0.2")
	if err != nil {
		t.Skipf("no line can be made here: %v", err)
	}
	reach := []string{"--inside-networks", "127.0.0.0/8,10.77.0.0/24"}
	here := kit.Start(t, t.TempDir(), reach...)
	there := kit.StartAt(t, "10.77.0.2:0", far.Do, t.TempDir(), append(reach, "--listen-unencrypted")...)
	peerOf(t, here, "depot", there)
	for _, s := range []*kit.Service{here, there} {
		kit.AsAdmin(t, s, http.MethodPost, "/api/v1/namespaces", `{"name":"signals"}`)
		kit.AsAdmin(t, s, http.MethodPost, "/api/v1/namespaces", `{"name":"followed"}`)
	}
	kit.Must(t, "replication", "make", here.Address, "depot", "--copy", "signals/*", "--to", "depot")
	kit.Must(t, "follow", "set", here.Address+"/followed", "depot/signals")
	shared := kit.Bytes(1, 1<<20)
	var last kit.Image
	for i := range 8 {
		last = kit.NewImage(t, shared, kit.Bytes(uint64(10+i), 100_000))
		push(t, here, last, fmt.Sprintf("signals/relay:%d", i))
		if i%4 == 3 {
			killed := []*kit.Service{here, there}[rand.N(2)]
			killed.Kill()
			killed.Restart()
		}
	}
	kit.AsAdmin(t, here, http.MethodPost, "/api/v1/replications/depot/run", `{}`)
	rests(t, here, "depot")
	kit.Must(t, "replication", "drift", here.Address, "depot")
	// And back through a namespace that follows.
	folder := t.TempDir() + "/pulled"
	kit.Must(t, "pull", here.Address+"/followed/relay:7", folder)
	kit.SameFiles(t, last, folder)
}

func TestARingOfThreeComesToRest(t *testing.T) {
	t.Parallel()
	ring := make([]*kit.Service, 3)
	for i := range ring {
		ring[i] = kit.Start(t, t.TempDir(), inside...)
		kit.AsAdmin(t, ring[i], http.MethodPost, "/api/v1/namespaces", `{"name":"signals"}`)
	}
	for i, s := range ring {
		peerOf(t, s, "next", ring[(i+1)%3])
		kit.Must(t, "replication", "make", s.Address, "on", "--copy", "signals/*", "--to", "next")
	}
	for round := range 3 {
		at := ring[round]
		image := imageOf(t, round)
		push(t, at, image, "signals/relay:stable")
		kit.Eventually(t, "all three have it", func() bool {
			for _, s := range ring {
				if tagOf(s, "signals/relay", "stable") != image.Manifest.Digest.String() {
					return false
				}
			}
			return true
		})
		for _, s := range ring {
			rests(t, s, "on")
		}
	}
	var log api.TagMoveList
	require.NoError(t, json.Unmarshal(kit.AsAdmin(t, ring[0], http.MethodGet, "/api/v1/tag-log?repository=signals/relay&tag=stable", ""), &log))
	assert.Len(t, log.Moves, 3, "each move came once")
}

func TestWhatRottedIsMendedFromAPeerThatHasIt(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	s := kit.Start(t, data, inside...)
	f := kit.StartForeign(t, nil)
	f.Put("signals/relay", "0", imageOf(t, 99))
	kit.Must(t, "peer", "make", s.Address, "depot", f.Address, "--plain-http", "--repository", "signals/relay")
	kit.Must(t, "replication", "make", s.Address, "depot", "--copy", "signals/*", "--to", "depot")
	image := imageOf(t, 1)
	push(t, s, image, "signals/relay:1")
	rests(t, s, "depot")
	layer := oci.DigestOf(oci.SHA256, kit.Bytes(1, 2000))
	for _, d := range []oci.Digest{layer, image.Manifest.Digest} {
		found, err := filepath.Glob(filepath.Join(data, "blobs", "sha256", d.Encoded()[:2], d.Encoded()+"*"))
		require.NoError(t, err)
		require.Len(t, found, 1)
		require.NoError(t, os.Chmod(found[0], 0o644))
		require.NoError(t, os.WriteFile(found[0], []byte("rotten"), 0o644))
	}
	// The peer lies about one of them at first.
	f.Wrong(func(w http.ResponseWriter, r *http.Request) bool {
		if strings.Contains(r.URL.Path, "/blobs/") {
			_, _ = w.Write(make([]byte, 2000))
			return true
		}
		return false
	})
	kit.Run(t, "scrub", s.Address)
	hurts := func() (all []api.Hurt) {
		require.NoError(t, json.Unmarshal([]byte(kit.Run(t, "hurt", "list", s.Address, "--output", "json").Out), &all))
		return all
	}
	kit.Eventually(t, "the manifest is mended, the layer is not", func() bool { all := hurts(); return len(all) == 1 && all[0].Digest == layer }, s.Log)
	f.Wrong(nil)
	s.Stop()
	s.Restart()
	folder := t.TempDir() + "/pulled"
	kit.Eventually(t, "all of it can be pulled", func() bool { return kit.Run(t, "pull", s.Address+"/signals/relay:1", folder).Code == 0 }, s.Log)
	kit.SameFiles(t, image, folder)
	assert.Contains(t, kit.Must(t, "audit", s.Address, "--limit", "20"), "a good copy of it came")
}

func TestALargeBlobGoesOnWhereItWasAfterAKill(t *testing.T) {
	t.Parallel()
	here, there := pair(t)
	const size = 6 << 20
	image := kit.NewImage(t, kit.Bytes(5, size))
	push(t, here, image, "signals/relay:1")
	kit.Must(t, "replication", "make", here.Address, "depot", "--copy", "signals/*", "--to", "depot", "--rate", "2MiB")
	kit.Eventually(t, "half of it is there", func() bool {
		r := rule(t, here, "depot")
		return len(r.Going) == 1 && r.Going[0].Moved > size/2
	})
	here.Kill()
	here.Restart()
	rests(t, here, "depot")
	assert.Equal(t, image.Manifest.Digest.String(), tagOf(there, "signals/relay", "1"))
	_, figures := here.Do(http.MethodGet, "/metrics", nil)
	_, sent, found := strings.Cut(string(figures), `warthesis_replication_bytes_total{rule="depot"} `)
	require.True(t, found)
	bytes, err := strconv.ParseFloat(strings.Fields(sent)[0], 64)
	require.NoError(t, err)
	assert.Less(t, bytes, float64(size)*3/4, "what was there is not sent again")
	assert.Positive(t, bytes)
}
