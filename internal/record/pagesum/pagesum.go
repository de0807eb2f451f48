// Package pagesum keeps a sum in each page of a SQLite database file and checks it when
// the page is read, so that a bit that flips on the disk is noticed by the first question
// that meets it.
//
// Connections use it by the file system layer that Layer names. The database must reserve
// Reserved bytes in each page: SQLite leaves these alone, so that any program can still
// read the file. A program that writes to it without the layer leaves pages whose sums
// are wrong.
//
// A page with a wrong sum is counted and handed on. What has to stop is decided by the
// caller, who compares a Counter before and after a question.
package pagesum

/*
#cgo CFLAGS: -std=gnu11 -O2
#cgo linux LDFLAGS: -Wl,--unresolved-symbols=ignore-in-object-files
#include <stdlib.h>
#include "pagesum.h"
*/
import "C"

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"
	"time"
	"unsafe"

	// It brings the code of SQLite.
	_ "github.com/mattn/go-sqlite3"
)

const (
	// Layer is the name of the file system layer, for the DSN of a connection.
	Layer = "pagesum"
	// Reserved is how many bytes of each page the sum takes.
	Reserved = 8
)

// Register makes the layer known to SQLite, once. It is safe for concurrent use.
var Register = sync.OnceValue(func() error {
	if code := C.wps_register(); code != 0 {
		return fmt.Errorf("register the page sums with SQLite: result code %d", int(code))
	}
	return nil
})

// Counter counts the pages of one database file that were read with a wrong sum since the
// process started. It is safe for concurrent use.
type Counter struct{ c *C.wps_counter }

// CounterOf returns the counter of a file, which need not exist yet; its folder does.
func CounterOf(path string) (Counter, error) {
	path, err := filepath.Abs(path)
	if err == nil {
		// SQLite names files without symbolic links.
		var folder string
		if folder, err = filepath.EvalSymlinks(filepath.Dir(path)); err == nil {
			path = filepath.Join(folder, filepath.Base(path))
		}
	}
	if err != nil {
		return Counter{}, err
	}
	name := C.CString(path)
	defer C.free(unsafe.Pointer(name))
	c := C.wps_counter_of(name)
	if c == nil {
		return Counter{}, errors.New("no memory for the page sums")
	}
	return Counter{c}, nil
}

// Failures returns how many pages with a wrong sum were read, and the number of the last.
func (c Counter) Failures() (count uint64, page uint32) {
	return uint64(C.wps_failures(c.c)), uint32(C.wps_failed_page(c.c))
}

// sum returns the sum of a page without its last Reserved bytes.
func sum(page []byte, number uint32) uint64 {
	n := len(page) - Reserved
	return uint64(C.wps_sum((*C.uchar)(unsafe.Pointer(&page[0])), C.int(n), C.uint32_t(number)))
}

// File is a database file that is read beside SQLite. Closing any descriptor of the file
// gives up the locks that SQLite has on it in this process: a File is closed after the
// last connection.
type File struct {
	file *os.File
}

// Open opens a database file for checking.
func Open(path string) (*File, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	return &File{f}, nil
}

// Close closes the file. See File for when.
func (f *File) Close() error { return f.file.Close() }

// headerLength is the length of a database's header in bytes (SQLite, "Database File Format").
const headerLength = 100

// ErrNoSums: the database does not reserve bytes for sums.
var ErrNoSums = errors.New("the database has no page sums")

// pageSize returns the size of a page in bytes. It fails with ErrNoSums.
func (f *File) pageSize() (int64, error) {
	header := make([]byte, headerLength)
	if _, err := f.file.ReadAt(header, 0); err != nil {
		return 0, err
	}
	size := int64(binary.BigEndian.Uint16(header[16:]))
	if size == 1 {
		size = 65536
	}
	if size < 512 || size&(size-1) != 0 {
		return 0, errors.New("the header of the database is damaged")
	}
	if header[20] != Reserved {
		return 0, ErrNoSums
	}
	return size, nil
}

// HasSums reports whether the pages of the database have room for sums.
func (f *File) HasSums() (bool, error) {
	_, err := f.pageSize()
	if errors.Is(err, ErrNoSums) || errors.Is(err, io.EOF) {
		return false, nil
	}
	return err == nil, err
}

const (
	// atOnce is how many bytes are read at a time.
	atOnce = 1 << 20
	// tries is how often a page with a wrong sum is read again, and tryAgain how long that
	// waits: SQLite may have been writing it.
	tries    = 5
	tryAgain = 20 * time.Millisecond
)

// Check reads pages from one, counted from 1, and returns the numbers of those whose sums
// are wrong, at most limit of them. It calls between after each MiB, with how many bytes it
// has read, and ends with its error. It returns the page to go on with, 0 at the end.
// It may run beside connections that write. It fails with ErrNoSums.
func (f *File) Check(from uint32, limit int, between func(bytes int) error) (wrong []uint32, next uint32, err error) {
	size, err := f.pageSize()
	if err != nil {
		return nil, 0, err
	}
	buffer := make([]byte, max(atOnce, size))
	for number := max(from, 1); ; {
		n, err := f.file.ReadAt(buffer, int64(number-1)*size)
		if err != nil && !errors.Is(err, io.EOF) {
			return wrong, number, err
		}
		pages := int64(n) / size
		for i := range pages {
			if !isRight(buffer[i*size:(i+1)*size], number+uint32(i)) && f.isWrong(size, number+uint32(i)) {
				if wrong = append(wrong, number+uint32(i)); len(wrong) == limit {
					return wrong, number + uint32(i) + 1, nil
				}
			}
		}
		number += uint32(pages)
		if pages == 0 {
			return wrong, 0, nil
		}
		if err := between(n); err != nil {
			return wrong, number, err
		}
	}
}

func isRight(page []byte, number uint32) bool {
	kept := binary.NativeEndian.Uint64(page[len(page)-Reserved:])
	return kept == sum(page, number)
}

// isWrong reads a page again, and reports whether its sum stays wrong. A page that the file
// lost meanwhile is not.
func (f *File) isWrong(size int64, number uint32) bool {
	page := make([]byte, size)
	for range tries {
		time.Sleep(tryAgain)
		if n, _ := f.file.ReadAt(page, int64(number-1)*size); int64(n) < size || isRight(page, number) {
			return false
		}
	}
	return true
}
