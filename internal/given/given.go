// Package given reads files that somebody gave or made: only plain files, never more
// of them than is wanted, and without waiting for what a pipe or a device may bring.
package given

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"syscall"
)

// ErrNotPlain: what stands there is a folder, a pipe, a socket or a device.
var ErrNotPlain = errors.New("it is no plain file")

// Opener opens files by name; os.OpenFile and the method of an os.Root are such.
type Opener func(name string, flag int, perm fs.FileMode) (*os.File, error)

// Open opens a plain file for reading and returns it with its size in bytes; the
// caller closes it. It fails with ErrNotPlain, and with fs.ErrNotExist.
func Open(open Opener, name string) (*os.File, int64, error) {
	// Without waiting: a pipe that nobody writes to would never open.
	f, err := open(name, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, 0, err
	}
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = fmt.Errorf("%s: %w", name, ErrNotPlain)
	}
	if err != nil {
		return nil, 0, errors.Join(err, f.Close())
	}
	return f, info.Size(), nil
}

// Read reads a plain file whole, where it has limit bytes at most.
func Read(name string, limit int64) ([]byte, error) {
	f, size, err := Open(os.OpenFile, name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if size > limit {
		return nil, tooLarge(name, limit)
	}
	raw, err := io.ReadAll(io.LimitReader(f, limit+1))
	if err == nil && int64(len(raw)) > limit {
		err = tooLarge(name, limit)
	}
	return raw, err
}

func tooLarge(name string, limit int64) error {
	return fmt.Errorf("%s is larger than the %d KiB that are read of it", name, limit>>10)
}
