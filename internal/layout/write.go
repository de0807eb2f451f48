package layout

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"syscall"
	"time"

	"github.com/opencontainers/image-spec/specs-go/v1"

	"warthesis/internal/given"
	"warthesis/internal/oci"
)

// partialFolder holds what has not come whole, below the layout.
const partialFolder = ".warthesis-partial"

// Folder is an image layout in a folder, being written by this process alone. Content
// enters it under its digest only when it is whole and checked, so that a stopped run
// can go on. Nothing is written through a link that stands in it, or out of it. It is
// safe for concurrent use, but for Add and the methods that end it.
type Folder struct {
	at   string
	root *os.Root
	lock *os.File

	mu sync.Mutex
	// brought is what belongs to the images of this run.
	brought map[oci.Digest]bool
	entries []oci.Descriptor
}

// lockEvery is how often a folder is asked for that another process writes to.
const lockEvery = 100 * time.Millisecond

// Create makes an image layout in the folder, or opens the one that is there. A
// folder with anything else in it is refused. Where another process writes to it,
// that is waited for; waits, where set, is told so once. The caller closes it.
func Create(ctx context.Context, at string, waits func()) (*Folder, error) {
	for {
		f, err := claim(at)
		switch {
		case err == nil:
			if err := f.prepare(); err != nil {
				return nil, errors.Join(err, f.Close())
			}
			return f, nil
		case !errors.Is(err, syscall.EWOULDBLOCK):
			return nil, fmt.Errorf("make the image layout: %w", err)
		}
		if waits != nil {
			waits()
			waits = nil
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(lockEvery):
		}
	}
}

// claim opens the folder for this process alone, or fails with syscall.EWOULDBLOCK.
func claim(at string) (*Folder, error) {
	if err := os.MkdirAll(at, 0o755); err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(at)
	if err != nil {
		return nil, err
	}
	f := &Folder{at: at, root: root, brought: map[oci.Digest]bool{}}
	if f.lock, err = root.Open("."); err != nil {
		return nil, errors.Join(err, root.Close())
	}
	if err := syscall.Flock(int(f.lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	// Who had it may have removed it: then this is no folder any more.
	mine, err := f.lock.Stat()
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	if there, err := os.Stat(at); err != nil || !os.SameFile(mine, there) {
		return nil, errors.Join(syscall.EWOULDBLOCK, f.Close())
	}
	return f, nil
}

// Close lets others write to the folder.
func (f *Folder) Close() error { return errors.Join(f.lock.Close(), f.root.Close()) }

func (f *Folder) prepare() error {
	names, err := f.lock.ReadDir(-1)
	if err != nil {
		return fmt.Errorf("make the image layout: %w", err)
	}
	if marker, _, err := given.Open(f.root.OpenFile, v1.ImageLayoutFile); err == nil {
		raw, err := io.ReadAll(io.LimitReader(marker, documentLimit))
		if err := errors.Join(err, marker.Close(), checkMarker(raw)); err != nil {
			return fmt.Errorf("%s: %w", f.at, err)
		}
	} else if left := slices.DeleteFunc(names, func(e fs.DirEntry) bool { return e.Name() == partialFolder }); len(left) > 0 {
		return fmt.Errorf("%s is not empty and no image layout; choose another folder", f.at)
	}
	for _, folder := range []string{filepath.Join(v1.ImageBlobsDir, "sha256"), partialFolder} {
		if err := f.makeFolder(folder); err != nil {
			return err
		}
	}
	raw, err := json.Marshal(v1.ImageLayout{Version: v1.ImageLayoutVersion})
	if err != nil {
		return err
	}
	return f.replace(v1.ImageLayoutFile, raw)
}

// makeFolder makes a folder, and refuses a link in its place.
func (f *Folder) makeFolder(name string) error {
	if err := f.root.MkdirAll(name, 0o755); err != nil {
		return fmt.Errorf("make the image layout: %w", err)
	}
	for part := name; part != "."; part = filepath.Dir(part) {
		info, err := f.root.Lstat(part)
		if err != nil || !info.IsDir() {
			return errors.Join(err, fmt.Errorf("%s in %s is a link or a file; nothing is written through it", part, f.at))
		}
	}
	return nil
}

// checkMarker reads what says that a folder is an image layout (image-spec, "Image
// Layout Specification", oci-layout file).
func checkMarker(raw []byte) error {
	var marker v1.ImageLayout
	if err := json.Unmarshal(raw, &marker); err != nil {
		return fmt.Errorf("its %s is not right: %w", v1.ImageLayoutFile, err)
	}
	if marker.Version != v1.ImageLayoutVersion {
		return fmt.Errorf("it is an image layout of the version %.20q, and only %s is understood", marker.Version, v1.ImageLayoutVersion)
	}
	return nil
}

// replace writes a file so that it is the old or the new one at every moment.
func (f *Folder) replace(name string, raw []byte) error {
	next := name + ".next"
	if err := f.root.Remove(next); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	file, err := f.root.OpenFile(next, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return fmt.Errorf("write to the image layout: %w", err)
	}
	_, err = file.Write(raw)
	if err := errors.Join(err, file.Close()); err != nil {
		return fmt.Errorf("write to the image layout: %w", err)
	}
	return f.root.Rename(next, name)
}

func path(d oci.Digest) string { return filepath.FromSlash(blobPath(d)) }

// bring notes that content belongs to an image of this run.
func (f *Folder) bring(d oci.Digest) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.brought[d] = true
}

// Has reports whether the content is there, whole and right. It reads it.
func (f *Folder) Has(d oci.Descriptor) bool {
	file, _, err := given.Open(f.root.OpenFile, path(d.Digest))
	if err != nil {
		return false
	}
	defer file.Close()
	actual, err := d.Digest.Algorithm().FromReader(file)
	has := err == nil && actual == d.Digest
	if has {
		f.bring(d.Digest)
	}
	return has
}

// Put stores small content whole.
func (f *Folder) Put(d oci.Descriptor, raw []byte) error {
	if oci.DigestOf(d.Digest.Algorithm(), raw) != d.Digest {
		return digestError(d)
	}
	if err := f.makeFolder(filepath.Dir(path(d.Digest))); err != nil {
		return err
	}
	f.bring(d.Digest)
	return f.replace(path(d.Digest), raw)
}

func digestError(d oci.Descriptor) error {
	return oci.Errorf(oci.CodeDigestInvalid, "what came for %s is something else: its bytes were changed on the way or at the source; nothing of it was kept", d.Digest)
}

// Receiver takes one piece of content, from where an earlier run stopped.
type Receiver struct {
	folder *Folder
	wanted oci.Descriptor
	name   string
	file   *os.File
	hash   hash.Hash
	offset int64
}

// Receive opens the content for writing at its end as far as it came before.
func (f *Folder) Receive(d oci.Descriptor) (*Receiver, error) {
	name := filepath.Join(partialFolder, d.Digest.Algorithm().String()+"-"+d.Digest.Encoded())
	if info, err := f.root.Lstat(name); err == nil && !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s in %s is a link or no file; nothing is written through it", name, f.at)
	}
	file, err := f.root.OpenFile(name, os.O_RDWR|os.O_CREATE|syscall.O_NONBLOCK, 0o644)
	if err != nil {
		return nil, fmt.Errorf("write to the image layout: %w", err)
	}
	r := &Receiver{folder: f, wanted: d, name: name, file: file, hash: d.Digest.Algorithm().Hash()}
	if r.offset, err = io.Copy(r.hash, file); err != nil {
		return nil, errors.Join(err, file.Close())
	}
	if r.offset > d.Size {
		return r, r.Restart()
	}
	return r, nil
}

// Offset returns how many bytes are there.
func (r *Receiver) Offset() int64 { return r.offset }

// Write adds bytes.
func (r *Receiver) Write(p []byte) (int, error) {
	n, err := r.file.Write(p)
	r.hash.Write(p[:n])
	r.offset += int64(n)
	return n, err
}

// Restart drops what is there.
func (r *Receiver) Restart() error {
	r.hash.Reset()
	r.offset = 0
	if err := r.file.Truncate(0); err != nil {
		return err
	}
	_, err := r.file.Seek(0, io.SeekStart)
	return err
}

// Commit checks the content and puts it under its digest. Content that is not
// what was wanted is dropped and fails with oci.CodeDigestInvalid.
func (r *Receiver) Commit() error {
	actual := fmt.Sprintf("%s:%x", r.wanted.Digest.Algorithm(), r.hash.Sum(nil))
	info, err := r.file.Stat()
	if err == nil && (actual != r.wanted.Digest.String() || info.Size() != r.offset) {
		err = digestError(r.wanted)
	}
	if err != nil {
		return errors.Join(err, r.file.Close(), r.folder.root.Remove(r.name))
	}
	if err := r.file.Close(); err != nil {
		return err
	}
	target := path(r.wanted.Digest)
	if err := r.folder.makeFolder(filepath.Dir(target)); err != nil {
		return err
	}
	r.folder.bring(r.wanted.Digest)
	return r.folder.root.Rename(r.name, target)
}

// Close lets go of the content and leaves what came for a later run.
func (r *Receiver) Close() error { return r.file.Close() }

// Add enters an image under a name into the layout's index; an entry of the same
// name gives way.
func (f *Folder) Add(e Entry) error {
	index := v1.Index{}
	file, size, err := given.Open(f.root.OpenFile, v1.ImageIndexFile)
	if err == nil {
		var raw []byte
		if raw, err = io.ReadAll(io.LimitReader(file, documentLimit+1)); size > documentLimit {
			err = fmt.Errorf("it has more than %d MiB", documentLimit>>20)
		}
		err = errors.Join(err, file.Close())
		if err == nil {
			err = json.Unmarshal(raw, &index)
		}
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("read the layout's index.json: %w", err)
	}
	d := oci.Descriptor{MediaType: e.MediaType, Digest: e.Digest, Size: e.Size, Platform: e.Platform}
	if e.Name != "" {
		d.Annotations = map[string]string{v1.AnnotationRefName: e.Name}
	}
	f.entries = entered(f.entries, e, d)
	index.Manifests = entered(index.Manifests, e, d)
	raw, err := indexOf(index)
	if err != nil {
		return err
	}
	return f.replace(v1.ImageIndexFile, raw)
}

// entered returns entries with one more, to which one of the same name gives way.
func entered(all []oci.Descriptor, e Entry, d oci.Descriptor) []oci.Descriptor {
	kept := []oci.Descriptor{}
	for _, one := range all {
		if name := one.Annotations[v1.AnnotationRefName]; name != e.Name || name == "" && one.Digest != e.Digest {
			kept = append(kept, one)
		}
	}
	return append(kept, d)
}

func indexOf(index v1.Index) ([]byte, error) {
	index.SchemaVersion, index.MediaType = 2, oci.MediaTypeIndex
	return json.MarshalIndent(index, "", "  ")
}

// Finish removes what only a run in the middle needs.
func (f *Folder) Finish() error { return f.root.RemoveAll(partialFolder) }

// HasContent reports whether anything came, whole or in part.
func (f *Folder) HasContent() bool {
	for _, folder := range []string{partialFolder, filepath.Join(v1.ImageBlobsDir, "sha256"), filepath.Join(v1.ImageBlobsDir, "sha512")} {
		opened, err := f.root.Open(folder)
		if err != nil {
			continue
		}
		names, err := opened.ReadDir(1)
		opened.Close()
		if err == nil && len(names) > 0 {
			return true
		}
	}
	return false
}
