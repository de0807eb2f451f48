package blob

import (
	"encoding"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"path/filepath"
	"sync"
	"syscall"

	"warthesis/internal/oci"
)

// checkpointEvery is how many bytes an upload takes between two checkpoints that
// it offers by itself.
const checkpointEvery = 64 << 20

// writeBackEvery is how many bytes are written before the kernel is asked to
// start writing them out.
const writeBackEvery = 8 << 20

// bufferSize is half of what one request that sends holds in memory.
const bufferSize = 512 << 10

// Checkpoint is a point from which an upload can go on after a crash: the file is
// on the disk up to Offset, and State is the hash over exactly those bytes.
type Checkpoint struct {
	Algorithm oci.Algorithm
	Offset    int64
	State     []byte
}

// Upload is content on its way in: a staged file and the hash over it. It is not
// safe for concurrent use; its owner hands it from request to request.
type Upload struct {
	store     *Store
	id        string
	path      string
	algorithm oci.Algorithm
	file      file
	hash      hash.Hash
	offset    int64
	// written is the offset up to which write-back was started.
	written int64
	// hashing, where not nil, is closed when the bytes handed over last are in the
	// hash.
	hashing chan struct{}
	// OnCheckpoint, where set, is offered a snapshot every 64 MiB while bytes come
	// in. The snapshot is not yet synced: pass it to Sync before recording it.
	OnCheckpoint func(Checkpoint)
	lastOffered  int64
	// Eager takes bytes as they come, for those who read them meanwhile; OnTake, where set,
	// hears how many the file has.
	Eager  bool
	OnTake func(offset int64)
	// gone tells that the staged file is not open any more.
	gone bool

	mu sync.Mutex
	// inFolder tells that the staged file's name is durable.
	inFolder bool
	// broken is the first failed write or sync: the kernel may have dropped the
	// bytes, so nothing after it may be certified.
	broken error
}

// NewUpload starts an upload. The id becomes a file name and must be unique. It
// fails with oci.CodeStorageFull where the disk is at its floor.
func (s *Store) NewUpload(id string, algorithm oci.Algorithm) (*Upload, error) {
	if err := s.Room(); err != nil {
		return nil, err
	}
	path := filepath.Join(s.root, "incoming", id)
	f, err := s.disk.create(path)
	if err != nil {
		return nil, storageError("start an upload", err)
	}
	s.stage(id, 1)
	return &Upload{store: s, id: id, path: path, algorithm: algorithm, file: f, hash: s.hash(algorithm)}, nil
}

// hash returns a hash that runs along while content comes in.
func (s *Store) hash(algorithm oci.Algorithm) hash.Hash {
	if algorithm == oci.SHA256 {
		return s.gang.Hash()
	}
	return algorithm.Hash()
}

// ReopenUpload goes on from a checkpoint: what the file holds beyond the offset
// was never acknowledged and is cut off. It fails with ErrUnknown where the
// staged file is gone or shorter than the checkpoint says.
func (s *Store) ReopenUpload(id string, c Checkpoint) (*Upload, error) {
	path := filepath.Join(s.root, "incoming", id)
	f, err := s.disk.reopen(path)
	if errors.Is(err, fs.ErrNotExist) && c.Offset == 0 {
		return s.NewUpload(id, c.Algorithm)
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("upload %s: %w", id, ErrUnknown)
	}
	if err != nil {
		return nil, storageError("go on with an upload", err)
	}
	u := &Upload{store: s, id: id, path: path, algorithm: c.Algorithm, file: f, hash: s.hash(c.Algorithm),
		offset: c.Offset, written: c.Offset, lastOffered: c.Offset, inFolder: c.Offset > 0}
	if err := u.rewind(c); err != nil {
		f.Close()
		return nil, err
	}
	s.stage(id, 1)
	return u, nil
}

func (u *Upload) rewind(c Checkpoint) error {
	info, err := u.file.Stat()
	if err != nil {
		return storageError("go on with an upload", err)
	}
	if info.Size() < c.Offset {
		return fmt.Errorf("upload %s: %w", u.id, ErrUnknown)
	}
	if err := u.file.Truncate(c.Offset); err != nil {
		return storageError("go on with an upload", err)
	}
	if _, err := u.file.Seek(c.Offset, io.SeekStart); err != nil {
		return storageError("go on with an upload", err)
	}
	if c.Offset == 0 {
		return nil
	}
	if err := u.hash.(encoding.BinaryUnmarshaler).UnmarshalBinary(c.State); err != nil {
		return fmt.Errorf("read the hash state of upload %s: %w", u.id, err)
	}
	return nil
}

// Offset returns how many bytes the upload holds.
func (u *Upload) Offset() int64 { return u.offset }

// ReadFrom takes bytes until the end of r, or until an error. Bytes that were
// taken before an error of r stay taken; an error of the disk ends the upload for
// good, since nobody can say which of its bytes are still there.
func (u *Upload) ReadFrom(r io.Reader) (taken int64, err error) {
	if err := u.over(); err != nil {
		return 0, err
	}
	defer u.store.gang.Join()()
	// They take turns: while one is hashed, the other is filled.
	buffers := [2]*[bufferSize]byte{newBuffer(), newBuffer()}
	defer func() {
		u.hashed()
		freeBuffers.Put(buffers[0])
		freeBuffers.Put(buffers[1])
	}()
	for turn := 0; ; turn = 1 - turn {
		n, readErr := u.next(r, buffers[turn][:])
		if n > 0 {
			if err := u.take(buffers[turn][:n]); err != nil {
				return taken, err
			}
			taken += int64(n)
		}
		if readErr == io.EOF {
			return taken, nil
		}
		if readErr != nil {
			return taken, readErr
		}
	}
}

// freeBuffers are those that no request uses now.
var freeBuffers sync.Pool

func newBuffer() *[bufferSize]byte {
	if b, ok := freeBuffers.Get().(*[bufferSize]byte); ok {
		return b
	}
	return new([bufferSize]byte)
}

// fill reads until the buffer is full or the reader has an error. Unlike
// io.ReadFull it keeps a clean end apart from a reader that reports a cut one.
func fill(r io.Reader, p []byte) (n int, err error) {
	for n < len(p) && err == nil {
		var m int
		m, err = r.Read(p[n:])
		n += m
	}
	return n, err
}

// take writes, and hashes beside what comes next: p stays the hash's until hashed
// returns. Only bytes that the file took are hashed.
func (u *Upload) take(p []byte) error {
	n, err := u.file.Write(p)
	u.hashed()
	u.hashing = make(chan struct{})
	go func(done chan struct{}) {
		defer close(done)
		u.hash.Write(p[:n])
	}(u.hashing)
	u.offset += int64(n)
	if err != nil {
		return u.fail("write content", err)
	}
	if u.OnTake != nil {
		u.OnTake(u.offset)
	}
	if u.offset-u.written >= writeBackEvery {
		startWriteBack(u.file, u.written, u.offset-u.written)
		u.written = u.offset
	}
	if u.offset-u.lastOffered < checkpointEvery {
		return nil
	}
	u.lastOffered = u.offset
	if err := u.store.Room(); err != nil {
		return err
	}
	if u.OnCheckpoint != nil {
		u.OnCheckpoint(u.snapshot())
	}
	return nil
}

// hashed returns when all bytes taken are in the hash.
func (u *Upload) hashed() {
	if u.hashing != nil {
		<-u.hashing
		u.hashing = nil
	}
}

func (u *Upload) snapshot() Checkpoint {
	u.hashed()
	// The hashes of the standard library all marshal, and do not fail to.
	state, _ := u.hash.(encoding.BinaryMarshaler).MarshalBinary()
	return Checkpoint{Algorithm: u.algorithm, Offset: u.offset, State: state}
}

// Checkpoint syncs the file and returns the point reached, which may then be recorded.
func (u *Upload) Checkpoint() (Checkpoint, error) {
	c := u.snapshot()
	if err := u.Sync(); err != nil {
		return Checkpoint{}, err
	}
	return c, nil
}

// Sync makes all bytes taken so far durable, and the staged file's name with
// them. Alone among the methods it may run beside ReadFrom.
func (u *Upload) Sync() error {
	if err := u.over(); err != nil {
		return err
	}
	if err := u.file.Sync(); err != nil {
		return u.fail("sync content", err)
	}
	if u.nameIsDurable() {
		return nil
	}
	if err := u.store.disk.syncFolder(filepath.Dir(u.path)); err != nil {
		return u.fail("sync content", err)
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	u.inFolder = true
	return nil
}

// Verify checks that the bytes taken are those of the digest. It fails with
// oci.CodeDigestInvalid.
func (u *Upload) Verify(d oci.Digest) error {
	actual, err := u.Digest(d.Algorithm())
	if err != nil {
		return err
	}
	if actual != d {
		return oci.Errorf(oci.CodeDigestInvalid, "the %d bytes that came have the digest %s, not %s; send the content again", u.offset, actual, d)
	}
	return nil
}

// Place puts the bytes, which Verify has passed, to a place of their own: file
// synced, renamed, folder synced. The upload is over, whatever the outcome. The caller
// settles the place once the records have decided about it.
func (u *Upload) Place(d oci.Digest) (Place, error) {
	if err := u.over(); err != nil {
		return Place{}, err
	}
	to := newPlace(d)
	u.store.unsettle(to)
	if err := u.place(u.store.path(to)); err != nil {
		u.store.Settle(to)
		u.Discard()
		return Place{}, err
	}
	u.letGo()
	return to, nil
}

// letGo notes that the upload has no staged file open any more.
func (u *Upload) letGo() {
	if !u.gone {
		u.gone = true
		u.store.stage(u.id, -1)
	}
}

func (u *Upload) place(target string) error {
	if err := u.file.Chmod(0o400); err != nil {
		return u.fail("place content", err)
	}
	if err := u.file.Sync(); err != nil {
		return u.fail("sync content", err)
	}
	if err := u.file.Close(); err != nil {
		return u.fail("place content", err)
	}
	if err := u.store.disk.rename(u.path, target); err != nil {
		return u.fail("place content", err)
	}
	if err := u.store.disk.syncFolder(filepath.Dir(target)); err != nil {
		return u.fail("sync content", err)
	}
	return nil
}

// Digest returns the digest of the bytes taken. The upload's own algorithm runs
// along; for another one the file is read once more.
func (u *Upload) Digest(algorithm oci.Algorithm) (oci.Digest, error) {
	if algorithm == u.algorithm {
		return oci.Digest(fmt.Sprintf("%s:%x", algorithm, u.hash.Sum(nil))), nil
	}
	h := algorithm.Hash()
	if _, err := io.Copy(h, io.NewSectionReader(u.file, 0, u.offset)); err != nil {
		return "", u.fail("read content back", err)
	}
	return oci.Digest(fmt.Sprintf("%s:%x", algorithm, h.Sum(nil))), nil
}

// Close lets go of the file and leaves it on the disk, to be reopened later.
func (u *Upload) Close() {
	u.file.Close()
	u.letGo()
}

// Discard ends the upload and removes what it staged.
func (u *Upload) Discard() {
	u.file.Close()
	// A file that cannot be removed now is a leftover, cleared at the next start.
	_ = u.store.disk.remove(u.path)
	u.letGo()
	_ = u.fail("use the upload", errOver)
}

var errOver = errors.New("the upload is over")

// over returns why the upload takes nothing more, or nil.
func (u *Upload) over() error {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.broken
}

func (u *Upload) nameIsDurable() bool {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.inFolder
}

// fail ends the upload; the first reason stays.
func (u *Upload) fail(what string, err error) error {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.broken == nil {
		u.broken = storageError(what, err)
	}
	return u.broken
}

// storageError gives an error of the disk its kind.
func storageError(what string, err error) error {
	if errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) {
		return &oci.Error{Code: oci.CodeStorageFull, Message: "the registry's disk is full; ask whoever runs the registry to make room"}
	}
	return fmt.Errorf("%s: %w", what, err)
}
