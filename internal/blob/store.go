package blob

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"sync"
	"time"

	"warthesis/internal/blob/lanes"
	"warthesis/internal/oci"
)

// ErrUnknown: the store has no file for the digest.
var ErrUnknown = errors.New("no such content on the disk")

// Store is the bytes of one data folder. It is safe for concurrent use.
type Store struct {
	disk disk
	root string
	gang *lanes.Gang
	// floor is the free space in bytes below which no new content is taken.
	floor func(size int64) int64

	mu sync.Mutex
	// unsettled are the places of which the records have not decided yet.
	unsettled map[Place]bool
	// staged counts how often each upload has its file open.
	staged map[string]int
}

// Options are the settings of a store. The zero value keeps the default floor.
type Options struct {
	// FreeSpace is the space in bytes that uploads leave free. Zero is the
	// smaller of 1 GiB and 2 % of the file system; a negative value is none.
	FreeSpace int64
}

// Open makes what is missing of the folders below root, syncs them, and returns
// the store. The caller holds the lock of the data folder.
func Open(root string, options Options) (*Store, error) {
	return openOn(localDisk{}, root, options)
}

func openOn(d disk, root string, options Options) (*Store, error) {
	s := &Store{disk: d, root: filepath.Clean(root), gang: lanes.NewGang(), unsettled: map[Place]bool{}, staged: map[string]int{},
		floor: func(size int64) int64 { return min(1<<30, size/50) }}
	if options.FreeSpace != 0 {
		s.floor = func(int64) int64 { return max(0, options.FreeSpace) }
	}
	if err := s.makeFolders(); err != nil {
		return nil, fmt.Errorf("prepare the data folder %s: %w", root, err)
	}
	return s, nil
}

// makeFolders creates every folder that content can ever need, once, so that
// placing never has to create and sync a parent.
func (s *Store) makeFolders() error {
	ready := filepath.Join(s.root, "blobs", "folders-ready")
	if _, err := s.disk.stat(ready); err == nil {
		return nil
	}
	for _, folder := range []string{"incoming", "outgoing"} {
		if err := s.disk.mkdirAll(filepath.Join(s.root, folder)); err != nil {
			return err
		}
	}
	for _, algorithm := range []oci.Algorithm{oci.SHA256, oci.SHA512} {
		parent := filepath.Join(s.root, "blobs", algorithm.String())
		for i := range 256 {
			if err := s.disk.mkdirAll(filepath.Join(parent, fmt.Sprintf("%02x", i))); err != nil {
				return err
			}
		}
		if err := s.disk.syncFolder(parent); err != nil {
			return err
		}
	}
	// The marker comes when all that it speaks of is durable: one that survived a
	// power cut alone would hide that folders are missing.
	if err := s.disk.syncFolder(filepath.Join(s.root, "blobs")); err != nil {
		return err
	}
	if err := s.disk.syncFolder(s.root); err != nil {
		return err
	}
	marker, err := s.disk.create(ready)
	if err != nil {
		return err
	}
	return marker.Close()
}

// Open opens the content for reading and returns its size on the disk. It fails
// with ErrUnknown where there is no file. The caller closes the file; content
// that is taken meanwhile stays readable through it.
func (s *Store) Open(p Place) (File, int64, error) {
	f, err := s.disk.open(s.path(p))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, 0, fmt.Errorf("%s: %w", p.Digest, ErrUnknown)
	}
	if err != nil {
		return nil, 0, fmt.Errorf("open content %s: %w", p.Digest, err)
	}
	info, err := f.Stat()
	if err != nil {
		f.Close()
		return nil, 0, fmt.Errorf("open content %s: %w", p.Digest, err)
	}
	return f, info.Size(), nil
}

// Stat returns the size of the content on the disk in bytes, and when its file was
// last changed. It fails with ErrUnknown where there is no file.
func (s *Store) Stat(p Place) (int64, time.Time, error) {
	size, changed, err := s.disk.look(s.path(p))
	if errors.Is(err, fs.ErrNotExist) {
		return 0, time.Time{}, fmt.Errorf("%s: %w", p.Digest, ErrUnknown)
	}
	if err != nil {
		return 0, time.Time{}, fmt.Errorf("look for content %s: %w", p.Digest, err)
	}
	return size, changed, nil
}

// PlaceBytes stores small content whole, durably, at a place of its own. The caller
// has checked that the digest is that of the bytes.
func (s *Store) PlaceBytes(id string, d oci.Digest, raw []byte) (Place, error) {
	u, err := s.NewUpload(id, d.Algorithm())
	if err != nil {
		return Place{}, err
	}
	if _, err := u.ReadFrom(bytes.NewReader(raw)); err != nil {
		u.Discard()
		return Place{}, err
	}
	return u.Place(d)
}

// Take removes the content from its place. The record must be gone first: a crash
// between the two leaves bytes without a record, never the reverse. Content that is
// not there is no error.
func (s *Store) Take(p Place) error {
	if err := s.disk.remove(s.path(p)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("take content %s: %w", p.Digest, err)
	}
	return nil
}

// TakeDurably removes the content from several places, and returns once that survives a
// power loss. What is not there is no error. It goes on after an error.
func (s *Store) TakeDurably(places []Place) error {
	var errs []error
	folders := map[string]bool{}
	for _, p := range places {
		errs = append(errs, s.Take(p))
		folders[filepath.Dir(s.path(p))] = true
	}
	for folder := range folders {
		if err := s.disk.syncFolder(folder); err != nil {
			errs = append(errs, fmt.Errorf("take content: %w", err))
		}
	}
	return errors.Join(errs...)
}

// Room checks that the disk has space for more content above the floor. It fails
// with oci.CodeStorageFull. Records and removals may use what the floor keeps
// free, so that a full disk can be cleaned.
func (s *Store) Room() error {
	left, size, err := s.disk.free(s.root)
	if err != nil {
		return err
	}
	if floor := s.floor(size); left < floor {
		return oci.Errorf(oci.CodeStorageFull, "the registry's disk is full: it has %d MiB left, and keeps %d MiB free; "+
			"ask whoever runs the registry to make room", left>>20, floor>>20)
	}
	return nil
}

// Space returns the bytes that are free on the disk, its size, and how many uploads leave
// free.
func (s *Store) Space() (left, size, floor int64, err error) {
	left, size, err = s.disk.free(s.root)
	return left, size, s.floor(size), err
}

// ClearLeftovers removes what a crash left behind: files on their way out, and
// staged files of uploads that keep does not know.
func (s *Store) ClearLeftovers(keep func(upload string) bool) error {
	for folder, wanted := range map[string]func(string) bool{
		"incoming": keep,
		"outgoing": func(string) bool { return false },
	} {
		names, err := s.disk.list(filepath.Join(s.root, folder))
		if err != nil {
			return fmt.Errorf("look for leftovers: %w", err)
		}
		for _, name := range names {
			if wanted(name) {
				continue
			}
			if err := s.disk.remove(filepath.Join(s.root, folder, name)); err != nil {
				return fmt.Errorf("remove a leftover: %w", err)
			}
		}
	}
	return nil
}
