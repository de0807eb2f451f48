package blob

import (
	"io"
	"io/fs"
	"os"
	"time"
)

// disk is the narrow seam between the store and the file system: every step whose
// order or durability the promises rest on goes through it, so that tests can run
// the store on a disk that forgets what was not synced, or that fails.
type disk interface {
	// create opens a new file for reading and writing; one that exists is emptied.
	create(path string) (file, error)
	// reopen opens an existing file for reading and writing.
	reopen(path string) (file, error)
	// open opens a file for reading only.
	open(path string) (File, error)
	stat(path string) (fs.FileInfo, error)
	// look is stat for what is asked at each request: the size, and when the file was
	// last changed.
	look(path string) (size int64, changed time.Time, err error)
	rename(from, to string) error
	remove(path string) error
	mkdirAll(path string) error
	// list returns the names in a folder, in no order.
	list(path string) ([]string, error)
	// syncFolder makes renames, creations and removals in the folder durable.
	syncFolder(path string) error
	// readThrough reads a file piece by piece from where it lies, not from memory, and
	// returns its size.
	readThrough(path string, each func(piece []byte) error) (size int64, err error)
	// free returns the bytes a writer without privileges may still use and the
	// size of the file system.
	free(path string) (left, size int64, err error)
}

// File is an open blob. On a real disk it is an *os.File, which a socket can take
// without copying through the process.
type File interface {
	io.ReadSeekCloser
	io.ReaderAt
	Stat() (fs.FileInfo, error)
}

// file is a file being written.
type file interface {
	File
	io.Writer
	Truncate(size int64) error
	Chmod(mode fs.FileMode) error
	// Sync makes the bytes written so far durable.
	Sync() error
}

// localDisk is the operating system's file system.
type localDisk struct{}

func (localDisk) create(path string) (file, error) {
	// A nil *os.File must not become a file.
	f, err := createPrivate(path)
	if err != nil {
		return nil, err
	}
	return f, nil
}

func (localDisk) reopen(path string) (file, error) { return os.OpenFile(path, os.O_RDWR, 0) }

func (localDisk) open(path string) (File, error) { return os.Open(path) }

func (localDisk) stat(path string) (fs.FileInfo, error) { return os.Stat(path) }

func (localDisk) rename(from, to string) error { return os.Rename(from, to) }

func (localDisk) remove(path string) error { return os.Remove(path) }

func (localDisk) mkdirAll(path string) error { return MakeFolder(path) }

func (localDisk) list(path string) ([]string, error) {
	folder, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	return folder.Readdirnames(-1)
}

func (localDisk) syncFolder(path string) error {
	folder, err := os.Open(path)
	if err != nil {
		return err
	}
	defer folder.Close()
	return folder.Sync()
}

// Free returns the bytes that a writer without privileges may still use on the file
// system of a folder, and its size.
func Free(folder string) (left, size int64, err error) { return localDisk{}.free(folder) }
