package sweeps

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/api"
	"warthesis/internal/kit"
	"warthesis/internal/oci"
)

// flip changes one bit of a file, as a disk does that rots, and leaves its times.
func flip(t *testing.T, at string, random *rand.Rand) {
	raw, err := os.ReadFile(at)
	require.NoError(t, err)
	raw[random.IntN(len(raw))] ^= 1 << random.IntN(8)
	require.NoError(t, os.Chmod(at, 0o644))
	require.NoError(t, os.WriteFile(at, raw, 0o644))
}

// 100 flipped bits, 10 short files and 10 missing ones: a scrub finds all, none is served
// after that, and pushing the same again mends them.
func TestAScrubFindsWhatRotsAndNothingOfItIsServed(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	s := kit.Start(t, data, "--sweep-at", "never")
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/namespaces", `{"name":"timetable"}`)
	kit.AsAdmin(t, s, http.MethodPatch, "/api/v1/namespaces/timetable", `{"log_pulls":true}`)
	pushed := map[oci.Digest][]byte{}
	var images []kit.Image
	for i := range 60 {
		image := push(t, s, fmt.Sprintf("timetable/app%d", i%3), fmt.Sprintf("1.%d.0", i), kit.Bytes(uint64(10+i), 3000), kit.Bytes(uint64(500+i), 70_000))
		images = append(images, image)
		for d, raw := range image.Blobs {
			pushed[d] = raw
		}
	}
	manifests := map[oci.Digest]kit.Image{}
	for i, image := range images {
		code, _ := kit.Status(s, http.MethodGet, fmt.Sprintf("/v2/timetable/app%d/manifests/1.%d.0", i%3, i))
		require.Equal(t, http.StatusOK, code)
		manifests[image.Manifest.Digest] = image
	}
	// Everything that was read is right, and stays so for whoever looks at its times.
	require.Zero(t, run(t, s, "scrubs", "{}").Scrub.Rotten)

	random := rand.New(rand.NewPCG(2, 2))
	places := files(t, data)
	var digests []oci.Digest
	for d := range places {
		digests = append(digests, d)
	}
	slices.Sort(digests)
	random.Shuffle(len(digests), func(i, j int) { digests[i], digests[j] = digests[j], digests[i] })
	bad := digests[:120]
	for i, d := range bad {
		at := places[d][0]
		switch {
		case i < 100:
			flip(t, at, random)
		case i < 110:
			require.NoError(t, os.Chmod(at, 0o644))
			require.NoError(t, os.Truncate(at, 100))
		default:
			require.NoError(t, os.Remove(at))
		}
	}
	done := run(t, s, "scrubs", "{}")
	assert.EqualValues(t, []int64{100, 10, 10}, []int64{done.Scrub.Rotten, done.Scrub.Short, done.Scrub.Missing})
	served := func(d oci.Digest) (get, head int) {
		at := fmt.Sprintf("/v2/timetable/app%%d/blobs/%s", d)
		if _, is := manifests[d]; is {
			at = fmt.Sprintf("/v2/timetable/app%%d/manifests/%s", d)
		}
		for i := range 3 {
			g, _ := kit.Status(s, http.MethodGet, fmt.Sprintf(at, i))
			h, _ := kit.Status(s, http.MethodHead, fmt.Sprintf(at, i))
			if g != http.StatusNotFound {
				get = g
			}
			if h != http.StatusNotFound {
				head = h
			}
		}
		return get, head
	}
	for _, d := range bad {
		get, head := served(d)
		assert.Equal(t, http.StatusInternalServerError, get, d)
		assert.Zero(t, head, "who asks before pushing sends it again")
	}
	for _, d := range digests[120:] {
		get, head := served(d)
		assert.Equal(t, []int{http.StatusOK, http.StatusOK}, []int{get, head}, d)
	}
	aside, err := os.ReadDir(data + "/set-aside")
	require.NoError(t, err)
	assert.Len(t, aside, 110, "what was rotten is kept aside")

	// It is told everywhere: which images are hurt, and who pulled them.
	assert.EqualValues(t, 120, asked[api.RegistryHealth](t, s, http.MethodGet, "health", "").Hurt)
	_, metrics := kit.Status(s, http.MethodGet, "/metrics")
	assert.Contains(t, metrics, "warthesis_hurt_files 120")
	_, ready := kit.Status(s, http.MethodGet, "/healthz/ready")
	assert.Contains(t, ready, "some content is hurt")
	listed := kit.Run(t, "hurt", "list", s.Address, "--limit", "1000")
	assert.Equal(t, 5, listed.Code)
	assert.Equal(t, 120, strings.Count(listed.Out, "sha256:"))
	var layer oci.Digest
	for _, d := range bad {
		if raw := pushed[d]; len(raw) == 70_000 {
			layer = d
		}
	}
	var detail api.HurtDetail
	until(t, "the audit log has who pulled it", func() bool {
		detail = asked[api.HurtDetail](t, s, http.MethodGet, "hurts/"+layer.String(), "")
		require.Len(t, detail.Images, 1)
		return slices.Equal(detail.Images[0].PulledBy, []string{"admin"})
	})
	assert.Len(t, detail.Images[0].Tags, 1)
	audit := string(kit.AsAdmin(t, s, http.MethodGet, "/api/v1/audit?kind=content-hurt&limit=1000", ""))
	assert.Equal(t, 120, strings.Count(audit, `"kind":"content-hurt"`))
	assert.Contains(t, kit.Run(t, "explain", s.Address, layer.String()).Err, "It is hurt")

	// A sweep beside it takes nothing of it, and restarting changes nothing.
	s.Stop()
	s.Restart()
	sweep(t, s)
	assert.EqualValues(t, 120, asked[api.RegistryHealth](t, s, http.MethodGet, "health", "").Hurt)
	for i, image := range images {
		in := fmt.Sprintf("timetable/app%d", i%3)
		for d, raw := range image.Blobs {
			if code, _ := kit.Status(s, http.MethodHead, "/v2/"+in+"/blobs/"+d.String()); code == http.StatusNotFound {
				kit.PutBlob(t, s, in, raw)
			}
		}
		answer, body := s.Do(http.MethodPut, fmt.Sprintf("/v2/%s/manifests/1.%d.0", in, i), bytes.NewReader(image.Raw), "Content-Type", oci.MediaTypeImage)
		require.Equal(t, http.StatusCreated, answer.StatusCode, "%s", body)
	}
	assert.Zero(t, asked[api.RegistryHealth](t, s, http.MethodGet, "health", "").Hurt)
	assert.Contains(t, string(kit.AsAdmin(t, s, http.MethodGet, "/api/v1/audit?kind=content-mended", "")), "a good copy of it came")
	sweep(t, s)
	aside, err = os.ReadDir(data + "/set-aside")
	require.NoError(t, err)
	assert.Empty(t, aside, "what is mended is set aside no longer")
	for _, d := range bad {
		get, _ := served(d)
		assert.Equal(t, http.StatusOK, get, d)
	}
	assert.Contains(t, kit.Must(t, "scrub", s.Address), "all as it should be")

	// One image alone, and a place alone.
	flip(t, files(t, data)[layer][0], random)
	var hurt api.HurtImage
	for _, m := range detail.Images {
		hurt = m
	}
	other := "timetable/app" + map[string]string{"0": "1", "1": "2", "2": "0"}[string(hurt.Repository[len(hurt.Repository)-1])]
	assert.Contains(t, kit.Must(t, "scrub", s.Address+"/"+other), "all as it should be")
	one := kit.Run(t, "scrub", fmt.Sprintf("%s/%s:%s", s.Address, hurt.Repository, hurt.Tags[0]))
	assert.Equal(t, 5, one.Code)
	assert.Contains(t, one.Out, "4 files read")
	assert.Contains(t, one.Out, "1 with other bytes")
}

// A scrub that is killed goes on, and finds what it would have found.
func TestAScrubIsKilledAndGoesOn(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	s := kit.Start(t, data, "--sweep-at", "never", "--scrub-bytes-per-second", "1500000")
	for i := range 40 {
		kit.PutBlob(t, s, "timetable/app", kit.Bytes(uint64(i), 100_000))
	}
	random := rand.New(rand.NewPCG(3, 3))
	for d, places := range files(t, data) {
		if d[7] < '4' {
			flip(t, places[0], random)
		}
	}
	bad := 0
	for d := range files(t, data) {
		if d[7] < '4' {
			bad++
		}
	}
	require.Positive(t, bad)
	begun := asked[api.Asked](t, s, http.MethodPost, "scrubs", "{}")
	for range 3 {
		kit.Eventually(t, "it reads", func() bool {
			return asked[api.Run](t, s, http.MethodGet, fmt.Sprintf("runs/%d", begun.Run.ID), "").Done > 500_000
		})
		s.Kill()
		s.Restart()
	}
	until(t, "it ends", func() bool {
		return asked[api.Run](t, s, http.MethodGet, fmt.Sprintf("runs/%d", begun.Run.ID), "").State == "done"
	}, s.Log)
	var list api.HurtList
	require.NoError(t, json.Unmarshal(kit.AsAdmin(t, s, http.MethodGet, "/api/v1/hurts?limit=1000", ""), &list))
	assert.Len(t, list.Hurts, bad)
}
