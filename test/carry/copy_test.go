// Package carry tests what is carried over by list: copies, parcels, moving over.
package carry

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/flow/carry"
	"warthesis/internal/kit"
	"warthesis/internal/oci"
)

// many is how many there are of something, by the environment or as usual.
func many(name string, usual int) int {
	if n, err := strconv.Atoi(os.Getenv(name)); err == nil {
		return n
	}
	return usual
}

// release is a made-up release at a foreign registry: images with a layer that all share, one
// that a few share, and one each. It returns the list that names them.
func release(t *testing.T, f *kit.Foreign, of, version int) (images []kit.Image, list string) {
	shared := kit.Bytes(1, 1<<20)
	for i := range of {
		image := kit.NewImage(t, shared, kit.Bytes(uint64(2+i%5), 50_000), kit.Bytes(uint64(1000*version+i), 100_000))
		name := fmt.Sprintf("rolling/part-%02d", i)
		f.Put(name, fmt.Sprintf("%d.0.0", version), image)
		images = append(images, image)
		list += f.Address + "/" + name + ":${version}\n"
	}
	return images, list
}

func write(t *testing.T, text string) string {
	at := filepath.Join(t.TempDir(), "november.list")
	require.NoError(t, os.WriteFile(at, []byte(text), 0o644))
	return at
}

// copied runs a copy and reads its report.
func copied(t *testing.T, args ...string) (carry.Report, kit.Result) {
	result := kit.Run(t, append(append([]string{"copy"}, args...), "--output", "json")...)
	var report carry.Report
	require.NoError(t, json.Unmarshal([]byte(result.Out), &report), result.Out+result.Err)
	return report, result
}

// tagOf is what a tag points to, "" for none.
func tagOf(s *kit.Service, repository, tag string) string {
	answer, _ := s.Do(http.MethodHead, "/v2/"+repository+"/manifests/"+tag, nil)
	return answer.Header.Get("Docker-Content-Digest")
}

func TestACopyNamesWhatIsMissingAndThenMovesWhatIsNew(t *testing.T) {
	t.Parallel()
	f, to := kit.StartForeign(t, nil), kit.Start(t, t.TempDir())
	images, list := release(t, f, 3, 1)
	f.Put("rolling/part-00", "0.9.0", kit.NewImage(t, kit.Bytes(7, 10)))
	// A signature of one of them travels along.
	signature := kit.NewImage(t, kit.Bytes(8, 20))
	var document map[string]any
	require.NoError(t, json.Unmarshal(signature.Raw, &document))
	document["subject"] = images[1].Manifest
	raw, err := json.Marshal(document)
	require.NoError(t, err)
	f.Put("rolling/part-01", "", signature)
	referrer := f.PutRaw("rolling/part-01", "", oci.MediaTypeImage, raw)
	index, err := json.Marshal(map[string]any{"schemaVersion": 2, "mediaType": oci.MediaTypeIndex, "manifests": []oci.Descriptor{{MediaType: oci.MediaTypeImage, Digest: referrer, Size: int64(len(raw))}}})
	require.NoError(t, err)
	f.PutRaw("rolling/part-01", "sha256-"+images[1].Manifest.Digest.Encoded(), oci.MediaTypeIndex, index)
	at := write(t, list+f.Address+"/rolling/part-00:0.8.0 -> rolling/old:0.8.0\n")

	plain := kit.Run(t, "copy", at, to.Address+"/mirror", "--set", "version=1.0.0")
	assert.Equal(t, 1, plain.Code)
	assert.Contains(t, plain.Out, f.Address+"/rolling/part-00:0.8.0: read from "+f.Address)
	assert.Contains(t, plain.Out, "there are 1.0.0, 0.9.0")
	assert.Contains(t, plain.Err, "nothing was moved")
	assert.Empty(t, tagOf(to, "mirror/rolling/part-00", "1.0.0"))

	f.Asked()
	report, result := copied(t, at, to.Address+"/mirror", "--set", "version=1.0.0", "--without-missing")
	assert.Equal(t, 1, result.Code, "something lacks")
	assert.Equal(t, [3]int{3, 0, 1}, [3]int{report.Totals.Copied, report.Totals.There, report.Totals.Lacks})
	assert.Equal(t, report.Totals.New, report.Totals.Sent)
	for i, image := range images {
		assert.Equal(t, image.Manifest.Digest.String(), tagOf(to, fmt.Sprintf("mirror/rolling/part-%02d", i), "1.0.0"))
	}
	_, body := to.Do(http.MethodGet, "/v2/mirror/rolling/part-01/referrers/"+images[1].Manifest.Digest.String(), nil)
	assert.Contains(t, string(body), referrer.String())
	// Every blob was read once, however many images have it.
	distinct := map[string]bool{}
	for _, image := range append(images, signature) {
		for d := range image.Blobs {
			distinct[d.String()] = true
		}
	}
	reads := f.Asked()
	blobs := 0
	for _, one := range reads {
		if strings.HasPrefix(one, "GET ") && strings.Contains(one, "/blobs/") {
			blobs++
		}
	}
	assert.Equal(t, len(distinct), blobs)

	// The next month only what is new moves.
	next, _ := release(t, f, 3, 2)
	f.Put("rolling/part-02", "2.0.0", images[2])
	kit.Must(t, "copy", write(t, list), to.Address+"/mirror", "--set", "version=2.0.0", "--keep", "rolling-parts", "--preview")
	second, result := copied(t, write(t, list), to.Address+"/mirror", "--set", "version=2.0.0")
	assert.Zero(t, result.Code, result.Err)
	assert.True(t, second.Complete)
	assert.Less(t, second.Totals.Sent, int64(250_000))
	assert.Equal(t, next[0].Manifest.Digest.String(), tagOf(to, "mirror/rolling/part-00", "2.0.0"))
	assert.Equal(t, images[2].Manifest.Digest.String(), tagOf(to, "mirror/rolling/part-02", "2.0.0"))
	// What is kept is run again by its name, and moves nothing.
	again := kit.Must(t, "copies", "run", "rolling-parts")
	assert.Contains(t, again, "0 images copied, 3 there already; 0 B moved")
	assert.Contains(t, kit.Must(t, "copies", "list"), "rolling-parts")
	kit.Must(t, "copies", "remove", "rolling-parts", "--yes")

	// A tag that means something else there is told before it moves.
	f.Put("rolling/part-00", "2.0.0", images[0])
	moved := kit.Must(t, "copy", write(t, list), to.Address+"/mirror", "--set", "version=2.0.0")
	assert.Contains(t, moved, "tag moves from "+next[0].Manifest.Digest.Encoded()[:12])
	assert.Equal(t, images[0].Manifest.Digest.String(), tagOf(to, "mirror/rolling/part-00", "2.0.0"))
}

// FLOW_RELEASE says how many images the release has.
func TestACopyGoesOnAfterKillsWithTheDigestsItBeganWith(t *testing.T) {
	t.Parallel()
	of := many("FLOW_RELEASE", 12)
	f, to := kit.StartForeign(t, nil), kit.Start(t, t.TempDir())
	images, list := release(t, f, of, 1)
	at := write(t, list)
	args := []string{"copy", at, to.Address, "--set", "version=1.0.0", "--rate", "1MiB", "--patience", "60s"}
	came := func() (n int) {
		for i := range images {
			if tagOf(to, fmt.Sprintf("rolling/part-%02d", i), "1.0.0") != "" {
				n++
			}
		}
		return n
	}
	for round := 1; round <= 3; round++ {
		client := exec.Command(kit.Binary(t), args...)
		client.Env = kit.ClientEnvironment()
		require.NoError(t, client.Start())
		kit.Eventually(t, "some images came", func() bool { return came() >= round*of/4 })
		if round == 2 {
			to.Kill()
			to.Restart()
			kit.Eventually(t, "it goes on after the destination was killed", func() bool { return came() > round*of/4 })
		}
		require.NoError(t, client.Process.Kill())
		_ = client.Wait()
	}
	// What the killed client had sent may still be under way; a stop lets it end.
	to.Stop()
	to.Restart()
	// Meanwhile a tag moves at the source, and an image goes that has not come yet.
	last := of - 1
	f.Put(fmt.Sprintf("rolling/part-%02d", last), "1.0.0", kit.NewImage(t, kit.Bytes(500, 10)))
	goes := -1
	for i := range images[:last] {
		if name := fmt.Sprintf("rolling/part-%02d", i); tagOf(to, name, "1.0.0") == "" {
			f.Forget(name, "")
			goes = i
			break
		}
	}
	result := kit.Run(t, append(args, "--without-missing")...)
	assert.Contains(t, result.Err, "Going on with the copy of")
	for i, image := range images {
		want := image.Manifest.Digest.String()
		if i == goes {
			want = ""
		}
		assert.Equal(t, want, tagOf(to, fmt.Sprintf("rolling/part-%02d", i), "1.0.0"), i)
	}
	if goes < 0 {
		assert.Zero(t, result.Code, result.Err)
		return
	}
	assert.Equal(t, 1, result.Code)
	assert.Contains(t, result.Out, fmt.Sprintf("rolling/part-%02d", goes))
}

func TestACopySaysWhatADestinationHasNoRoomFor(t *testing.T) {
	t.Parallel()
	f, to := kit.StartForeign(t, nil), kit.Start(t, t.TempDir())
	_, list := release(t, f, 4, 1)
	kit.AsAdmin(t, to, http.MethodPost, "/api/v1/namespaces", `{"name":"rolling"}`)
	kit.Must(t, "quota", "set", to.Address+"/rolling", "1300KiB", "--reason", "a small depot")
	at := write(t, list)
	refused := kit.Run(t, "copy", at, to.Address, "--set", "version=1.0.0")
	assert.Equal(t, 1, refused.Code)
	assert.Contains(t, refused.Err, "the namespace rolling has 1.3 MiB left of its quota of 1.3 MiB")
	assert.Contains(t, refused.Err, "nothing was moved")
	report, result := copied(t, at, to.Address, "--set", "version=1.0.0", "--without-room")
	assert.Equal(t, 1, result.Code)
	assert.Positive(t, report.Totals.Lacks)
	for _, i := range report.Images {
		if i.State == carry.Failed {
			assert.Contains(t, i.Why, "quota")
		}
	}
	kit.Must(t, "quota", "set", to.Address+"/rolling", "1GiB", "--reason", "a larger disk")
	report, result = copied(t, at, to.Address, "--set", "version=1.0.0")
	assert.Zero(t, result.Code, result.Err)
	assert.True(t, report.Complete)
	assert.NotNil(t, report.GoesOn)
	shown := kit.Must(t, "arrival", "list", to.Address)
	assert.Contains(t, shown, "4 of 4")
}

func TestASourceThatLiesIsFoundOut(t *testing.T) {
	t.Parallel()
	f, to := kit.StartForeign(t, nil), kit.Start(t, t.TempDir())
	images, list := release(t, f, 2, 1)
	var bad oci.Digest
	for d, raw := range images[1].Blobs {
		if len(raw) == 100_000 {
			bad = d
		}
	}
	f.Wrong(func(w http.ResponseWriter, r *http.Request) bool {
		if r.Method == http.MethodGet && strings.HasSuffix(r.URL.Path, bad.String()) {
			_, _ = w.Write(make([]byte, 100_000))
			return true
		}
		return false
	})
	report, result := copied(t, write(t, list), to.Address, "--set", "version=1.0.0")
	assert.Equal(t, 1, result.Code)
	assert.Equal(t, carry.Copied, report.Images[0].State)
	assert.Contains(t, report.Images[1].Why, "what "+f.Address+" sends for "+bad.String()+" is something else")
	assert.Empty(t, tagOf(to, "rolling/part-01", "1.0.0"))
}

func TestListsAreMadeOfWhatNamesImages(t *testing.T) {
	t.Parallel()
	f := kit.StartForeign(t, nil)
	images, _ := release(t, f, 2, 1)
	release(t, f, 2, 2)
	folder := t.TempDir()
	put := func(name, text string) string {
		at := filepath.Join(folder, name)
		require.NoError(t, os.WriteFile(at, []byte(text), 0o644))
		return at
	}
	put("compose.yaml", "services:\n  part:\n    image: "+f.Address+"/rolling/part-00:1.0.0\n  other:\n    image: board\n")
	pods := put("pods.json", fmt.Sprintf(`{"items":[{"spec":{"containers":[{"image":"%[1]s/rolling/part-01:1.0.0"}]},"status":{"containerStatuses":[{"image":"%[1]s/rolling/part-01:1.0.0","imageID":"%[1]s/rolling/part-01@%[2]s"}]}}]}`, f.Address, images[1].Manifest.Digest))
	made := kit.Run(t, "packing", "make", "--files", folder, "--pods", pods)
	assert.Equal(t, f.Address+"/rolling/part-00:1.0.0\n"+f.Address+"/rolling/part-01:1.0.0@"+images[1].Manifest.Digest.String()+"\n", made.Out)
	assert.Contains(t, made.Err, "board is left out: it names no registry")

	assert.Equal(t, f.Address+"/rolling/part-00:2.0.0\n", kit.Must(t, "packing", "make", "--registry", f.Address, "--match", "rolling/part-00:<release>", "--newest", "1"))
	assert.Equal(t, f.Address+"/rolling/part-00:1.0.0\n", kit.Must(t, "packing", "make", "--registry", f.Address, "--match", "rolling/part-00", "--versions", "<2"))
	assert.Contains(t, kit.Run(t, "packing", "make", "--registry", f.Address, "--match", "rolling/*").Err, "name the repositories in full")

	// A release describes itself by a text that names its images.
	text := "images:\n  - " + f.Address + "/rolling/part-00@" + images[0].Manifest.Digest.String() + "\n"
	f.Put("rolling/release", "1.0.0", kit.NewImage(t, []byte(text)))
	assert.Equal(t, f.Address+"/rolling/part-00@"+images[0].Manifest.Digest.String()+"\n", kit.Must(t, "packing", "make", "--release", f.Address+"/rolling/release:1.0.0"))

	// An index of a release names its images by what stands beside its children.
	children := fmt.Sprintf(`{"schemaVersion":2,"mediaType":%q,"manifests":[{"mediaType":%q,"digest":%q,"size":%d,"annotations":{"org.opencontainers.image.ref.name":"%s/rolling/part-01:1.0.0"}}]}`,
		oci.MediaTypeIndex, oci.MediaTypeImage, images[1].Manifest.Digest, images[1].Manifest.Size, f.Address)
	f.PutRaw("rolling/release", "2.0.0", oci.MediaTypeIndex, []byte(children))
	assert.Equal(t, f.Address+"/rolling/part-01:1.0.0@"+images[1].Manifest.Digest.String()+"\n", kit.Must(t, "packing", "make", "--release", f.Address+"/rolling/release:2.0.0"))
	// For a platform the image is taken that is for it.
	f.Put("rolling/release", "", images[1])
	locked := put("platform.list", f.Address+"/rolling/release:2.0.0 # box 14\n")
	index := strings.Replace(children, `"annotations"`, `"platform":{"os":"linux","architecture":"arm64"},"annotations"`, 1)
	f.PutRaw("rolling/release", "2.0.0", oci.MediaTypeIndex, []byte(index))
	assert.Equal(t, f.Address+"/rolling/release:2.0.0@"+images[1].Manifest.Digest.String()+" # box 14 linux/arm64\n", kit.Must(t, "packing", "lock", locked, "--platform", "linux/arm64"))

	list := put("a.list", f.Address+"/rolling/part-00:${v} # first\n")
	assert.Equal(t, f.Address+"/rolling/part-00:1.0.0@"+images[0].Manifest.Digest.String()+" # first\n", kit.Must(t, "packing", "lock", list, "--set", "v=1.0.0"))
	gone := kit.Run(t, "packing", "lock", list, "--set", "v=1.5.0")
	assert.Equal(t, 5, gone.Code)
	assert.Contains(t, gone.Err, "there are 2.0.0, 1.0.0")
	assert.Equal(t, 2, kit.Run(t, "packing", "lock", list, "--set", "vv=1").Code)
}
