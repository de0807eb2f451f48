package blob

import (
	"errors"
	"io/fs"
	"os"
	"syscall"
	"time"
	"unsafe"

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

const (
	// readAtOnce is how much is read from the disk at a time, and readAligned what the
	// memory for it must begin at, for a read that passes by what the system remembers.
	readAtOnce  = 1 << 20
	readAligned = 4096
)

// readThrough reads a file by O_DIRECT where the file system has it. Where it has not,
// what was read is let go of again.
func (localDisk) readThrough(path string, each func([]byte) error) (size int64, err error) {
	f, err := os.OpenFile(path, os.O_RDONLY|unix.O_DIRECT, 0)
	direct := err == nil
	if errors.Is(err, unix.EINVAL) {
		f, err = os.Open(path)
	}
	if err != nil {
		return 0, err
	}
	defer f.Close()
	raw := make([]byte, readAtOnce+readAligned)
	shift := int(-uintptr(unsafe.Pointer(&raw[0])) & (readAligned - 1))
	buffer := raw[shift : shift+readAtOnce]
	for {
		// One call: a second one for the rest of a last piece would not be aligned.
		n, err := unix.Pread(int(f.Fd()), buffer, size)
		if errors.Is(err, unix.EINTR) {
			continue
		}
		if err != nil {
			return size, &os.PathError{Op: "read", Path: path, Err: err}
		}
		if n > 0 {
			if err := each(buffer[:n]); err != nil {
				return size, err
			}
			if !direct {
				_ = unix.Fadvise(int(f.Fd()), size, int64(n), unix.FADV_DONTNEED)
			}
			size += int64(n)
		}
		if n == 0 || direct && n%readAligned != 0 {
			return size, nil
		}
	}
}
