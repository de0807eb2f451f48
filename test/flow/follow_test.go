package flow

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/api"
	"warthesis/internal/kit"
	"warthesis/internal/oci"
)

// followed starts a registry whose namespace outside follows a foreign one.
func followed(t *testing.T, fresh string) (*kit.Service, *kit.Foreign) {
	return followedOn(t, t.TempDir(), fresh)
}

// followedOn is followed, with the folder of its data, and with more flags.
func followedOn(t *testing.T, data, fresh string, more ...string) (*kit.Service, *kit.Foreign) {
	s := kit.Start(t, data, append(inside, more...)...)
	f := kit.StartForeign(t, nil)
	f.Put("tickets/base", "1", kit.NewImage(t, kit.Bytes(99, 10)))
	kit.Must(t, "peer", "make", s.Address, "partner", f.Address, "--plain-http", "--prefix", "tickets", "--repository", "base")
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/namespaces", `{"name":"outside"}`)
	kit.Must(t, "follow", "set", s.Address+"/outside", "partner", "--fresh-for", fresh)
	f.Asked()
	return s, f
}

func count(asked []string, what string) (n int) {
	for _, a := range asked {
		if strings.HasPrefix(a, what) {
			n++
		}
	}
	return n
}

func blobPath(d oci.Digest) string { return "GET /v2/tickets/printer/blobs/" + d.String() }

func TestWhatANamespaceLacksComesFromItsPeerAndStays(t *testing.T) {
	t.Parallel()
	s, f := followed(t, "1h")
	image := kit.NewImage(t, kit.Bytes(1, 300_000), kit.Bytes(2, 2000))
	f.Put("tickets/printer", "1.0", image)
	reference := s.Address + "/outside/printer:1.0"

	first := t.TempDir() + "/first"
	kit.Must(t, "pull", reference, first)
	kit.SameFiles(t, image, first)
	f.Asked()
	second := t.TempDir() + "/second"
	kit.Must(t, "pull", reference, second)
	kit.SameFiles(t, image, second)
	assert.Empty(t, f.Asked(), "the second pull is one like any other")
	kit.Eventually(t, "it is told what came from where", func() bool {
		shown := kit.Must(t, "follow", "show", s.Address+"/outside")
		return strings.Contains(shown, "3 blobs (295 KiB) from here, and 3 blobs (295 KiB) came from a peer")
	}, func() string { return kit.Must(t, "follow", "show", s.Address+"/outside") })
	var log api.TagMoveList
	require.NoError(t, json.Unmarshal(kit.AsAdmin(t, s, http.MethodGet, "/api/v1/tag-log?repository=outside/printer&tag=1.0", ""), &log))
	assert.Equal(t, "partner", log.Moves[0].Origin)

	// What is here in part is shown so.
	f.Put("tickets/printer", "1.1", kit.NewImage(t, kit.Bytes(1, 300_000), kit.Bytes(4, 2000)))
	kit.Must(t, "identify", s.Address+"/outside/printer:1.1")
	assert.Regexp(t, `(?m)^1\.0 .*whole$(?s:.*)^1\.1 .*all but 2$`, kit.Must(t, "list", s.Address+"/outside/printer"))

	// What is here is served when the peer is dead, gone or forgets.
	f.Forget("tickets/printer", "")
	kit.Must(t, "pull", reference, t.TempDir()+"/third")
	f.Server.Close()
	kit.Must(t, "pull", reference+"@"+image.Manifest.Digest.String(), t.TempDir()+"/fourth")
	for _, absent := range []string{"outside/printer:2.0", "outside/nothing:1"} {
		name, tag, _ := strings.Cut(absent, ":")
		status, body := kit.Status(s, http.MethodGet, "/v2/"+name+"/manifests/"+tag)
		assert.Equal(t, http.StatusServiceUnavailable, status, body)
		assert.Contains(t, body, "the peer partner does not answer")
		assert.NotContains(t, body, f.Address, "who reads is not told where it stands")
	}

	// A pushed tag is this registry's own, and a known image is sealed off from other places.
	own := kit.NewImage(t, kit.Bytes(3, 100))
	kit.Must(t, "push", own.Layout(t), reference)
	assert.Contains(t, kit.Must(t, "identify", reference), own.Manifest.Digest.String())
	assert.Contains(t, kit.Run(t, "peer", "remove", s.Address, "partner", "--yes").Err, "is followed by outside")
}

func TestATagIsAskedForOnceItIsNotFresh(t *testing.T) {
	t.Parallel()
	s, f := followed(t, "1s")
	image := func(i int) kit.Image { return kit.NewImage(t, kit.Bytes(uint64(i), 500)) }
	first, second := image(1), image(2)
	f.Put("tickets/printer", "latest", first)
	reference := s.Address + "/outside/printer:latest"
	identify := func() string { return strings.TrimSpace(kit.Must(t, "identify", reference)) }
	assert.Contains(t, identify(), first.Manifest.Digest.String())
	f.Put("tickets/printer", "latest", second)
	kit.Eventually(t, "the tag follows", func() bool { return strings.Contains(identify(), second.Manifest.Digest.String()) })
	f.Put("tickets/printer", "latest", first)
	kit.Eventually(t, "it goes back where the peer goes back", func() bool { return strings.Contains(identify(), first.Manifest.Digest.String()) })

	// What the peer has no more stays here.
	f.Forget("tickets/printer", "latest")
	f.Asked()
	kit.Eventually(t, "the peer was asked again", func() bool {
		assert.Contains(t, identify(), first.Manifest.Digest.String())
		return len(f.Asked()) > 0
	})
	f.Put("tickets/printer", "latest", second)

	// A seal beats it.
	kit.Eventually(t, "the tag is back", func() bool { return strings.Contains(identify(), second.Manifest.Digest.String()) })
	kit.Must(t, "tag", "seal", reference, "--reason", "signal boxes run it")
	f.Put("tickets/printer", "latest", first)
	f.Asked()
	kit.Eventually(t, "the peer was asked again", func() bool { identify(); return len(f.Asked()) > 0 })
	assert.Contains(t, identify(), second.Manifest.Digest.String())
	kit.Must(t, "tag", "unseal", reference, "--reason", "x", "--yes")

	// What it has and cannot be taken is no reason to give nothing, and nobody learns where it is.
	kit.Eventually(t, "the tag is the peer's", func() bool { return strings.Contains(identify(), first.Manifest.Digest.String()) })
	f.Put("tickets/printer", "latest", image(3))
	f.Wrong(func(w http.ResponseWriter, r *http.Request) bool {
		if r.Method == http.MethodGet && strings.Contains(r.URL.Path, "/manifests/") {
			_, _ = io.WriteString(w, "{}")
			return true
		}
		return false
	})
	kit.Eventually(t, "what it has now cannot be taken", func() bool {
		answer, raw := s.Do(http.MethodGet, "/v2/outside/printer/manifests/latest", nil)
		require.Equal(t, http.StatusOK, answer.StatusCode, "%s", raw)
		assert.Equal(t, first.Raw, raw)
		assert.NotContains(t, answer.Header.Get("Warning"), f.Address)
		return answer.Header.Get("Warning") != ""
	})
	f.Wrong(nil)
	f.Put("tickets/printer", "latest", first)

	// A slow peer keeps nobody waiting for what is here, and no one behind.
	release := make(chan struct{})
	f.Wrong(func(http.ResponseWriter, *http.Request) bool { <-release; return false })
	defer close(release)
	kit.Eventually(t, "it is not fresh", func() bool {
		began := time.Now()
		answer, _ := s.Do(http.MethodHead, "/v2/outside/printer/manifests/latest", nil)
		require.Equal(t, http.StatusOK, answer.StatusCode)
		assert.Less(t, time.Since(began), 2500*time.Millisecond)
		return strings.Contains(answer.Header.Get("Warning"), "the peer partner does not answer")
	})
	began := time.Now()
	for range 5 {
		answer, _ := s.Do(http.MethodHead, "/v2/outside/printer/manifests/latest", nil)
		assert.NotEmpty(t, answer.Header.Get("Warning"))
	}
	assert.Less(t, time.Since(began), time.Second, "until it is asked again, nobody waits")
}

// A peer that lies, cuts or stalls is never the reason for a wrong answer that looks whole,
// and leaves nothing.
func TestNobodyGetsAWholeWrongBlob(t *testing.T) {
	t.Parallel()
	s, f := followed(t, "1h")
	image := kit.NewImage(t, kit.Bytes(1, 400_000))
	f.Put("tickets/printer", "1.0", image)
	layer := oci.DigestOf(oci.SHA256, kit.Bytes(1, 400_000))
	kit.Must(t, "identify", s.Address+"/outside/printer:1.0")
	path := "/v2/outside/printer/blobs/" + layer.String()
	send := func(raw []byte, announced int) func(http.ResponseWriter, *http.Request) bool {
		return func(w http.ResponseWriter, r *http.Request) bool {
			if r.Method+" "+r.URL.Path != blobPath(layer) {
				return false
			}
			if announced >= 0 {
				w.Header().Set("Content-Length", fmt.Sprint(announced))
			}
			w.WriteHeader(http.StatusOK)
			_, _ = w.Write(raw)
			return true
		}
	}
	right := kit.Bytes(1, 400_000)
	wrong := bytes.Clone(right)
	wrong[399_999] ^= 1
	endless := append(bytes.Clone(right), make([]byte, 1<<20)...)
	for name, fault := range map[string]func(http.ResponseWriter, *http.Request) bool{
		"a wrong last byte": send(wrong, len(wrong)), "a wrong length": send(right[:1000], 1000), "too much": send(endless, -1), "cut, always": send(right[:200_000], len(right)), "too little": send(right[:200_000], -1),
	} {
		f.Wrong(fault)
		answer, raw, err := s.Try(http.MethodGet, path, nil)
		if err == nil && answer.StatusCode == http.StatusOK {
			assert.Fail(t, "a whole answer", "%s: %d bytes", name, len(raw))
		}
		assert.Less(t, len(raw), len(right)-(64<<10)+1, "%s: the last part waits", name)
		status, _ := kit.Status(s, http.MethodHead, path)
		assert.Equal(t, http.StatusNotFound, status, "%s: nothing stays", name)
	}
	// A manifest with other bytes is none.
	f.Wrong(func(w http.ResponseWriter, r *http.Request) bool {
		if !strings.Contains(r.URL.Path, "/manifests/") || r.Method != http.MethodGet {
			return false
		}
		_, _ = io.WriteString(w, `{"schemaVersion":2}`)
		return true
	})
	f.Put("tickets/printer", "2.0", kit.NewImage(t, kit.Bytes(7, 10)))
	status, body := kit.Status(s, http.MethodGet, "/v2/outside/printer/manifests/2.0")
	assert.Equal(t, http.StatusServiceUnavailable, status)
	assert.NotContains(t, body, f.Address)
	f.Wrong(nil)
	kit.Eventually(t, "the peer is asked again", func() bool {
		answer, raw, err := s.Try(http.MethodGet, path, nil)
		return err == nil && answer.StatusCode == http.StatusOK && bytes.Equal(raw, right)
	})
}

func TestEightClientsFetchOnceAndRangesWait(t *testing.T) {
	t.Parallel()
	s, f := followed(t, "1h")
	raw := kit.Bytes(5, 3<<20)
	image := kit.NewImage(t, raw)
	layer := oci.DigestOf(oci.SHA256, raw)
	f.Put("tickets/printer", "1.0", image)
	kit.Must(t, "identify", s.Address+"/outside/printer:1.0")
	begun, release := make(chan struct{}), make(chan struct{})
	var once sync.Once
	f.Wrong(func(w http.ResponseWriter, r *http.Request) bool {
		if r.Method+" "+r.URL.Path != blobPath(layer) {
			return false
		}
		w.Header().Set("Content-Length", fmt.Sprint(len(raw)))
		_, _ = w.Write(raw[:1<<20])
		w.(http.Flusher).Flush()
		once.Do(func() { close(begun) })
		<-release
		_, _ = w.Write(raw[1<<20:])
		return true
	})
	var wg sync.WaitGroup
	path := "/v2/outside/printer/blobs/" + layer.String()
	for i := range 8 {
		wg.Go(func() {
			headers := []string{}
			want, status := raw, http.StatusOK
			if i%2 == 1 {
				headers, want, status = []string{"Range", "bytes=2000000-2999999"}, raw[2000000:3000000], http.StatusPartialContent
			}
			answer, got, err := s.Try(http.MethodGet, path, nil, headers...)
			if assert.NoError(t, err) {
				assert.Equal(t, status, answer.StatusCode)
				assert.True(t, bytes.Equal(want, got))
			}
		})
	}
	// Somebody who leaves takes nothing along.
	<-begun
	request, err := http.NewRequest(http.MethodGet, s.URL(path), nil)
	require.NoError(t, err)
	request.Header.Set("Authorization", kit.AdminHeader)
	answer, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	part := make([]byte, 500_000)
	_, err = io.ReadFull(answer.Body, part)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(raw[:500_000], part), "what came goes out before the rest is there")
	answer.Body.Close()
	close(release)
	wg.Wait()
	assert.Equal(t, 1, count(f.Asked(), blobPath(layer)))
}

func TestFollowingGivesNobodyWhatIsNotTheirs(t *testing.T) {
	t.Parallel()
	s, f := followed(t, "1h")
	image := kit.NewImage(t, kit.Bytes(1, 4000))
	f.Put("tickets/printer", "1.0", image)
	f.Put("tickets/secret", "1.0", image)
	f.Put("tickets/poor", "1.0", image)
	layer := oci.DigestOf(oci.SHA256, kit.Bytes(1, 4000))
	kit.Must(t, "pull", s.Address+"/outside/printer:1.0", t.TempDir()+"/one")
	kit.MakeAccount(t, s, "jun")
	as := func(path string) int {
		answer, _ := s.Do(http.MethodGet, path, nil, kit.Basic("jun", kit.MemberPassword)...)
		return answer.StatusCode
	}
	f.Asked()
	for _, path := range []string{"/v2/outside/printer/manifests/1.0", "/v2/outside/secret/manifests/1.0", "/v2/outside/printer/blobs/" + layer.String(), "/v2/outside/printer/manifests/2.0"} {
		assert.Equal(t, http.StatusNotFound, as(path), path)
		status := func() int {
			answer, _ := s.Do(http.MethodGet, path, nil, "Authorization", "")
			return answer.StatusCode
		}()
		assert.Equal(t, http.StatusUnauthorized, status, path)
	}
	assert.Empty(t, f.Asked(), "strangers start nothing")

	// A blob that another repository here holds is not given where the peer has it not.
	kit.AsAdmin(t, s, http.MethodPut, "/api/v1/roles", `{"place":"outside","account":"jun","role":"reader"}`)
	assert.Equal(t, http.StatusOK, as("/v2/outside/secret/manifests/1.0"))
	assert.Equal(t, http.StatusOK, as("/v2/outside/poor/manifests/1.0"))
	f.Wrong(func(w http.ResponseWriter, r *http.Request) bool {
		if strings.Contains(r.URL.Path, "/poor/blobs/") {
			w.WriteHeader(http.StatusNotFound)
			return true
		}
		return false
	})
	assert.Equal(t, http.StatusNotFound, as("/v2/outside/poor/blobs/"+layer.String()))
	f.Wrong(nil)
	f.Asked()
	assert.Equal(t, http.StatusNotFound, as("/v2/outside/poor/blobs/"+layer.String()), "that is remembered for a while")
	assert.Empty(t, f.Asked())
	assert.Equal(t, http.StatusOK, as("/v2/outside/secret/blobs/"+layer.String()))
	asked := f.Asked()
	assert.Zero(t, count(asked, "GET /v2/tickets/secret/blobs/"), "it is not sent twice: %v", asked)
	assert.Equal(t, http.StatusNotFound, as("/v2/outside/printer/blobs/sha256:"+strings.Repeat("0", 64)), "what no manifest names is not asked for")

	// Two that follow each other come to an end.
	other := kit.Start(t, t.TempDir(), inside...)
	for _, pair := range [][2]*kit.Service{{s, other}, {other, s}} {
		kit.MakeAccount(t, pair[1], "peer")
		kit.AsAdmin(t, pair[1], http.MethodPost, "/api/v1/namespaces", `{"name":"ring"}`)
		kit.AsAdmin(t, pair[1], http.MethodPut, "/api/v1/roles", `{"place":"ring","account":"peer","role":"reader"}`)
	}
	for _, pair := range [][2]*kit.Service{{s, other}, {other, s}} {
		made := kit.RunWith(t, kit.MemberPassword, "peer", "make", pair[0].Address, "next", pair[1].Address, "--plain-http", "--account", "peer", "--from-stdin", "--failing")
		require.Zero(t, made.Code, made.Out+made.Err)
		kit.Must(t, "follow", "set", pair[0].Address+"/ring", "next/ring")
	}
	status, body := kit.Status(s, http.MethodGet, "/v2/ring/app/manifests/1")
	assert.Equal(t, http.StatusNotFound, status, body)
}

// A peer that says it has a blob does not make this registry hand out its own: content counts as
// the peer's once its bytes came from there, or for somebody who may read it here anyway.
func TestAPeerThatSaysItHasABlobGetsNobodyTheBlobOfAClosedRepository(t *testing.T) {
	t.Parallel()
	s, f := followed(t, "1h")
	secret := kit.Bytes(61, 4000)
	layer := oci.DigestOf(oci.SHA256, secret)
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/namespaces", `{"name":"signals"}`)
	kit.PutBlob(t, s, "signals/box", secret)
	// The peer has a manifest that names the blob, and not the blob: it lies about that.
	f.Put("tickets/printer", "1.0", kit.NewImage(t, secret))
	lies := kit.Bytes(62, 4000)
	f.Wrong(func(w http.ResponseWriter, r *http.Request) bool {
		if !strings.HasSuffix(r.URL.Path, layer.String()) {
			return false
		}
		w.Header().Set("Docker-Content-Digest", layer.String())
		w.Header().Set("Content-Length", fmt.Sprint(len(lies)))
		if r.Method == http.MethodGet {
			_, _ = w.Write(lies)
		}
		return true
	})
	kit.MakeAccount(t, s, "jun")
	kit.AsAdmin(t, s, http.MethodPut, "/api/v1/roles", `{"place":"outside","account":"jun","role":"reader"}`)
	get := func(headers ...string) (int, []byte, error) {
		answer, raw, err := s.Try(http.MethodGet, "/v2/outside/printer/blobs/"+layer.String(), nil, headers...)
		if err != nil {
			return 0, raw, err
		}
		return answer.StatusCode, raw, nil
	}
	answer, _ := s.Do(http.MethodGet, "/v2/outside/printer/manifests/1.0", nil, kit.Basic("jun", kit.MemberPassword)...)
	require.Equal(t, http.StatusOK, answer.StatusCode)
	status, raw, _ := get(kit.Basic("jun", kit.MemberPassword)...)
	assert.NotEqual(t, secret, raw)
	head, _ := s.Do(http.MethodHead, "/v2/outside/printer/blobs/"+layer.String(), nil, kit.Basic("jun", kit.MemberPassword)...)
	assert.NotEqual(t, http.StatusOK, head.StatusCode, "nothing was linked, after %d", status)
	// Who may read the closed repository gets it without transfer.
	status, raw, err := get()
	require.NoError(t, err)
	assert.Equal(t, http.StatusOK, status)
	assert.True(t, bytes.Equal(secret, raw))
}

// Where a namespace wants all, other platforms come by themselves; what refers to an image
// comes when it is listed; a kill in the middle leaves nothing that is wrong.
func TestWhatNobodyAskedForComesAfterwards(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir(), inside...)
	depot := kit.Start(t, t.TempDir())
	index := map[string]any{"schemaVersion": 2, "mediaType": oci.MediaTypeIndex}
	var children []any
	for i, arch := range []string{"amd64", "arm64"} {
		image := kit.NewImage(t, kit.Bytes(uint64(i), 200_000))
		kit.Must(t, "push", image.Layout(t), depot.Address+"/base/os:"+arch)
		children = append(children, map[string]any{"mediaType": image.Manifest.MediaType, "digest": image.Manifest.Digest, "size": image.Manifest.Size, "platform": map[string]string{"os": "linux", "architecture": arch}})
	}
	index["manifests"] = children
	whole := kit.PutManifest(t, depot, "base/os", "1", oci.MediaTypeIndex, index)
	config := kit.PutBlob(t, depot, "base/os", []byte("{}"))
	signature := kit.PutManifest(t, depot, "base/os", "", oci.MediaTypeImage, kit.Artifact(config, &whole, "application/vnd.example.note", 1))
	kit.MakeAccount(t, depot, "hq")
	kit.AsAdmin(t, depot, http.MethodPut, "/api/v1/roles", `{"place":"base","account":"hq","role":"reader"}`)
	require.Zero(t, kit.RunWith(t, kit.MemberPassword, "peer", "make", s.Address, "depot", depot.Address, "--plain-http", "--account", "hq", "--from-stdin").Code)
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/namespaces", `{"name":"base"}`)
	kit.Must(t, "follow", "set", s.Address+"/base", "depot/base", "--complete", "--only", "base/os")

	status, _ := kit.Status(s, http.MethodGet, "/v2/base/os/manifests/1")
	require.Equal(t, http.StatusOK, status)
	added := kit.Run(t, "tag", "add", s.Address+"/base/os:1", "mine")
	assert.NotZero(t, added.Code)
	assert.Contains(t, added.Err, "came from a peer")
	s.Kill()
	s.Restart()
	_, listed := s.Do(http.MethodGet, "/v2/base/os/referrers/"+whole.Digest.String(), nil)
	assert.Contains(t, string(listed), signature.Digest.String())
	for deadline := time.Now().Add(2 * time.Minute); ; time.Sleep(100 * time.Millisecond) {
		var image api.Image
		require.NoError(t, json.Unmarshal(kit.AsAdmin(t, s, http.MethodGet, "/api/v1/image?repository=base/os&reference=1", ""), &image))
		all := 0
		for _, p := range image.Platforms {
			for _, l := range p.Layers {
				if status, _ := kit.Status(s, http.MethodHead, "/v2/base/os/blobs/"+l.Digest.String()); status == http.StatusOK {
					all++
				}
			}
		}
		if all == 2 {
			break
		}
		require.True(t, time.Now().Before(deadline), "what nobody asked for comes")
	}
	size := func(of *kit.Service) int64 {
		var image api.Image
		require.NoError(t, json.Unmarshal(kit.AsAdmin(t, of, http.MethodGet, "/api/v1/image?repository=base/os&reference=1", ""), &image))
		assert.Zero(t, image.Missing)
		return image.ContentSize
	}
	assert.Equal(t, size(depot), size(s), "how large it is is known by now")
	depot.Stop()
	kit.Must(t, "pull", s.Address+"/base/os:1", t.TempDir()+"/all")
	depot.Restart()
	kit.Eventually(t, "the peer is asked again, and what is whole takes a tag of ours", func() bool {
		return kit.Run(t, "tag", "add", s.Address+"/base/os:1", "mine").Code == 0
	})
	// What was known in part before travels on now.
	f := kit.StartForeign(t, nil)
	f.Put("base/first", "1", imageOf(t, 1))
	kit.Must(t, "peer", "make", s.Address, "partner", f.Address, "--plain-http", "--repository", "base/first")
	kit.Must(t, "replication", "make", s.Address, "on", "--copy", "base/os:mine", "--to", "partner")
	rests(t, s, "on")
	assert.Equal(t, whole.Digest, f.Tag("base/os", "mine"))
}

// A disk that is full in the middle of a fetch is no fault of the peer: what fits comes all
// the same, at once.
func TestAFullDiskIsNoFaultOfThePeer(t *testing.T) {
	data := t.TempDir()
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=24m,nr_inodes=4000", "tmpfs", data).CombinedOutput(); err != nil {
		t.Skipf("no small file system to fill here: %s", out)
	}
	t.Cleanup(func() { _ = exec.Command("umount", "-l", data).Run() })
	s, f := followedOn(t, data, "1s")
	big, small := kit.Bytes(1, 30<<20), kit.NewImage(t, kit.Bytes(2, 100_000))
	f.Put("tickets/printer", "big", kit.NewImage(t, big))
	f.Put("tickets/printer", "small", small)
	kit.Must(t, "identify", s.Address+"/outside/printer:big")
	path := "/v2/outside/printer/blobs/" + oci.DigestOf(oci.SHA256, big).String()
	answer, raw, err := s.Try(http.MethodGet, path, nil)
	assert.False(t, err == nil && answer.StatusCode == http.StatusOK, "%d bytes came whole", len(raw))
	assert.Equal(t, 1, count(f.Asked(), strings.Replace("GET "+path, "outside", "tickets", 1)), "it is not asked to send it again in vain")
	folder := t.TempDir() + "/small"
	kit.Must(t, "pull", s.Address+"/outside/printer:small", folder)
	kit.SameFiles(t, small, folder)
	assert.NotContains(t, s.Log(), "a peer does not answer")
}

// What cannot be had keeps nothing back that stands behind it, and is not asked for again and
// again.
func TestWhatCannotBeCompletedIsLeftAlone(t *testing.T) {
	t.Parallel()
	s, f := followed(t, "1h")
	kit.Must(t, "follow", "set", s.Address+"/outside", "partner", "--complete")
	broken := kit.Bytes(1, 200_000)
	layer := oci.DigestOf(oci.SHA256, broken)
	f.Wrong(func(w http.ResponseWriter, r *http.Request) bool {
		if r.Method+" "+r.URL.Path != blobPath(layer) {
			return false
		}
		_, _ = w.Write(make([]byte, len(broken)))
		return true
	})
	f.Put("tickets/printer", "broken", kit.NewImage(t, broken))
	comes := func(tag string, raw []byte) {
		f.Put("tickets/printer", tag, kit.NewImage(t, raw))
		kit.Must(t, "identify", s.Address+"/outside/printer:"+tag)
		kit.Eventually(t, tag+" comes by itself", func() bool {
			status, _ := kit.Status(s, http.MethodHead, "/v2/outside/printer/blobs/"+oci.DigestOf(oci.SHA256, raw).String())
			return status == http.StatusOK
		})
	}
	kit.Must(t, "identify", s.Address+"/outside/printer:broken")
	comes("first", kit.Bytes(2, 1000))
	comes("second", kit.Bytes(3, 1000))
	tries := count(f.Asked(), blobPath(layer))
	assert.LessOrEqual(t, tries, 1)
	comes("third", kit.Bytes(4, 1000))
	assert.LessOrEqual(t, tries+count(f.Asked(), blobPath(layer)), 1)
}

// What was erased here does not come back from a peer that still has it.
func TestWhatIsKeptOutDoesNotComeFromAPeer(t *testing.T) {
	t.Parallel()
	s, f := followed(t, "1s")
	whole, part, layer := kit.NewImage(t, kit.Bytes(1, 1000)), kit.NewImage(t, kit.Bytes(2, 1000), kit.Bytes(3, 1000)), oci.DigestOf(oci.SHA256, kit.Bytes(3, 1000))
	f.Put("tickets/printer", "whole", whole)
	f.Put("tickets/printer", "part", part)
	for _, tag := range []string{"whole", "part"} {
		kit.Must(t, "pull", s.Address+"/outside/printer:"+tag, t.TempDir()+"/pulled")
	}
	for _, d := range []oci.Digest{whole.Manifest.Digest, layer} {
		kit.Must(t, "erase", s.Address+"/outside", d.String(), "--reason", "a key in it", "--yes")
	}
	f.Asked()
	for _, target := range []string{"whole", "part", whole.Manifest.Digest.String()} {
		status, body := kit.Status(s, http.MethodGet, "/v2/outside/printer/manifests/"+target)
		assert.Equal(t, http.StatusForbidden, status, "%s: %s", target, body)
		assert.Contains(t, body, "was erased here and is kept out")
		assert.NotContains(t, body, "a key in it")
	}
	for _, asked := range f.Asked() {
		assert.NotContains(t, asked, "GET /v2/tickets/printer/manifests/"+whole.Manifest.Digest.String(), "what is kept out is not fetched")
		assert.NotContains(t, asked, "/blobs/")
	}
}

// Retention lets go of what came from a peer as of all else, a sweep takes it, and who asks for
// it by name gets it again; what is known in part stays and comes whole.
func TestWhatWasFollowedIsSweptAndComesAgain(t *testing.T) {
	t.Parallel()
	s, f := followedOn(t, t.TempDir(), "1h", "--short-windows", "--grace", "1s", "--restore-window", "1s", "--rule-wait", "1s", "--retention-at", "never", "--sweep-at", "never")
	whole, part := kit.NewImage(t, kit.Bytes(1, 2000)), kit.NewImage(t, kit.Bytes(2, 2000))
	f.Put("tickets/printer", "1.0.0", whole)
	f.Put("tickets/printer", "2.0.0", part)
	printer := s.Address + "/outside/printer"
	kit.Must(t, "pull", printer+":1.0.0", t.TempDir()+"/pulled")
	kit.Must(t, "identify", printer+":2.0.0")
	rules := filepath.Join(t.TempDir(), "rules.yaml")
	require.NoError(t, os.WriteFile(rules, []byte("retention:\n  - keep: \"*:<release>\"\n    newest: 1\n  - drop: \"*:<release>\"\n    older_than: 1s\n  - drop: \"*:<none>\"\n    untagged_for: 1s\n"), 0o600))
	kit.Must(t, "retention", "set", s.Address+"/outside", rules, "--reason", "a test")
	path := "/v2/outside/printer/blobs/" + oci.DigestOf(oci.SHA256, kit.Bytes(1, 2000)).String()
	kit.Eventually(t, "the rules and a sweep take it", func() bool {
		kit.Run(t, "retention", "run", s.Address+"/outside", "--yes")
		// Who may push and asks for a blob touches it: so it is not asked for before it went.
		return strings.Contains(kit.Must(t, "sweep", "run", s.Address), "3 blobs (2.6 KiB)")
	}, s.Log)
	status, _ := kit.Status(s, http.MethodHead, path)
	assert.Equal(t, http.StatusNotFound, status)
	assert.Contains(t, kit.Must(t, "list", printer), "2.0.0")
	f.Asked()
	for _, tag := range []string{"1.0.0", "2.0.0"} {
		folder := t.TempDir() + "/again"
		kit.Must(t, "pull", printer+":"+tag, folder)
		kit.SameFiles(t, map[string]kit.Image{"1.0.0": whole, "2.0.0": part}[tag], folder)
	}
	assert.Equal(t, 1, count(f.Asked(), "GET "+strings.Replace(path, "outside", "tickets", 1)), "what was swept came again")
}
