package blob

import (
	"io/fs"
	"os"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

func (localDisk) free(path string) (left, size int64, err error) {
	var s unix.Statfs_t
	if err := unix.Statfs(path, &s); err != nil {
		return 0, 0, &os.PathError{Op: "statfs", Path: path, Err: err}
	}
	return int64(s.Bavail) * s.Bsize, int64(s.Blocks) * s.Bsize, nil
}

// startWriteBack asks the kernel to begin writing a range of the file out, so
// that the sync at the end finds little left to do. It is a hint: no promise
// rests on it.
func startWriteBack(f file, offset, length int64) {
	if local, ok := f.(*os.File); ok {
		_ = unix.SyncFileRange(int(local.Fd()), offset, length, unix.SYNC_FILE_RANGE_WRITE)
	}
}

// Changed returns when a file was last changed: its bytes, its name or its times.
// Unlike the time of its last writing nobody can set it.
func Changed(info fs.FileInfo) time.Time {
	if kept, ok := info.Sys().(*syscall.Stat_t); ok {
		return time.Unix(kept.Ctim.Unix())
	}
	return info.ModTime()
}

func (localDisk) look(path string) (size int64, changed time.Time, err error) {
	var s unix.Stat_t
	if err := unix.Stat(path, &s); err != nil {
		return 0, time.Time{}, &os.PathError{Op: "stat", Path: path, Err: err}
	}
	return s.Size, time.Unix(s.Ctim.Unix()), nil
}
