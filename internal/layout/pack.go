package layout

import (
	"archive/tar"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"github.com/opencontainers/image-spec/specs-go/v1"

	"warthesis/internal/given"
)

// Pack writes the images of this run as one tar and removes the folder. What an
// earlier run left in it for another image is not carried along. Names stand in order
// and times are left out, so that one image makes one tar.
func (f *Folder) Pack(to string) error {
	// One that was killed over this leaves it to be written anew: the folder is locked.
	next := to + ".next"
	if err := os.Remove(next); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("write the tar: %w", err)
	}
	out, err := os.OpenFile(next, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return fmt.Errorf("write the tar: %w", err)
	}
	if err := errors.Join(f.pack(out), out.Sync(), out.Close()); err != nil {
		return errors.Join(fmt.Errorf("write the tar: %w", err), os.Remove(out.Name()))
	}
	if err := os.Rename(out.Name(), to); err != nil {
		return errors.Join(err, os.Remove(out.Name()))
	}
	return os.RemoveAll(f.at)
}

// PackTo writes the images of this run as one tar, and leaves the folder as it is.
func (f *Folder) PackTo(out io.Writer) error {
	if err := f.pack(out); err != nil {
		return fmt.Errorf("write the tar: %w", err)
	}
	return nil
}

func (f *Folder) pack(out io.Writer) error {
	w := tar.NewWriter(out)
	names := make([]string, 0, len(f.brought))
	for d := range f.brought {
		names = append(names, blobPath(d))
	}
	slices.Sort(names)
	for _, name := range names {
		if err := f.packFile(w, name); err != nil {
			return err
		}
	}
	raw, err := indexOf(v1.Index{Manifests: f.entries})
	if err != nil {
		return err
	}
	if err := packBytes(w, v1.ImageIndexFile, raw); err != nil {
		return err
	}
	return errors.Join(f.packFile(w, v1.ImageLayoutFile), w.Close())
}

func (f *Folder) packFile(w *tar.Writer, name string) error {
	file, size, err := given.Open(f.root.OpenFile, filepath.FromSlash(name))
	if err != nil {
		return err
	}
	defer file.Close()
	if err := packHeader(w, name, size); err != nil {
		return err
	}
	_, err = io.CopyN(w, file, size)
	return err
}

func packBytes(w *tar.Writer, name string, raw []byte) error {
	if err := packHeader(w, name, int64(len(raw))); err != nil {
		return err
	}
	_, err := w.Write(raw)
	return err
}

func packHeader(w *tar.Writer, name string, size int64) error {
	return w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: name, Size: size, Mode: 0o644, Format: tar.FormatPAX})
}
