package layout

import (
	"archive/tar"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strings"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"warthesis/internal/oci"
)

// partialFolder holds what has not come whole, below the layout.
const partialFolder = ".warthesis-partial"

// Folder is an image layout in a folder, being written. Content enters it under
// its digest only when it is whole and checked, so that a stopped run can go on.
// It is safe for concurrent use, but for Add and the methods that end it.
type Folder struct{ root string }

// Create makes an image layout in the folder, or opens the one that is there. A
// folder with anything else in it is refused.
func Create(root string) (*Folder, error) {
	names, err := os.ReadDir(root)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("make the image layout: %w", err)
	}
	marker := filepath.Join(root, v1.ImageLayoutFile)
	if _, err := os.Stat(marker); err != nil && len(names) > 0 {
		return nil, fmt.Errorf("%s is not empty and no image layout; choose another folder", root)
	}
	for _, folder := range []string{filepath.Join(v1.ImageBlobsDir, "sha256"), partialFolder} {
		if err := os.MkdirAll(filepath.Join(root, folder), 0o755); err != nil {
			return nil, fmt.Errorf("make the image layout: %w", err)
		}
	}
	raw, err := json.Marshal(v1.ImageLayout{Version: v1.ImageLayoutVersion})
	if err != nil {
		return nil, err
	}
	return &Folder{root}, replace(marker, raw)
}

// replace writes a file so that it is the old or the new one at every moment.
func replace(path string, raw []byte) error {
	next := path + ".next"
	if err := os.WriteFile(next, raw, 0o644); err != nil {
		return fmt.Errorf("write %s: %w", path, err)
	}
	return os.Rename(next, path)
}

func (f *Folder) path(d oci.Digest) string {
	return filepath.Join(f.root, filepath.FromSlash(blobPath(d)))
}

// Has reports whether the content is there, whole and right. It reads it.
func (f *Folder) Has(d oci.Descriptor) bool {
	file, err := os.Open(f.path(d.Digest))
	if err != nil {
		return false
	}
	defer file.Close()
	actual, err := d.Digest.Algorithm().FromReader(file)
	return err == nil && actual == d.Digest
}

// Put stores small content whole.
func (f *Folder) Put(d oci.Descriptor, raw []byte) error {
	if oci.DigestOf(d.Digest.Algorithm(), raw) != d.Digest {
		return digestError(d)
	}
	if err := os.MkdirAll(filepath.Dir(f.path(d.Digest)), 0o755); err != nil {
		return err
	}
	return replace(f.path(d.Digest), raw)
}

func digestError(d oci.Descriptor) error {
	return oci.Errorf(oci.CodeDigestInvalid, "what came for %s is something else: its bytes were changed on the way or at the source; nothing of it was kept", d.Digest)
}

// Receiver takes one piece of content, from where an earlier run stopped.
type Receiver struct {
	folder *Folder
	wanted oci.Descriptor
	file   *os.File
	hash   hash.Hash
	offset int64
}

// Receive opens the content for writing at its end as far as it came before.
func (f *Folder) Receive(d oci.Descriptor) (*Receiver, error) {
	name := filepath.Join(f.root, partialFolder, d.Digest.Algorithm().String()+"-"+d.Digest.Encoded())
	file, err := os.OpenFile(name, os.O_RDWR|os.O_CREATE, 0o644)
	if err != nil {
		return nil, fmt.Errorf("write to the image layout: %w", err)
	}
	r := &Receiver{folder: f, wanted: d, file: file, hash: d.Digest.Algorithm().Hash()}
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
	if actual != r.wanted.Digest.String() {
		return errors.Join(digestError(r.wanted), r.file.Close(), os.Remove(r.file.Name()))
	}
	if err := r.file.Close(); err != nil {
		return err
	}
	target := r.folder.path(r.wanted.Digest)
	if err := os.MkdirAll(filepath.Dir(target), 0o755); err != nil {
		return err
	}
	return os.Rename(r.file.Name(), target)
}

// Close lets go of the content and leaves what came for a later run.
func (r *Receiver) Close() error { return r.file.Close() }

// Add enters an image under a name into the layout's index; an entry of the same
// name gives way.
func (f *Folder) Add(e Entry) error {
	var index v1.Index
	file := filepath.Join(f.root, v1.ImageIndexFile)
	raw, err := os.ReadFile(file)
	if err == nil {
		err = json.Unmarshal(raw, &index)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("read the layout's index.json: %w", err)
	}
	index.SchemaVersion, index.MediaType = 2, oci.MediaTypeIndex
	kept := []oci.Descriptor{}
	for _, d := range index.Manifests {
		if name := d.Annotations[v1.AnnotationRefName]; name != e.Name || name == "" && d.Digest != e.Digest {
			kept = append(kept, d)
		}
	}
	d := oci.Descriptor{MediaType: e.MediaType, Digest: e.Digest, Size: e.Size, Platform: e.Platform}
	if e.Name != "" {
		d.Annotations = map[string]string{v1.AnnotationRefName: e.Name}
	}
	index.Manifests = append(kept, d)
	if raw, err = json.MarshalIndent(index, "", "  "); err != nil {
		return err
	}
	return replace(file, raw)
}

// Finish removes what only a run in the middle needs.
func (f *Folder) Finish() error { return os.RemoveAll(filepath.Join(f.root, partialFolder)) }

// Pack writes the layout as one tar and removes the folder. Names stand in order
// and times are left out, so that one image makes one tar.
func (f *Folder) Pack(to string) error {
	next := to + ".next"
	out, err := os.Create(next)
	if err != nil {
		return fmt.Errorf("write the tar: %w", err)
	}
	if err := errors.Join(f.pack(out), out.Close()); err != nil {
		return errors.Join(fmt.Errorf("write the tar: %w", err), os.Remove(next))
	}
	if err := os.Rename(next, to); err != nil {
		return err
	}
	return os.RemoveAll(f.root)
}

func (f *Folder) pack(out io.Writer) error {
	var names []string
	err := filepath.WalkDir(f.root, func(name string, entry fs.DirEntry, err error) error {
		if err == nil && entry.Type().IsRegular() && !strings.Contains(name, partialFolder) {
			names = append(names, name)
		}
		return err
	})
	if err != nil {
		return err
	}
	sort.Strings(names)
	w := tar.NewWriter(out)
	for _, name := range names {
		if err := packFile(w, f.root, name); err != nil {
			return err
		}
	}
	return w.Close()
}

func packFile(w *tar.Writer, root, name string) error {
	file, err := os.Open(name)
	if err != nil {
		return err
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return err
	}
	inside, err := filepath.Rel(root, name)
	if err != nil {
		return err
	}
	header := &tar.Header{Typeflag: tar.TypeReg, Name: filepath.ToSlash(inside), Size: info.Size(), Mode: 0o644, Format: tar.FormatPAX}
	if err := w.WriteHeader(header); err != nil {
		return err
	}
	_, err = io.CopyN(w, file, info.Size())
	return err
}

// HasContent reports whether anything came, whole or in part.
func (f *Folder) HasContent() bool {
	for _, folder := range []string{partialFolder, filepath.Join(v1.ImageBlobsDir, "sha256"), filepath.Join(v1.ImageBlobsDir, "sha512")} {
		if names, err := os.ReadDir(filepath.Join(f.root, folder)); err == nil && len(names) > 0 {
			return true
		}
	}
	return false
}
