package sweep

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"warthesis/internal/record/unheld"
	"warthesis/internal/registry"
)

// Reports are the reports of runs, thing by thing: a file a run. While a run goes there
// are three: its plan, a thing a line; its report so far; and what became of each thing, a
// byte each, so that a run that was cut goes on behind the last.
type Reports struct{ folder string }

// OpenReports returns the reports in a folder, which is made where it is missing.
func OpenReports(folder string) (Reports, error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return Reports{}, fmt.Errorf("prepare the reports: %w", err)
	}
	return Reports{folder}, nil
}

const (
	planEnd = ".plan"
	sumsEnd = ".sums"
	doneEnd = ".done"
	listEnd = ".list.gz"
)

// What became of a thing.
const (
	wentMark   = '+'
	stayedMark = '-'
)

func (r Reports) file(run int64, end string) string {
	return filepath.Join(r.folder, "run-"+strconv.FormatInt(run, 10)+end)
}

// planFile is a plan that is being written.
type planFile struct {
	reports Reports
	run     int64
	file    *os.File
	out     *bufio.Writer
	ended   bool
}

func (r Reports) begin(run int64) (*planFile, error) {
	f, err := os.OpenFile(r.file(run, planEnd+".new"), os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return nil, fmt.Errorf("write a plan: %w", err)
	}
	return &planFile{reports: r, run: run, file: f, out: bufio.NewWriterSize(f, 256<<10)}, nil
}

func (p *planFile) add(found []byte) error {
	if _, err := p.out.Write(found); err != nil {
		return err
	}
	return p.out.WriteByte('\n')
}

func (p *planFile) found(f unheld.Found) error {
	raw, err := json.Marshal(f)
	if err != nil {
		return err
	}
	return p.add(raw)
}

// end makes the plan one that counts. It need not be durable: after a power cut it is made
// anew.
func (p *planFile) end(report Report) error {
	err := errors.Join(p.out.Flush(), p.file.Close(), os.WriteFile(p.reports.file(p.run, sumsEnd), []byte(report.facts()), 0o600),
		os.WriteFile(p.reports.file(p.run, doneEnd), nil, 0o600), os.Rename(p.file.Name(), p.reports.file(p.run, planEnd)))
	p.ended = err == nil
	if err != nil {
		return fmt.Errorf("write a plan: %w", err)
	}
	return nil
}

// drop lets go of a plan that did not come to its end.
func (p *planFile) drop() {
	if !p.ended {
		p.file.Close()
		// What is left is cleared with the run.
		_ = os.Remove(p.file.Name())
	}
}

// plan is a plan that is being carried out.
type plan struct {
	file, done *os.File
	in         *bufio.Scanner
	// ahead is a finding that was read and not given yet.
	ahead *unheld.Found
	// at is how many are decided of total.
	at, total int64
	report    Report
	// kept are the manifests that were to be deleted and were not.
	kept []int64
}

// mostLine bounds a line of a plan, in bytes.
const mostLine = 64 << 10

// open opens the plan of a run, behind what is decided; nil where there is none.
func (r Reports) open(run int64) (_ *plan, err error) {
	p := &plan{}
	if p.file, err = os.Open(r.file(run, planEnd)); errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	defer func() {
		if err != nil {
			p.close()
			err = fmt.Errorf("go on with a plan: %w", err)
		}
	}()
	if err != nil {
		return nil, err
	}
	raw, err := os.ReadFile(r.file(run, sumsEnd))
	if err == nil {
		err = json.Unmarshal(raw, &p.report)
	}
	if err != nil {
		return nil, err
	}
	if p.done, err = os.OpenFile(r.file(run, doneEnd), os.O_RDWR, 0); err != nil {
		return nil, err
	}
	marks, err := io.ReadAll(p.done)
	if err != nil {
		return nil, err
	}
	p.total = total(p.report.Goes)
	p.in = bufio.NewScanner(p.file)
	p.in.Buffer(nil, mostLine)
	for _, mark := range marks {
		f, err := p.read()
		if err != nil || f == nil {
			return nil, errors.Join(err, io.ErrUnexpectedEOF)
		}
		p.count(*f, mark == wentMark)
		// What it freed is not known any more, but for its size.
		if mark == wentMark && (f.Kind == unheld.Blob || f.Kind == unheld.Stray || f.Kind == unheld.Leftover) {
			p.report.Freed, p.report.Files = p.report.Freed+f.Size, p.report.Files+1
		}
	}
	return p, nil
}

func (p *plan) close() {
	for _, f := range []*os.File{p.file, p.done} {
		if f != nil {
			f.Close()
		}
	}
}

func (p *plan) read() (*unheld.Found, error) {
	if !p.in.Scan() {
		return nil, p.in.Err()
	}
	var f unheld.Found
	return &f, json.Unmarshal(p.in.Bytes(), &f)
}

// next returns up to size findings of one kind, of which most has the most; none at the end.
func (p *plan) next(size int, most func(unheld.Kind) int) (found []unheld.Found, err error) {
	for {
		f := p.ahead
		if f == nil {
			if f, err = p.read(); err != nil || f == nil {
				return found, err
			}
		}
		if p.ahead = nil; len(found) > 0 && (f.Kind != found[0].Kind || len(found) >= min(size, most(f.Kind))) {
			p.ahead = f
			return found, nil
		}
		found = append(found, *f)
	}
}

func (p *plan) count(f unheld.Found, went bool) {
	p.at++
	if f.Kind == unheld.Manifest && !went {
		p.kept = append(p.kept, f.ID)
	}
	sums := &p.report.Since
	if went {
		sums = &p.report.Taken
	}
	why := f.Why
	if !went {
		why = unheld.Since
	}
	for i := range *sums {
		if sum := &(*sums)[i]; sum.Kind == f.Kind && sum.Why == why {
			sum.Count, sum.Bytes = sum.Count+1, sum.Bytes+f.Size
			return
		}
	}
	*sums = append(*sums, unheld.Sum{Kind: f.Kind, Why: why, Count: 1, Bytes: f.Size})
}

// note writes what became of findings.
func (p *plan) note(found []unheld.Found, t registry.Taken) error {
	marks := make([]byte, len(found))
	for i, f := range found {
		marks[i] = stayedMark
		if t.Went[i] {
			marks[i] = wentMark
		}
		p.count(f, t.Went[i])
	}
	p.report.Freed, p.report.Files = p.report.Freed+t.Bytes, p.report.Files+t.Files
	p.report.Waited += int64(t.Waited.Turns)
	if longest := t.Waited.Longest.Seconds() * 1000; longest > p.report.WaitedLongest {
		p.report.WaitedLongest, p.report.WaitedKind = longest, t.Waited.Kind
	}
	p.report.WaitedWhole += t.Waited.Whole.Seconds() * 1000
	_, err := p.done.Write(marks)
	return err
}

// finish makes the plan of a run, with what became of each thing where it was decided, its
// report.
func (r Reports) finish(run int64) error {
	out, err := os.OpenFile(r.file(run, listEnd+".new"), os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return fmt.Errorf("write a report: %w", err)
	}
	packed, _ := gzip.NewWriterLevel(out, gzip.BestSpeed)
	err = r.each(run, func(line []byte) error {
		_, err := packed.Write(append(line, '\n'))
		return err
	})
	if err = errors.Join(err, packed.Close(), out.Close()); err == nil {
		err = os.Rename(out.Name(), r.file(run, listEnd))
	}
	if err != nil {
		return fmt.Errorf("write a report: %w", errors.Join(err, os.Remove(out.Name())))
	}
	for _, end := range []string{planEnd, sumsEnd, doneEnd} {
		err = errors.Join(err, os.Remove(r.file(run, end)))
	}
	return err
}

// each gives the lines of an open plan, with what became of each.
func (r Reports) each(run int64, do func([]byte) error) error {
	file, err := os.Open(r.file(run, planEnd))
	if err != nil {
		return err
	}
	defer file.Close()
	marks, err := os.ReadFile(r.file(run, doneEnd))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	in := bufio.NewScanner(file)
	in.Buffer(nil, mostLine)
	var line []byte
	for n := 0; in.Scan(); n++ {
		line = append(line[:0], bytes.TrimSuffix(in.Bytes(), []byte("}"))...)
		if n < len(marks) {
			line = append(line, `,"went":`+strconv.FormatBool(marks[n] == wentMark)...)
		}
		if err := do(append(line, '}')); err != nil {
			return err
		}
	}
	return in.Err()
}

// Item is one thing of a report.
type Item struct {
	unheld.Found
	// Went says what became of it, nil while that is open and in previews.
	Went *bool `json:"went"`
}

// ErrNoList: the run has no list of things.
var ErrNoList = errors.New("the run has no list")

var errEnough = errors.New("enough")

// Bytes is how much the reports take on the disk.
func (r Reports) Bytes() (bytes int64) {
	entries, err := os.ReadDir(r.folder)
	if err != nil {
		return 0
	}
	for _, e := range entries {
		if info, err := e.Info(); err == nil {
			bytes += info.Size()
		}
	}
	return bytes
}

// List returns up to limit things of a run's report behind a number of them, of a kind or
// with "" of all, and how many come before the next; 0 at the end. It fails with ErrNoList.
func (r Reports) List(run, after int64, limit int, kind unheld.Kind) (items []Item, next int64, err error) {
	n := int64(0)
	take := func(line []byte) error {
		if n++; n <= after {
			return nil
		}
		if len(items) == limit {
			next = n - 1
			return errEnough
		}
		var item Item
		if err := json.Unmarshal(line, &item); err != nil {
			return err
		}
		if kind == "" || item.Kind == kind {
			items = append(items, item)
		}
		return nil
	}
	err = r.packed(run, take)
	if errors.Is(err, fs.ErrNotExist) {
		err = r.each(run, take)
	}
	switch {
	case errors.Is(err, errEnough):
		err = nil
	case errors.Is(err, fs.ErrNotExist):
		err = ErrNoList
	}
	return items, next, err
}

func (r Reports) packed(run int64, do func([]byte) error) error {
	file, err := os.Open(r.file(run, listEnd))
	if err != nil {
		return err
	}
	defer file.Close()
	packed, err := gzip.NewReader(file)
	if err != nil {
		return err
	}
	in := bufio.NewScanner(packed)
	in.Buffer(nil, mostLine)
	for in.Scan() {
		if err := do(in.Bytes()); err != nil {
			return err
		}
	}
	return in.Err()
}

// clear removes the files of runs that are not known any more.
func (r Reports) clear(known func(run int64) (bool, error)) error {
	files, err := os.ReadDir(r.folder)
	if err != nil {
		return err
	}
	for _, f := range files {
		number, _, _ := strings.Cut(strings.TrimPrefix(f.Name(), "run-"), ".")
		run, err := strconv.ParseInt(number, 10, 64)
		if err != nil {
			continue
		}
		if is, err := known(run); err != nil || is {
			if err != nil {
				return err
			}
			continue
		}
		if err := os.Remove(filepath.Join(r.folder, f.Name())); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}
