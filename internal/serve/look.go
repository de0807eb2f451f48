package serve

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"warthesis/internal/blob"
	"warthesis/internal/config"
)

// LookFolder reports whether the data folder can be used, and whether a service
// uses it now. Nothing is made or changed for good.
func LookFolder(c config.Config) (running bool, found string, err error) {
	folder, err := existing(c.Data)
	if err != nil {
		return false, "", err
	}
	probe, err := os.CreateTemp(folder, ".probe-")
	if err != nil {
		return false, "", fmt.Errorf("%s cannot be written to: %w. Give the folder to the user that the service runs as", folder, err)
	}
	if err := errors.Join(probe.Close(), os.Remove(probe.Name())); err != nil {
		return false, "", err
	}
	if wanted, err := filepath.Abs(c.Data); err != nil || folder != wanted {
		return false, fmt.Sprintf("%s is not there yet and can be made", c.Data), nil
	}
	if _, err := os.Stat(filepath.Join(folder, "lock")); err != nil {
		return false, folder + " can be written to, and no service has used it yet", nil
	}
	if open, err := blob.OpenToOthers(folder); err != nil || len(open) > 0 {
		if err == nil {
			err = fmt.Errorf("other users of this machine may read %s (and %d more). Start the service again: it makes them private", open[0], len(open)-1)
		}
		return false, "", err
	}
	lock, err := blob.LockFolder(folder)
	if err != nil {
		return true, folder + " can be written to, and a service uses it now", nil
	}
	lock.Release()
	return false, folder + " can be written to, and no service uses it now", nil
}

// existing returns the folder, or the nearest one above it that is there.
func existing(folder string) (string, error) {
	folder, err := filepath.Abs(folder)
	if err != nil {
		return "", err
	}
	for {
		info, err := os.Stat(folder)
		if err == nil && !info.IsDir() {
			return "", fmt.Errorf("%s is a file; name a folder", folder)
		}
		if err == nil || folder == filepath.Dir(folder) {
			return folder, err
		}
		folder = filepath.Dir(folder)
	}
}

// LookSpace returns the free space and the size of the disk with the data folder,
// in bytes.
func LookSpace(c config.Config) (left, size int64, err error) {
	folder, err := existing(c.Data)
	if err != nil {
		return 0, 0, err
	}
	return blob.Free(folder)
}
