package carry

import (
	"archive/tar"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/kit"
	"warthesis/internal/oci"
)

// packed packs a release into a parcel in a new folder.
func packed(t *testing.T, list string, more ...string) string {
	at := filepath.Join(t.TempDir(), "november.parcel")
	kit.Must(t, append([]string{"parcel", "pack", write(t, list), at, "--set", "version=1.0.0"}, more...)...)
	return at
}

// entry is a file of a tar.
type entry struct {
	tar.Header
	raw []byte
}

func unpack(t *testing.T, at string) (all []entry) {
	f, err := os.Open(at)
	require.NoError(t, err)
	defer f.Close()
	for r := tar.NewReader(f); ; {
		h, err := r.Next()
		if err == io.EOF {
			return all
		}
		require.NoError(t, err)
		raw, err := io.ReadAll(r)
		require.NoError(t, err)
		all = append(all, entry{*h, raw})
	}
}

func repack(t *testing.T, all []entry) string {
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	for _, e := range all {
		e.Size = int64(len(e.raw))
		require.NoError(t, w.WriteHeader(&e.Header))
		_, err := w.Write(e.raw)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	at := filepath.Join(t.TempDir(), "other.parcel")
	require.NoError(t, os.WriteFile(at, out.Bytes(), 0o644))
	return at
}

func TestAParcelIsTheSameBytesAndBringsAllOfIt(t *testing.T) {
	t.Parallel()
	f, to := kit.StartForeign(t, nil), kit.Start(t, t.TempDir())
	images, list := release(t, f, 4, 1)
	at := packed(t, list)
	one, err := os.ReadFile(at)
	require.NoError(t, err)
	two, err := os.ReadFile(packed(t, list, "--at-once", "1"))
	require.NoError(t, err)
	require.True(t, bytes.Equal(one, two), "the same content makes the same bytes")
	// A run that stopped goes on, and makes them too; what is wrong in what it left comes again.
	broken := bytes.Clone(one[:len(one)/2])
	broken[len(broken)/2]++
	again := filepath.Join(t.TempDir(), "november.parcel")
	require.NoError(t, os.WriteFile(again+".unfinished", broken, 0o644))
	kit.Must(t, "parcel", "pack", write(t, list), again, "--set", "version=1.0.0")
	three, err := os.ReadFile(again)
	require.NoError(t, err)
	require.True(t, bytes.Equal(one, three))

	assert.Contains(t, kit.Must(t, "parcel", "check", at), "is right")
	for range 2 {
		kit.Must(t, "parcel", "unload", at, to.Address+"/box14")
	}
	for i, image := range images {
		assert.Equal(t, image.Manifest.Digest.String(), tagOf(to, fmt.Sprintf("box14/rolling/part-%02d", i), "1.0.0"))
	}
	// Whatever reads layouts reads it.
	kit.Must(t, "push", at, to.Address+"/box15/part:1", "--image", "rolling/part-00:1.0.0")
	assert.Equal(t, images[0].Manifest.Digest.String(), tagOf(to, "box15/part", "1"))
}

func TestTheNextParcelHoldsOnlyWhatIsNew(t *testing.T) {
	t.Parallel()
	f, to := kit.StartForeign(t, nil), kit.Start(t, t.TempDir())
	_, list := release(t, f, 3, 1)
	october := packed(t, list)
	next, _ := release(t, f, 3, 2)
	folder := t.TempDir()
	pack := func(name, without string) (at string, size int64) {
		at = filepath.Join(folder, name)
		kit.Must(t, "parcel", "pack", write(t, list), at, "--set", "version=2.0.0", "--without", without)
		info, err := os.Stat(at)
		require.NoError(t, err)
		return at, info.Size()
	}
	november, size := pack("november.parcel", october)
	assert.Less(t, size, int64(400_000))
	empty := kit.Run(t, "parcel", "unload", november, to.Address)
	assert.Equal(t, 5, empty.Code)
	assert.Contains(t, empty.Err, "was packed without the parcel november.parcel")
	assert.Contains(t, empty.Err, "lacks")
	assert.Empty(t, tagOf(to, "rolling/part-00", "2.0.0"))
	kit.Must(t, "parcel", "unload", october, to.Address)
	kit.Must(t, "parcel", "unload", november, to.Address)
	assert.Equal(t, next[2].Manifest.Digest.String(), tagOf(to, "rolling/part-02", "2.0.0"))
	// By a list, or by what a registry has, it comes to the same.
	locked := filepath.Join(folder, "october.locked")
	kit.Must(t, "packing", "lock", write(t, list), "--set", "version=1.0.0", "--out", locked)
	_, bySize := pack("by-list.parcel", locked)
	assert.InDelta(t, size, bySize, 4096)
	_, bySize = pack("by-registry.parcel", to.Address)
	assert.Less(t, bySize, int64(40_000), "the registry has all of it by now")
	// From what this one expects and brings the one after it is packed.
	_, bySize = pack("december.parcel", november)
	assert.Less(t, bySize, int64(40_000))
}

// Sweeps between the volumes take nothing that waits for its image.
func TestVolumesComeFromOneDriveAfterTheOther(t *testing.T) {
	t.Parallel()
	f, to := kit.StartForeign(t, nil), kit.Start(t, t.TempDir(), "--short-windows", "--grace", "1s", "--restore-window", "1s", "--sweep-at", "never")
	image := kit.NewImage(t, kit.Bytes(1, 5<<20), kit.Bytes(2, 100_000))
	f.Put("rolling/large", "1.0.0", image)
	images, list := release(t, f, 3, 1)
	const volume = 2 << 20
	at := packed(t, list+f.Address+"/rolling/large:1.0.0\n", "--volumes", "2MiB")
	files, err := filepath.Glob(at + ".*of*")
	require.NoError(t, err)
	require.Greater(t, len(files), 2)
	assert.Contains(t, kit.Must(t, "parcel", "check", at), fmt.Sprintf("%d volumes", len(files)))
	// Each stands alone on its drive, and they come in any order.
	rand.Shuffle(len(files), func(i, j int) { files[i], files[j] = files[j], files[i] })
	for n, file := range files {
		info, err := os.Stat(file)
		require.NoError(t, err)
		assert.LessOrEqual(t, info.Size(), int64(volume))
		drive := filepath.Join(t.TempDir(), filepath.Base(file))
		require.NoError(t, os.Rename(file, drive))
		kit.Must(t, "parcel", "check", drive)
		said := kit.Must(t, "parcel", "unload", drive, to.Address)
		if n < len(files)-1 {
			assert.Contains(t, said, "still for volume")
			assert.Empty(t, tagOf(to, "rolling/large", "1.0.0"))
			assert.Contains(t, kit.Must(t, "arrival", "list", to.Address), "waiting")
			time.Sleep(1500 * time.Millisecond) // The grace is over.
			kit.Must(t, "sweep", "run", to.Address)
		}
	}
	shown := kit.Must(t, "arrival", "list", to.Address)
	assert.Contains(t, shown, "done")
	assert.Equal(t, 1, strings.Count(shown, "november.parcel"), "all volumes are one arrival")
	pieces, err := filepath.Glob(filepath.Join(kit.ClientFolder(), "pieces", "*"))
	require.NoError(t, err)
	assert.Empty(t, pieces, "what was kept between volumes is not needed any more")
	assert.Equal(t, image.Manifest.Digest.String(), tagOf(to, "rolling/large", "1.0.0"))
	assert.Equal(t, images[2].Manifest.Digest.String(), tagOf(to, "rolling/part-02", "1.0.0"))
}

// A source that lies about a blob that is cut is found out where it is packed, and not where
// there is no network; volumes that were cut in another way are not mixed.
func TestABlobThatIsCutIsCheckedWhereItIsPacked(t *testing.T) {
	t.Parallel()
	f := kit.StartForeign(t, nil)
	large := kit.Bytes(1, 5<<20)
	f.Put("rolling/large", "1.0.0", kit.NewImage(t, large))
	list := write(t, f.Address+"/rolling/large:1.0.0\n")
	at := filepath.Join(t.TempDir(), "november.parcel")
	digest := oci.DigestOf(oci.SHA256, large).String()
	f.Wrong(func(w http.ResponseWriter, r *http.Request) bool {
		if r.Method != http.MethodGet || !strings.HasSuffix(r.URL.Path, digest) {
			return false
		}
		http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(kit.Bytes(2, 5<<20)))
		return true
	})
	lies := kit.Run(t, "parcel", "pack", list, at, "--volumes", "2MiB")
	assert.Equal(t, 1, lies.Code)
	assert.Contains(t, lies.Err, "is something else")
	left, err := filepath.Glob(at + ".*of*")
	require.NoError(t, err)
	assert.Empty(t, left)
	f.Wrong(nil)
	kit.Must(t, "parcel", "pack", list, at, "--volumes", "2MiB")
	files, err := filepath.Glob(at + ".*of*")
	require.NoError(t, err)
	other := filepath.Join(t.TempDir(), "november.parcel")
	kit.Must(t, "parcel", "pack", list, other, "--volumes", "2050KiB")
	others, err := filepath.Glob(other + ".*of*")
	require.NoError(t, err)
	require.Len(t, others, len(files))
	require.NoError(t, os.Rename(others[1], files[1]))
	mixed := kit.Run(t, "parcel", "check", at)
	assert.Equal(t, 5, mixed.Code)
	assert.Contains(t, mixed.Err, "cut in another way")
	// Packed anew over it, the volume that does not belong to it is written again.
	kit.Must(t, "parcel", "pack", list, at, "--volumes", "2MiB")
	kit.Must(t, "parcel", "check", at)
}

// Whatever was done to a parcel on its way, nothing of it shows.
func TestAParcelThatIsNotAsItWasPackedIsRefused(t *testing.T) {
	t.Parallel()
	f, to := kit.StartForeign(t, nil), kit.Start(t, t.TempDir())
	_, list := release(t, f, 1, 1)
	at := packed(t, list)
	whole, err := os.ReadFile(at)
	require.NoError(t, err)
	folder := t.TempDir()
	changed := func(name string, raw []byte) string {
		other := filepath.Join(folder, name)
		require.NoError(t, os.WriteFile(other, raw, 0o644))
		return other
	}
	wrong := map[string]string{
		"cut in the middle": changed("cut", whole[:len(whole)/2]),
		"cut at its end":    changed("cut-end", whole[:len(whole)-512]),
		"with more behind":  changed("more", append(bytes.Clone(whole), make([]byte, 512)...)),
		"doubled":           changed("doubled", append(bytes.Clone(whole), whole...)),
	}
	for range 30 {
		n := rand.IntN(len(whole))
		raw := bytes.Clone(whole)
		raw[n] ^= 1 << rand.IntN(8)
		wrong[fmt.Sprintf("byte %d", n)] = changed(fmt.Sprintf("byte-%d", n), raw)
	}
	all := unpack(t, at)
	with := func(more ...entry) string { return repack(t, append(append([]entry{}, all...), more...)) }
	wrong["an entry twice"] = with(all[2])
	wrong["a link"] = with(entry{tar.Header{Typeflag: tar.TypeSymlink, Name: "blobs/sha256/" + fmt.Sprintf("%064x", 1), Linkname: "/etc/passwd"}, nil})
	wrong["a name that leads out"] = with(entry{tar.Header{Typeflag: tar.TypeReg, Name: "../../out", Mode: 0o644}, []byte("x")})
	var without []entry
	for _, e := range all {
		if e.Size != 1<<20 {
			without = append(without, e)
		}
	}
	wrong["a blob left out"] = repack(t, without)
	// Names of files are made of what the header says.
	leading := bytes.Replace(all[0].raw, []byte(`"digest": "sha256:`), []byte(`"digest": "sha256:../../../../out`), 1)
	require.NotEqual(t, all[0].raw, leading)
	wrong["a digest that leads out"] = repack(t, append([]entry{{all[0].Header, leading}}, all[1:]...))
	// In another order it is still all that was packed, and nothing else.
	mixed := append([]entry{}, all[1:]...)
	rand.Shuffle(len(mixed), func(i, j int) { mixed[i], mixed[j] = mixed[j], mixed[i] })
	kit.Must(t, "parcel", "check", repack(t, append([]entry{all[0]}, mixed...)))
	for name, at := range wrong {
		check := kit.Run(t, "parcel", "check", at)
		assert.Equal(t, 5, check.Code, "%s: %s%s", name, check.Out, check.Err)
		unload := kit.Run(t, "parcel", "unload", at, to.Address)
		assert.Equal(t, 5, unload.Code, "%s: %s%s", name, unload.Out, unload.Err)
	}
	answer, _ := to.Do(http.MethodGet, "/v2/rolling/part-00/tags/list", nil)
	assert.Equal(t, http.StatusNotFound, answer.StatusCode, "nothing of them is there")
	assert.NoFileExists(t, "/out")
}

func TestAnyLayoutInATarIsUnloaded(t *testing.T) {
	t.Parallel()
	to := kit.Start(t, t.TempDir())
	image := kit.NewImage(t, kit.Bytes(1, 1000))
	index := map[string]any{"schemaVersion": 2, "manifests": []map[string]any{
		{"mediaType": image.Manifest.MediaType, "digest": image.Manifest.Digest, "size": image.Manifest.Size, "annotations": map[string]string{"org.opencontainers.image.ref.name": "registry.larkspur.example/timetable/planner:2.4.1"}},
		{"mediaType": image.Manifest.MediaType, "digest": image.Manifest.Digest, "size": image.Manifest.Size, "annotations": map[string]string{"org.opencontainers.image.ref.name": "stable"}},
	}}
	raw, err := json.Marshal(index)
	require.NoError(t, err)
	file := func(name string, raw []byte) entry {
		return entry{tar.Header{Typeflag: tar.TypeReg, Name: name, Mode: 0o644}, raw}
	}
	all := []entry{file("./index.json", raw), file("./oci-layout", []byte(`{"imageLayoutVersion":"1.0.0"}`)), file("./blobs/sha256/"+image.Manifest.Digest.Encoded(), image.Raw)}
	for d, raw := range image.Blobs {
		all = append(all, file("./blobs/sha256/"+d.Encoded(), raw))
	}
	at := repack(t, all)
	unnamed := kit.Run(t, "parcel", "unload", at, to.Address)
	assert.Equal(t, 2, unnamed.Code)
	assert.Contains(t, unnamed.Err, "say so with --as NAME")
	kit.Must(t, "parcel", "check", at)
	kit.Must(t, "parcel", "unload", at, to.Address, "--as", "timetable/board")
	assert.Equal(t, image.Manifest.Digest.String(), tagOf(to, "timetable/planner", "2.4.1"))
	assert.Equal(t, image.Manifest.Digest.String(), tagOf(to, "timetable/board", "stable"))
	all[3].raw = append(bytes.Clone(all[3].raw), 'x')
	assert.Equal(t, 5, kit.Run(t, "parcel", "unload", repack(t, all), to.Address, "--as", "x").Code)
	assert.Equal(t, 5, kit.Run(t, "parcel", "check", repack(t, append(all, all[0]))).Code)
}
