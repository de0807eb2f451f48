package blob

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"warthesis/internal/oci"
)

// Folder is one of the folders that hold content.
type Folder struct {
	Algorithm oci.Algorithm
	// Begins are the first two digits of all digests in it.
	Begins string
}

// From returns the first digest that can be in the folder, and the first behind it.
func (f Folder) From() (from, before oci.Digest) {
	at := f.Algorithm.String() + ":" + f.Begins
	// "g" comes behind every hex digit.
	return oci.Digest(at), oci.Digest(at + "g")
}

// FolderOf returns the folder that holds the content of a digest.
func FolderOf(d oci.Digest) Folder { return Folder{d.Algorithm(), d.Encoded()[:2]} }

// Folders returns all folders that hold content, in order.
func (s *Store) Folders() []Folder {
	var all []Folder
	for _, algorithm := range []oci.Algorithm{oci.SHA256, oci.SHA512} {
		for i := range 256 {
			all = append(all, Folder{algorithm, fmt.Sprintf("%02x", i)})
		}
	}
	return all
}

// List returns the places in a folder that are settled, in no order: what is being
// placed just now is left out, and what is no place.
func (s *Store) List(f Folder) ([]Place, error) {
	names, err := s.disk.list(filepath.Join(s.root, "blobs", f.Algorithm.String(), f.Begins))
	if err != nil {
		return nil, fmt.Errorf("list the content on the disk: %w", err)
	}
	places := make([]Place, 0, len(names))
	for _, name := range names {
		hex, suffix, _ := strings.Cut(name, ".")
		d, err := oci.ParseDigest(f.Algorithm.String() + ":" + hex)
		if err != nil || !strings.HasPrefix(hex, f.Begins) {
			continue
		}
		places = append(places, Place{d, suffix})
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.DeleteFunc(places, func(p Place) bool { return s.unsettled[p] }), nil
}

// PlacesOf returns all places of one digest on the disk.
func (s *Store) PlacesOf(d oci.Digest) ([]Place, error) {
	all, err := s.List(FolderOf(d))
	return slices.DeleteFunc(all, func(p Place) bool { return p.Digest != d }), err
}

// Settle says that the records have decided about a place that was made: they name it,
// or they do not and it was taken. Until then no sweep sees it.
func (s *Store) Settle(p Place) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.unsettled, p)
}

func (s *Store) unsettle(p Place) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.unsettled[p] = true
}

// IsSettled reports whether the records have decided about a place.
func (s *Store) IsSettled(p Place) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return !s.unsettled[p]
}

// stage counts how often an upload has its file open.
func (s *Store) stage(id string, by int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.staged[id] += by; s.staged[id] <= 0 {
		delete(s.staged, id)
	}
}

// Leftovers returns the names and sizes of staged files that no upload has open: those of
// uploads that are gone on with later, and what a removal that failed left behind.
func (s *Store) Leftovers() (map[string]int64, error) {
	names, err := s.disk.list(filepath.Join(s.root, "incoming"))
	if err != nil {
		return nil, fmt.Errorf("look for leftovers: %w", err)
	}
	found := map[string]int64{}
	for _, name := range names {
		if s.isStaged(name) {
			continue
		}
		info, err := s.disk.stat(filepath.Join(s.root, "incoming", name))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("look for leftovers: %w", err)
		}
		found[name] = info.Size()
	}
	return found, nil
}

func (s *Store) isStaged(id string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.staged[id] > 0
}

// TakeLeftover removes a staged file that no upload has open.
func (s *Store) TakeLeftover(name string) error {
	if s.isStaged(name) || name != filepath.Base(name) {
		return nil
	}
	err := s.disk.remove(filepath.Join(s.root, "incoming", name))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("remove a leftover: %w", err)
	}
	return nil
}

// ReadThrough reads what lies at a place from the disk itself, past what the system
// remembers of files, so that neither is served from there nor pushed out of it. each
// gets piece after piece, and ends it by an error. It returns how many bytes there are.
// It fails with ErrUnknown where there is no file.
func (s *Store) ReadThrough(p Place, each func(piece []byte) error) (size int64, err error) {
	size, err = s.disk.readThrough(s.path(p), each)
	if errors.Is(err, fs.ErrNotExist) {
		err = fmt.Errorf("%s: %w", p.Digest, ErrUnknown)
	}
	return size, err
}

// SetAside moves content that is not what it should be out of every reader's way, and
// keeps it. What is not there is no error.
func (s *Store) SetAside(p Place) error {
	aside := filepath.Join(s.root, "set-aside")
	if err := errors.Join(s.disk.mkdirAll(aside), s.disk.syncFolder(s.root)); err != nil {
		return fmt.Errorf("set content aside: %w", err)
	}
	from := s.path(p)
	err := s.disk.rename(from, filepath.Join(aside, p.Digest.Algorithm().String()+"-"+filepath.Base(from)))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err == nil {
		err = errors.Join(s.disk.syncFolder(aside), s.disk.syncFolder(filepath.Dir(from)))
	}
	if err != nil {
		return fmt.Errorf("set content aside: %w", err)
	}
	return nil
}

// Aside returns the digests of which something is set aside, in no order.
func (s *Store) Aside() (all []oci.Digest, err error) {
	names, err := s.disk.list(filepath.Join(s.root, "set-aside"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	for _, name := range names {
		algorithm, rest, _ := strings.Cut(name, "-")
		hex, _, _ := strings.Cut(rest, ".")
		if d, err := oci.ParseDigest(algorithm + ":" + hex); err == nil {
			all = append(all, d)
		}
	}
	return all, err
}

// TakeAside removes what was set aside of a digest, durably.
func (s *Store) TakeAside(d oci.Digest) error {
	aside := filepath.Join(s.root, "set-aside")
	names, err := s.disk.list(aside)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	taken := false
	for _, name := range names {
		if rest, is := strings.CutPrefix(name, d.Algorithm().String()+"-"+d.Encoded()); is && (rest == "" || rest[0] == '.') {
			err, taken = errors.Join(err, s.disk.remove(filepath.Join(aside, name))), true
		}
	}
	if taken {
		err = errors.Join(err, s.disk.syncFolder(aside))
	}
	return err
}
