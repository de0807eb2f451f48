package blob

import (
	"bytes"
	"errors"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/oci"
)

func open(t *testing.T, root string) *Store {
	s, err := Open(root, Options{FreeSpace: -1})
	require.NoError(t, err)
	return s
}

func read(t *testing.T, s *Store, at Place) []byte {
	f, size, err := s.Open(at)
	require.NoError(t, err)
	defer f.Close()
	raw, err := io.ReadAll(f)
	require.NoError(t, err)
	require.Len(t, raw, int(size))
	return raw
}

func TestContentIsPlacedUnderItsDigestAtAPlaceOfItsOwn(t *testing.T) {
	for _, algorithm := range []oci.Algorithm{oci.SHA256, oci.SHA512} {
		s := open(t, t.TempDir())
		raw := bytes.Repeat([]byte("sleeper"), 100_000)
		d := oci.DigestOf(algorithm, raw)
		// The upload assumes sha256: for another algorithm the file is read once more.
		u, err := s.NewUpload("u", oci.SHA256)
		require.NoError(t, err)
		_, err = u.ReadFrom(bytes.NewReader(raw))
		require.NoError(t, err)
		require.ErrorIs(t, u.Verify(oci.DigestOf(algorithm, []byte("other"))), oci.CodeDigestInvalid)
		require.NoError(t, u.Verify(d))
		at, err := u.Place(d)
		require.NoError(t, err)
		assert.Equal(t, raw, read(t, s, at))
		// The same content again has another place: whoever takes one leaves the other.
		again, err := s.PlaceBytes("again", d, raw)
		require.NoError(t, err)
		require.NoError(t, s.Take(at))
		_, _, err = s.Open(at)
		assert.ErrorIs(t, err, ErrUnknown)
		assert.Equal(t, raw, read(t, s, again))
	}
}

func TestAnUploadGoesOnFromItsCheckpointAndForgetsWhatCameAfter(t *testing.T) {
	root := t.TempDir()
	s := open(t, root)
	raw := bytes.Repeat([]byte("lantern "), 10_000)
	u, err := s.NewUpload("u", oci.SHA256)
	require.NoError(t, err)
	_, err = u.ReadFrom(bytes.NewReader(raw[:30_001]))
	require.NoError(t, err)
	point, err := u.Checkpoint()
	require.NoError(t, err)
	_, err = u.ReadFrom(bytes.NewReader([]byte("never acknowledged")))
	require.NoError(t, err)
	u.Close()

	u, err = open(t, root).ReopenUpload("u", point)
	require.NoError(t, err)
	require.EqualValues(t, 30_001, u.Offset())
	_, err = u.ReadFrom(bytes.NewReader(raw[30_001:]))
	require.NoError(t, err)
	d := oci.DigestOf(oci.SHA256, raw)
	require.NoError(t, u.Verify(d))
	at, err := u.Place(d)
	require.NoError(t, err)
	assert.Equal(t, raw, read(t, s, at))
}

func TestAStagedFileShorterThanItsCheckpointIsNotGoneOnWith(t *testing.T) {
	root := t.TempDir()
	s := open(t, root)
	u, err := s.NewUpload("u", oci.SHA256)
	require.NoError(t, err)
	_, err = u.ReadFrom(bytes.NewReader(make([]byte, 1000)))
	require.NoError(t, err)
	point, err := u.Checkpoint()
	require.NoError(t, err)
	u.Close()
	require.NoError(t, os.Truncate(filepath.Join(root, "incoming", "u"), 999))
	_, err = s.ReopenUpload("u", point)
	assert.ErrorIs(t, err, ErrUnknown)
}

func TestBytesBeforeAFailedReadStay(t *testing.T) {
	s := open(t, t.TempDir())
	u, err := s.NewUpload("u", oci.SHA256)
	require.NoError(t, err)
	gone := errors.New("the sender went away")
	_, err = u.ReadFrom(io.MultiReader(bytes.NewReader([]byte("half of it")), failing{gone}))
	require.ErrorIs(t, err, gone)
	assert.EqualValues(t, len("half of it"), u.Offset())
	require.NoError(t, u.Verify(oci.DigestOf(oci.SHA256, []byte("half of it"))))
}

type failing struct{ error }

func (f failing) Read([]byte) (int, error) { return 0, f.error }

func TestUploadsAreRefusedBelowTheFloorOfFreeSpace(t *testing.T) {
	s, err := Open(t.TempDir(), Options{FreeSpace: 1 << 60})
	require.NoError(t, err)
	_, err = s.NewUpload("u", oci.SHA256)
	assert.ErrorIs(t, err, oci.CodeStorageFull)
}

func TestOnlyOneProcessHasADataFolder(t *testing.T) {
	root := t.TempDir()
	first, err := LockFolder(root)
	require.NoError(t, err)
	_, err = LockFolder(root)
	assert.ErrorContains(t, err, "another warthesis process")
	first.Release()
	again, err := LockFolder(root)
	require.NoError(t, err)
	again.Release()
}

func TestLeftoversOfACrashAreCleared(t *testing.T) {
	root := t.TempDir()
	s := open(t, root)
	for _, name := range []string{"incoming/known", "incoming/unknown", "outgoing/1-abc"} {
		require.NoError(t, os.WriteFile(filepath.Join(root, name), nil, 0o644))
	}
	require.NoError(t, s.ClearLeftovers(func(id string) bool { return id == "known" }))
	assert.FileExists(t, filepath.Join(root, "incoming/known"))
	assert.NoFileExists(t, filepath.Join(root, "incoming/unknown"))
	assert.NoFileExists(t, filepath.Join(root, "outgoing/1-abc"))
}

// A sweep must not see what is on its way between the disk and the records, and must
// see what nobody knows of.
func TestPlacesAreListedOnceTheyAreSettled(t *testing.T) {
	root := t.TempDir()
	s := open(t, root)
	raw := bytes.Repeat([]byte("track"), 1<<19)
	d := oci.DigestOf(oci.SHA256, raw)
	at, err := s.PlaceBytes("one", d, raw)
	require.NoError(t, err)
	found, err := s.PlacesOf(d)
	require.NoError(t, err)
	assert.Empty(t, found, "the records have not decided")
	s.Settle(at)
	require.NoError(t, os.WriteFile(filepath.Join(root, "blobs", "sha256", d.Encoded()[:2], "notes.txt"), nil, 0o600))
	found, err = s.PlacesOf(d)
	require.NoError(t, err)
	assert.Equal(t, []Place{at}, found)

	var read bytes.Buffer
	size, err := s.ReadThrough(at, func(p []byte) error { read.Write(p); return nil })
	require.NoError(t, err)
	assert.EqualValues(t, len(raw), size)
	assert.Equal(t, raw, read.Bytes())

	require.NoError(t, s.SetAside(at))
	_, _, err = s.Open(at)
	require.ErrorIs(t, err, ErrUnknown)
	_, err = s.ReadThrough(at, nil)
	require.ErrorIs(t, err, ErrUnknown)
	aside, err := os.ReadDir(filepath.Join(root, "set-aside"))
	require.NoError(t, err)
	require.Len(t, aside, 1)
	listed, err := s.Aside()
	require.NoError(t, err)
	assert.Equal(t, []oci.Digest{d}, listed)
	require.NoError(t, s.TakeAside(d))
	aside, err = os.ReadDir(filepath.Join(root, "set-aside"))
	require.NoError(t, err)
	assert.Empty(t, aside)

	upload, err := s.NewUpload("open", oci.SHA256)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(root, "incoming", "left"), []byte("four"), 0o600))
	left, err := s.Leftovers()
	require.NoError(t, err)
	assert.Equal(t, map[string]int64{"left": 4}, left)
	require.NoError(t, s.TakeLeftover("open"))
	upload.Close()
	left, err = s.Leftovers()
	require.NoError(t, err)
	assert.Len(t, left, 2, "one that is open is none, and is not taken")
}
