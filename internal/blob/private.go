package blob

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// othersMode are the permission bits of everyone but the owner.
const othersMode fs.FileMode = 0o077

// OpenToOthers returns the parts of a data folder that users other than the owner may
// read, write or enter: the folder itself, its folders, and the files directly in it and
// in its small folders. Blobs are not listed one by one: their folders keep others out.
// A folder that does not exist has no such parts.
func OpenToOthers(root string) (open []string, err error) {
	err = eachPrivate(root, func(path string, info fs.FileInfo) error {
		if info.Mode().Perm()&othersMode != 0 {
			open = append(open, path)
		}
		return nil
	})
	return open, err
}

// MakePrivate takes every permission of other users away from the parts that
// OpenToOthers returns, and returns those that it changed. Blobs are left alone: a
// changed mode would count as a changed file.
func MakePrivate(root string) (changed []string, err error) {
	err = eachPrivate(root, func(path string, info fs.FileInfo) error {
		if info.Mode().Perm()&othersMode == 0 {
			return nil
		}
		changed = append(changed, path)
		return os.Chmod(path, info.Mode().Perm()&^othersMode)
	})
	if err != nil {
		return changed, fmt.Errorf("make the data folder private: %w; give the folder to the user that runs the service", err)
	}
	return changed, nil
}

// eachPrivate calls do for each folder of the data folder, and for each file outside the
// folders of blobs. Symbolic links are not followed.
func eachPrivate(root string, do func(string, fs.FileInfo) error) error {
	blobs := filepath.Join(root, "blobs") + string(filepath.Separator)
	return filepath.WalkDir(root, func(path string, entry fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		if !entry.IsDir() && !entry.Type().IsRegular() {
			return nil
		}
		info, err := entry.Info()
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		err = do(path, info)
		// A folder of blobs may have any number of files.
		if inside, is := strings.CutPrefix(path, blobs); err == nil && is && entry.IsDir() && strings.Contains(inside, string(filepath.Separator)) {
			err = fs.SkipDir
		}
		return err
	})
}

// MakeFolder makes a folder, with missing parents, that only its owner may enter,
// whatever the umask. The mode of a folder that exists is not changed.
func MakeFolder(path string) error {
	if info, err := os.Stat(path); err == nil && info.IsDir() {
		return nil
	}
	if parent := filepath.Dir(path); parent != path {
		if err := MakeFolder(parent); err != nil {
			return err
		}
	}
	if err := os.Mkdir(path, 0o700); err != nil {
		if errors.Is(err, fs.ErrExist) {
			return nil
		}
		return err
	}
	return os.Chmod(path, 0o700)
}

// createPrivate opens a file that only its owner may read and write, whatever the umask,
// and empties one that exists.
func createPrivate(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return nil, err
	}
	if err := f.Chmod(0o600); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}
