package carry

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"sync"
	"syscall"
	"time"

	"warthesis/internal/flow/packing"
	"warthesis/internal/oci"
)

// Journal is a file beside a list that says to which digests its references were resolved
// when a copy began, and how far it came. One that stopped goes on with the same digests,
// whatever the tags point to by then. It is a hint: whether something is at the destination
// is asked there. It is safe for concurrent use.
type Journal struct {
	file *os.File

	mu sync.Mutex
	// began is when the copy that is in it began, zero where none did.
	began  time.Time
	locked map[string]oci.Digest
	done   map[string]bool
	// rate is how many bytes a second went the last time, zero for unknown.
	rate int64
	err  error
	// goesOn tells that an earlier run began it.
	goesOn bool
}

// entry is a line of a journal.
type entry struct {
	// Begun opens it: where to, and when.
	Begun       *time.Time `json:"begun,omitempty"`
	Destination string     `json:"destination,omitempty"`
	// Reference was resolved to Digest, or is Done.
	Reference string     `json:"reference,omitempty"`
	Digest    oci.Digest `json:"digest,omitempty"`
	Done      bool       `json:"done,omitempty"`
	// Rate is how many bytes a second went.
	Rate int64 `json:"bytes_a_second,omitempty"`
	// Ended closes it: all is at the destination.
	Ended *time.Time `json:"ended,omitempty"`
}

// mostJournal is the largest journal in bytes that is read.
const mostJournal = 256 << 20

// ErrJournalBusy is a journal that another copy writes.
var ErrJournalBusy = errors.New("another copy with the same list and destination is under way; wait until it ends")

// OpenJournal opens or makes the journal of a copy to a destination. Its copy goes on where
// it did not end; with anew, it begins anew.
func OpenJournal(at, destination string, anew bool) (*Journal, error) {
	file, err := os.OpenFile(at, os.O_RDWR|os.O_CREATE|os.O_APPEND|syscall.O_NOFOLLOW, 0o644)
	if err != nil {
		return nil, fmt.Errorf("open the journal: %w", err)
	}
	j := &Journal{file: file}
	if err := syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		if errors.Is(err, syscall.EWOULDBLOCK) {
			err = ErrJournalBusy
		}
		return nil, errors.Join(err, file.Close())
	}
	if err := j.read(destination); err != nil {
		return nil, errors.Join(fmt.Errorf("the journal %s: %w", at, err), file.Close())
	}
	if anew {
		j.began, j.locked, j.done = time.Time{}, map[string]oci.Digest{}, map[string]bool{}
	}
	j.goesOn = !j.began.IsZero() && len(j.locked) > 0
	if j.began.IsZero() {
		if err := j.begin(destination); err != nil {
			return nil, errors.Join(err, file.Close())
		}
	}
	return j, nil
}

// read takes up what an earlier run wrote. A line that was cut off by its end is left out.
func (j *Journal) read(destination string) error {
	info, err := j.file.Stat()
	if err != nil {
		return err
	}
	if !info.Mode().IsRegular() || info.Size() > mostJournal {
		return fmt.Errorf("it is no file, or has more than %d MiB; remove it to begin anew", mostJournal>>20)
	}
	j.locked, j.done = map[string]oci.Digest{}, map[string]bool{}
	reader := bufio.NewReader(j.file)
	for {
		line, err := reader.ReadBytes('\n')
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		var e entry
		if json.Unmarshal(line, &e) != nil {
			continue
		}
		switch {
		case e.Begun != nil:
			if e.Destination != destination {
				return fmt.Errorf("it belongs to a copy to %.200q, not to %s; name another one with --journal", e.Destination, destination)
			}
			j.began = *e.Begun
			clear(j.locked)
			clear(j.done)
		case e.Ended != nil:
			j.began = time.Time{}
			clear(j.locked)
			clear(j.done)
		case e.Rate > 0:
			j.rate = e.Rate
		case e.Done:
			j.done[e.Reference] = true
		default:
			if digest, err := oci.ParseDigest(e.Digest.String()); err == nil {
				j.locked[e.Reference] = digest
			}
		}
	}
}

// begin writes the journal anew: what was in it of copies that ended is not needed any more.
func (j *Journal) begin(destination string) error {
	if err := j.file.Truncate(0); err != nil {
		return fmt.Errorf("write the journal: %w", err)
	}
	now := time.Now().UTC().Truncate(time.Second)
	j.began = now
	j.write(entry{Begun: &now, Destination: destination})
	if j.rate > 0 {
		j.write(entry{Rate: j.rate})
	}
	return j.Sync()
}

// write adds entries. What cannot be written is told by Sync.
func (j *Journal) write(all ...entry) {
	var out bytes.Buffer
	for _, e := range all {
		raw, err := json.Marshal(e)
		if err != nil {
			j.err = errors.Join(j.err, err)
			return
		}
		out.Write(raw)
		out.WriteByte('\n')
	}
	if _, err := j.file.Write(out.Bytes()); err != nil && j.err == nil {
		j.err = err
	}
}

// Sync brings what was written to the disk.
func (j *Journal) Sync() error {
	if err := errors.Join(j.err, j.file.Sync()); err != nil {
		return fmt.Errorf("write the journal: %w", err)
	}
	return nil
}

// GoesOn reports whether an earlier run began the copy, and resolved its references.
func (j *Journal) GoesOn() bool { return j.goesOn }

// Began is when the copy began.
func (j *Journal) Began() time.Time { return j.began }

// Done is how many images an earlier run saw through.
func (j *Journal) Done() int { return len(j.done) }

// Rate is how many bytes a second went the last time, zero for unknown.
func (j *Journal) Rate() int64 { return j.rate }

// Lock gives items the digests that they had when the copy began.
func (j *Journal) Lock(items []packing.Item) []packing.Item {
	locked := make([]packing.Item, len(items))
	for at, item := range items {
		if digest, has := j.locked[item.Ref.String()]; has && item.Ref.Digest == "" {
			item.Ref.Digest = digest
		}
		locked[at] = item
	}
	return locked
}

// Looked notes what a plan found: to what the references were resolved that items had before
// they were locked.
func (j *Journal) Looked(items []packing.Item, p *Plan) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	var all []entry
	for at, i := range p.Images {
		ref := items[at].Ref
		if i.Root.Digest == "" || ref.Digest != "" || j.locked[ref.String()] == i.Root.Digest {
			continue
		}
		j.locked[ref.String()] = i.Root.Digest
		all = append(all, entry{Reference: ref.String(), Digest: i.Root.Digest})
	}
	if len(all) > 0 {
		j.write(all...)
	}
	return j.Sync()
}

// Ended notes an image that came through.
func (j *Journal) Ended(i *Image) {
	if i.State != Copied {
		return
	}
	j.mu.Lock()
	defer j.mu.Unlock()
	j.done[i.Item.Ref.String()] = true
	j.write(entry{Reference: i.Item.Ref.String(), Done: true})
}

// Close ends the journal: where all is at the destination, the next run begins anew.
func (j *Journal) Close(complete bool, rate int64) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	if rate > 0 {
		j.write(entry{Rate: rate})
	}
	if complete {
		now := time.Now().UTC().Truncate(time.Second)
		j.write(entry{Ended: &now})
	}
	err := j.Sync()
	return errors.Join(err, j.file.Close())
}
