package blob

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"path/filepath"
	"runtime"
	"strings"
	"time"
)

// simulated is a disk that forgets what was not synced. Bytes that were written
// and names that were changed are seen at once by who uses it, and survive a
// power cut for certain only once the file, or the folder, was synced; without
// that each of them survives or not, as chance has it.
type simulated struct {
	root  *folderNode
	steps int
	// cutAt is the step from which on nothing works any more; 0 for never.
	cutAt int
	// failAt is the one step that fails with failWith; 0 for never.
	failAt   int
	failWith error
	// lame is the place in the code whose syncs do nothing, as "file.go:12".
	lame string
	// sites collects the places that sync.
	sites map[string]bool
}

var errCut = errors.New("the power is out")

type node interface{ copyAfterCut(*rand.Rand) node }

type fileNode struct {
	seen, synced []byte
}

// copyAfterCut is what a power cut leaves: what was synced for certain, of the
// rest all, nothing, or the length alone.
func (f *fileNode) copyAfterCut(r *rand.Rand) node {
	left := append([]byte{}, f.synced...)
	switch r.IntN(3) {
	case 0:
		left = append([]byte{}, f.seen...)
	case 1:
		if len(f.seen) > len(left) {
			left = append(left, make([]byte, len(f.seen)-len(left))...)
		}
	}
	return &fileNode{left, append([]byte{}, left...)}
}

type folderNode struct {
	seen, synced map[string]node
}

func newFolder() *folderNode { return &folderNode{map[string]node{}, map[string]node{}} }

func (f *folderNode) copyAfterCut(r *rand.Rand) node {
	left := newFolder()
	names := map[string]bool{}
	for name := range f.seen {
		names[name] = true
	}
	for name := range f.synced {
		names[name] = true
	}
	for name := range names {
		kept := f.synced[name]
		if r.IntN(2) == 0 {
			kept = f.seen[name]
		}
		if kept != nil {
			copied := kept.copyAfterCut(r)
			left.seen[name], left.synced[name] = copied, copied
		}
	}
	return left
}

// newSimulated returns a disk with an empty data folder, which LockFolder has made.
func newSimulated() *simulated {
	root, data := newFolder(), newFolder()
	root.seen["data"], root.synced["data"] = data, data
	return &simulated{root: root, sites: map[string]bool{}}
}

// afterCut returns the disk as it is found after the power came back.
func (d *simulated) afterCut(r *rand.Rand) *simulated {
	next := newSimulated()
	next.root = d.root.copyAfterCut(r).(*folderNode)
	return next
}

// step counts one use of the disk, and says whether it still works.
func (d *simulated) step() error {
	d.steps++
	if d.cutAt > 0 && d.steps >= d.cutAt {
		return errCut
	}
	if d.steps == d.failAt {
		return d.failWith
	}
	return nil
}

// syncs reports whether a sync from this place in the code does anything.
func (d *simulated) syncs() bool {
	for skip := 2; ; skip++ {
		_, file, line, ok := runtime.Caller(skip)
		if !ok {
			return true
		}
		if base := filepath.Base(file); !strings.HasSuffix(base, "_test.go") {
			site := fmt.Sprintf("%s:%d", base, line)
			d.sites[site] = true
			return site != d.lame
		}
	}
}

func (d *simulated) parent(path string) (*folderNode, string, error) {
	words := strings.Split(strings.Trim(filepath.ToSlash(path), "/"), "/")
	at := d.root
	for _, word := range words[:len(words)-1] {
		next, ok := at.seen[word].(*folderNode)
		if !ok {
			return nil, "", &fs.PathError{Op: "open", Path: path, Err: fs.ErrNotExist}
		}
		at = next
	}
	return at, words[len(words)-1], nil
}

func (d *simulated) find(path string) (node, error) {
	if strings.Trim(path, "/") == "" {
		return d.root, nil
	}
	at, name, err := d.parent(path)
	if err != nil {
		return nil, err
	}
	if n := at.seen[name]; n != nil {
		return n, nil
	}
	return nil, &fs.PathError{Op: "open", Path: path, Err: fs.ErrNotExist}
}

func (d *simulated) create(path string) (file, error) {
	if err := d.step(); err != nil {
		return nil, err
	}
	at, name, err := d.parent(path)
	if err != nil {
		return nil, err
	}
	f := &fileNode{}
	at.seen[name] = f
	return &handle{disk: d, node: f}, nil
}

func (d *simulated) reopen(path string) (file, error) {
	if err := d.step(); err != nil {
		return nil, err
	}
	n, err := d.find(path)
	if err != nil {
		return nil, err
	}
	return &handle{disk: d, node: n.(*fileNode)}, nil
}

func (d *simulated) open(path string) (File, error) { return d.reopen(path) }

func (d *simulated) readThrough(path string, each func([]byte) error) (int64, error) {
	f, err := d.reopen(path)
	if err != nil {
		return 0, err
	}
	raw, err := io.ReadAll(f)
	if err == nil {
		err = each(raw)
	}
	return int64(len(raw)), err
}

func (d *simulated) look(path string) (int64, time.Time, error) {
	info, err := d.stat(path)
	if err != nil {
		return 0, time.Time{}, err
	}
	return info.Size(), Changed(info), nil
}

func (d *simulated) stat(path string) (fs.FileInfo, error) {
	n, err := d.find(path)
	if err != nil {
		return nil, err
	}
	if f, ok := n.(*fileNode); ok {
		return info{size: int64(len(f.seen))}, nil
	}
	return info{}, nil
}

func (d *simulated) rename(from, to string) error {
	if err := d.step(); err != nil {
		return err
	}
	source, sourceName, err := d.parent(from)
	if err != nil {
		return err
	}
	n := source.seen[sourceName]
	if n == nil {
		return &fs.PathError{Op: "rename", Path: from, Err: fs.ErrNotExist}
	}
	target, targetName, err := d.parent(to)
	if err != nil {
		return err
	}
	delete(source.seen, sourceName)
	target.seen[targetName] = n
	return nil
}

func (d *simulated) remove(path string) error {
	if err := d.step(); err != nil {
		return err
	}
	at, name, err := d.parent(path)
	if err != nil {
		return err
	}
	delete(at.seen, name)
	return nil
}

func (d *simulated) mkdirAll(path string) error {
	if err := d.step(); err != nil {
		return err
	}
	at := d.root
	for _, word := range strings.Split(strings.Trim(path, "/"), "/") {
		if at.seen[word] == nil {
			at.seen[word] = newFolder()
		}
		at = at.seen[word].(*folderNode)
	}
	return nil
}

func (d *simulated) list(path string) ([]string, error) {
	n, err := d.find(path)
	if err != nil {
		return nil, err
	}
	var names []string
	for name := range n.(*folderNode).seen {
		names = append(names, name)
	}
	return names, nil
}

func (d *simulated) syncFolder(path string) error {
	if err := d.step(); err != nil {
		return err
	}
	n, err := d.find(path)
	if err != nil {
		return err
	}
	if !d.syncs() {
		return nil
	}
	at := n.(*folderNode)
	at.synced = map[string]node{}
	for name, child := range at.seen {
		at.synced[name] = child
	}
	return nil
}

func (d *simulated) free(string) (left, size int64, err error) { return 1 << 40, 1 << 41, nil }

// handle is an open file of the simulated disk.
type handle struct {
	disk *simulated
	node *fileNode
	at   int64
}

func (h *handle) Read(p []byte) (int, error) {
	n, err := h.ReadAt(p, h.at)
	h.at += int64(n)
	return n, err
}

func (h *handle) ReadAt(p []byte, offset int64) (int, error) {
	if offset >= int64(len(h.node.seen)) {
		return 0, io.EOF
	}
	n := copy(p, h.node.seen[offset:])
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

// Write may take a part of the bytes before it fails, as real disks do.
func (h *handle) Write(p []byte) (int, error) {
	err := h.disk.step()
	if err != nil {
		p = p[:len(p)/2]
	}
	if grown := h.at + int64(len(p)); grown > int64(len(h.node.seen)) {
		h.node.seen = append(h.node.seen[:len(h.node.seen):len(h.node.seen)], make([]byte, grown-int64(len(h.node.seen)))...)
	}
	copy(h.node.seen[h.at:], p)
	h.at += int64(len(p))
	return len(p), err
}

func (h *handle) Seek(offset int64, _ int) (int64, error) {
	h.at = offset
	return offset, nil
}

func (h *handle) Truncate(size int64) error {
	if err := h.disk.step(); err != nil {
		return err
	}
	h.node.seen = append([]byte{}, h.node.seen[:size]...)
	return nil
}

func (h *handle) Sync() error {
	if err := h.disk.step(); err != nil {
		return err
	}
	if h.disk.syncs() {
		h.node.synced = append([]byte{}, h.node.seen...)
	}
	return nil
}

func (h *handle) Chmod(fs.FileMode) error { return nil }

func (h *handle) Close() error { return nil }

func (h *handle) Stat() (fs.FileInfo, error) { return info{size: int64(len(h.node.seen))}, nil }

type info struct{ size int64 }

func (i info) Name() string     { return "" }
func (i info) Size() int64      { return i.size }
func (info) Mode() fs.FileMode  { return 0 }
func (info) ModTime() time.Time { return time.Time{} }
func (info) IsDir() bool        { return false }
func (info) Sys() any           { return nil }
