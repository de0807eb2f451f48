package blob

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"syscall"
)

// ErrLocked: another process has the data folder.
var ErrLocked = errors.New("another warthesis process has the data folder")

// Lock is the claim of one process on a data folder.
type Lock struct{ file *os.File }

// LockFolder claims the data folder, and makes it where it is missing. It fails
// with ErrLocked at once where another process has it; the claim of a process that died is void.
func LockFolder(root string) (*Lock, error) {
	if err := MakeFolder(root); err != nil {
		return nil, fmt.Errorf("make the data folder: %w", err)
	}
	if err := (localDisk{}).syncFolder(filepath.Dir(filepath.Clean(root))); err != nil {
		return nil, fmt.Errorf("make the data folder: %w", err)
	}
	f, err := os.OpenFile(filepath.Join(root, "lock"), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, fmt.Errorf("claim the data folder: %w", err)
	}
	err = syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
	if err == nil {
		return &Lock{f}, nil
	}
	f.Close()
	if errors.Is(err, syscall.EWOULDBLOCK) {
		return nil, fmt.Errorf("%w %s; stop it first, or choose another folder with --data", ErrLocked, root)
	}
	return nil, fmt.Errorf("claim the data folder %s: %w", root, err)
}

// Release gives the data folder free.
func (l *Lock) Release() { l.file.Close() }
