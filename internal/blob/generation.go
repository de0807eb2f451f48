package blob

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
)

// Generation tells which records belong to the blobs of a data folder, and how old they
// are: it is kept beside the blobs and in the records, and raised in both together.
type Generation struct {
	// Registry is a random name of the registry, Number grows with each start, each stop
	// and each hour in between.
	Registry string `json:"registry"`
	Number   int64  `json:"number"`
}

// generationName is the file of the generation in the folder of blobs.
const generationName = "generation"

// mostGeneration bounds the file, in bytes.
const mostGeneration = 4 << 10

// Generation returns the generation beside the blobs, the zero value where there is none.
func (s *Store) Generation() (g Generation, err error) {
	f, err := s.disk.open(filepath.Join(s.root, "blobs", generationName))
	if errors.Is(err, fs.ErrNotExist) {
		return g, nil
	}
	if err != nil {
		return g, fmt.Errorf("read the generation of the blobs: %w", err)
	}
	defer f.Close()
	raw, err := io.ReadAll(io.LimitReader(f, mostGeneration))
	if err == nil {
		err = json.Unmarshal(raw, &g)
	}
	if err != nil {
		return g, fmt.Errorf("read the generation of the blobs (%s): %w", filepath.Join(s.root, "blobs", generationName), err)
	}
	return g, nil
}

// SetGeneration writes the generation beside the blobs, durably.
func (s *Store) SetGeneration(g Generation) error {
	at := filepath.Join(s.root, "blobs", generationName)
	// Plain fields always marshal.
	raw, _ := json.Marshal(g)
	f, err := s.disk.create(at + ".new")
	if err != nil {
		return storageError("write the generation of the blobs", err)
	}
	_, err = f.Write(append(raw, '\n'))
	if err = errors.Join(err, f.Sync(), f.Close()); err == nil {
		err = s.disk.rename(at+".new", at)
	}
	if err == nil {
		err = s.disk.syncFolder(filepath.Dir(at))
	}
	if err != nil {
		return storageError("write the generation of the blobs", err)
	}
	return nil
}

// HasContent reports whether any blob is stored.
func (s *Store) HasContent() (bool, error) {
	for _, folder := range s.Folders() {
		places, err := s.List(folder)
		if err != nil || len(places) > 0 {
			return len(places) > 0, err
		}
	}
	return false, nil
}
