package layout

import (
	"archive/tar"
	"context"
	"errors"
	"io"
	"os"
	"os/exec"
	pathpkg "path"
	"path/filepath"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/oci"
)

var ctx = context.Background()

func descriptor(raw []byte) oci.Descriptor {
	return oci.Descriptor{MediaType: oci.MediaTypeImage, Digest: oci.DigestOf(oci.SHA256, raw), Size: int64(len(raw))}
}

func create(t *testing.T, at string) *Folder {
	f, err := Create(ctx, at, nil)
	require.NoError(t, err)
	return f
}

func TestPullsIntoOneFolderTakeTurns(t *testing.T) {
	at := filepath.Join(t.TempDir(), "layout")
	var all sync.WaitGroup
	for i := range 10 {
		all.Go(func() {
			f, err := Create(ctx, at, nil)
			if !assert.NoError(t, err) {
				return
			}
			raw := []byte{byte('a' + i)}
			assert.NoError(t, f.Put(descriptor(raw), raw))
			assert.NoError(t, f.Add(Entry{Name: string(raw), Descriptor: descriptor(raw)}))
			assert.NoError(t, f.Finish())
			assert.NoError(t, f.Close())
		})
	}
	all.Wait()
	source, err := Open(at)
	require.NoError(t, err)
	defer source.Close()
	assert.Len(t, source.Entries(), 10)

	held := create(t, at)
	soon, cancel := context.WithTimeout(ctx, 150*time.Millisecond)
	defer cancel()
	told := 0
	_, err = Create(soon, at, func() { told++ })
	assert.ErrorIs(t, err, context.DeadlineExceeded)
	assert.Equal(t, 1, told)
	require.NoError(t, held.Close())
}

func TestNothingIsWrittenThroughAPlantedLink(t *testing.T) {
	outside := filepath.Join(t.TempDir(), "outside")
	require.NoError(t, os.WriteFile(outside, []byte("as it was"), 0o644))
	raw := []byte("content")
	d := descriptor(raw)
	for says, plant := range map[string]func(at string){
		"a part":      func(at string) { mustLink(t, outside, at, partialFolder, "sha256-"+d.Digest.Encoded()) },
		"the content": func(at string) { mustLink(t, outside, at, "blobs", "sha256", d.Digest.Encoded()) },
		"the next":    func(at string) { mustLink(t, outside, at, "blobs", "sha256", d.Digest.Encoded()+".next") },
		"the index":   func(at string) { mustLink(t, outside, at, "index.json") },
		"a folder":    func(at string) { mustLink(t, filepath.Dir(outside), at, "blobs") },
		"a near folder": func(at string) {
			require.NoError(t, os.Mkdir(filepath.Join(at, "x"), 0o755))
			mustLink(t, "x", at, "blobs")
		},
	} {
		at := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(at, "oci-layout"), []byte(`{"imageLayoutVersion":"1.0.0"}`), 0o644))
		plant(at)
		if f, err := Create(ctx, at, nil); err == nil {
			_ = f.Put(d, raw)
			if r, err := f.Receive(d); err == nil {
				_, _ = r.Write(raw)
				_ = r.Commit()
			}
			_ = f.Add(Entry{Name: "x", Descriptor: d})
			_ = f.Close()
		}
		left, err := os.ReadFile(outside)
		require.NoError(t, err)
		assert.Equal(t, "as it was", string(left), says)
		names, err := os.ReadDir(filepath.Dir(outside))
		require.NoError(t, err)
		assert.Len(t, names, 1, says)
	}
}

func mustLink(t *testing.T, to string, path ...string) {
	at := filepath.Join(path...)
	require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
	require.NoError(t, os.Symlink(to, at))
}

func TestATarHasTheImagesOfItsOwnPull(t *testing.T) {
	at := filepath.Join(t.TempDir(), "x.tar.partial")
	// A pull that was killed after its content came, and one after it was entered.
	stopped := create(t, at)
	other := []byte("of another image")
	require.NoError(t, stopped.Put(descriptor(other), other))
	require.NoError(t, stopped.Add(Entry{Name: "other", Descriptor: descriptor(other)}))
	require.NoError(t, stopped.Close())
	f := create(t, at)
	raw := []byte("mine")
	require.NoError(t, f.Put(descriptor(raw), raw))
	require.NoError(t, f.Add(Entry{Name: "mine", Descriptor: descriptor(raw)}))
	to := filepath.Join(filepath.Dir(at), "x.tar")
	require.NoError(t, f.Pack(to))
	require.NoError(t, f.Close())
	packed, err := os.ReadFile(to)
	require.NoError(t, err)
	assert.NotContains(t, string(packed), "of another image")
	source, err := Open(to)
	require.NoError(t, err)
	defer source.Close()
	require.Len(t, source.Entries(), 1)
	assert.Equal(t, "mine", source.Entries()[0].Name)
	_, err = os.Stat(at)
	assert.ErrorIs(t, err, os.ErrNotExist)
}

func TestStrangeFilesAreRefusedAndWaitedForByNobody(t *testing.T) {
	folder := t.TempDir()
	pipe := filepath.Join(folder, "pipe.tar")
	require.NoError(t, syscall.Mkfifo(pipe, 0o600))
	_, err := Open(pipe)
	assert.ErrorContains(t, err, "no plain file")

	index := `{"schemaVersion":2,"manifests":[{"mediaType":"` + oci.MediaTypeImage + `","digest":"` + string(descriptor([]byte("x")).Digest) + `","size":1}]}`
	for says, marker := range map[string]string{"another version": `{"imageLayoutVersion":"2.0.0"}`, "no JSON": `1.0.0`} {
		at := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(at, "oci-layout"), []byte(marker), 0o644))
		require.NoError(t, os.WriteFile(filepath.Join(at, "index.json"), []byte(index), 0o644))
		_, err := Open(at)
		assert.Error(t, err, says)
		_, err = Create(ctx, at, nil)
		assert.Error(t, err, says)
	}

	at := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(at, "index.json"), []byte(index), 0o644))
	require.NoError(t, os.MkdirAll(filepath.Join(at, "blobs", "sha256"), 0o755))
	require.NoError(t, syscall.Mkfifo(filepath.Join(at, filepath.FromSlash(blobPath(descriptor([]byte("x")).Digest))), 0o600))
	source, err := Open(at)
	require.NoError(t, err)
	defer source.Close()
	_, err = source.Open(source.Entries()[0].Descriptor)
	assert.ErrorContains(t, err, "no plain file")

	// A file with holes has other bytes than stand in the tar.
	whole := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(whole, "index.json"), []byte(index), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(whole, "oci-layout"), []byte(`{"imageLayoutVersion":"1.0.0"}`), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(whole, "holes"), []byte("start"), 0o644))
	require.NoError(t, os.Truncate(filepath.Join(whole, "holes"), 1<<20))
	for _, format := range []string{"gnu", "pax"} {
		to := filepath.Join(folder, format+".tar")
		out, err := exec.Command("tar", "-S", "--format="+format, "-C", whole, "-cf", to, "oci-layout", "index.json", "holes").CombinedOutput()
		require.NoError(t, err, string(out))
		_, err = Open(to)
		assert.ErrorContains(t, err, "a sparse file", format)
	}

	// A tar that ends within a file was not saved to its end.
	packed := filepath.Join(folder, "cut.tar")
	out, err := exec.Command("tar", "-C", whole, "-cf", packed, "oci-layout", "index.json", "holes").CombinedOutput()
	require.NoError(t, err, string(out))
	require.NoError(t, os.Truncate(packed, 512*1024))
	_, err = Open(packed)
	assert.Error(t, err)
}

// Only plain files, and links to them within the tar, are content: whatever else
// stands at the place of a blob is none.
func TestATarHasContentInPlainFilesAlone(t *testing.T) {
	content := []byte("a layer that somebody left outside")
	d := descriptor(content)
	outside := filepath.Join(t.TempDir(), "outside")
	require.NoError(t, os.WriteFile(outside, content, 0o600))
	at := blobPath(d.Digest)
	index := []byte(`{"schemaVersion":2,"manifests":[{"mediaType":"` + oci.MediaTypeImage + `","digest":"` + string(d.Digest) + `","size":1}]}`)
	for says, test := range map[string]struct {
		headers []tar.Header
		there   bool
	}{
		"a plain file":                {[]tar.Header{{Name: at, Typeflag: tar.TypeReg, Size: int64(len(content))}}, true},
		"with a dot before it":        {[]tar.Header{{Name: "./" + at, Typeflag: tar.TypeReg, Size: int64(len(content))}}, true},
		"a link to one of it":         {[]tar.Header{{Name: "x", Typeflag: tar.TypeReg, Size: int64(len(content))}, {Name: at, Typeflag: tar.TypeLink, Linkname: "x"}}, true},
		"a link to nothing":           {[]tar.Header{{Name: at, Typeflag: tar.TypeLink, Linkname: "y"}}, false},
		"a link to itself":            {[]tar.Header{{Name: at, Typeflag: tar.TypeSymlink, Linkname: pathpkg.Base(at)}}, false},
		"a link that leads out of it": {[]tar.Header{{Name: at, Typeflag: tar.TypeSymlink, Linkname: outside}}, false},
		"a link up and out of it":     {[]tar.Header{{Name: at, Typeflag: tar.TypeSymlink, Linkname: "../../../../../../.." + outside}}, false},
		"a named pipe":                {[]tar.Header{{Name: at, Typeflag: tar.TypeFifo}}, false},
		"a device":                    {[]tar.Header{{Name: at, Typeflag: tar.TypeChar}}, false},
		"a disk":                      {[]tar.Header{{Name: at, Typeflag: tar.TypeBlock}}, false},
		"a folder":                    {[]tar.Header{{Name: at + "/", Typeflag: tar.TypeDir}}, false},
		"a file above the tar":        {[]tar.Header{{Name: "../" + at, Typeflag: tar.TypeReg, Size: int64(len(content))}}, false},
	} {
		file, err := os.Create(filepath.Join(t.TempDir(), "of.tar"))
		require.NoError(t, err)
		w := tar.NewWriter(file)
		for _, h := range append([]tar.Header{{Name: "index.json", Typeflag: tar.TypeReg, Size: int64(len(index))}}, test.headers...) {
			h.Mode = 0o644
			require.NoError(t, w.WriteHeader(&h), says)
			switch {
			case h.Name == "index.json":
				_, err = w.Write(index)
			case h.Typeflag == tar.TypeReg:
				_, err = w.Write(content)
			}
			require.NoError(t, err, says)
		}
		require.NoError(t, errors.Join(w.Close(), file.Close()))
		source, err := Open(file.Name())
		require.NoError(t, err, says)
		opened, err := source.Open(d)
		if !test.there {
			assert.ErrorContains(t, err, "does not have it", says)
			continue
		}
		require.NoError(t, err, says)
		raw, err := io.ReadAll(io.NewSectionReader(opened, 0, opened.Size()))
		require.NoError(t, err)
		assert.Equal(t, content, raw, says)
	}
}
