package record

import (
	"sync"

	"warthesis/internal/oci"
)

// EventKind names what happened.
type EventKind string

// The kinds of events.
const (
	EventManifestPushed  EventKind = "manifest-pushed"
	EventManifestDeleted EventKind = "manifest-deleted"
	EventTagMoved        EventKind = "tag-moved"
	EventTagDeleted      EventKind = "tag-deleted"
	EventBlobDeleted     EventKind = "blob-deleted"
)

// Event is one line of what happened. Events are only ever added.
type Event struct {
	ID         int64
	At         Stamp
	Kind       EventKind
	Repository oci.Name
	Tag        oci.Tag
	Digest     oci.Digest
	Account    string
	Address    string
	Request    string
}

// Log adds an event to the change; listeners hear of it once it is committed.
func (tx *Tx) Log(e Event) error {
	e.At = tx.Now()
	if err := tx.db.Create(&e).Error; err != nil {
		return err
	}
	tx.events = append(tx.events, e)
	return nil
}

// Listen returns a channel of the events that are committed from now on, and a
// function that ends it. A listener that does not keep up loses events: the
// channel says that something happened, the records say what is.
func (s *Store) Listen() (<-chan Event, func()) { return s.feed.listen() }

// listenerBuffer is how many events a slow listener may be behind.
const listenerBuffer = 64

// feed hands committed events to listeners.
type feed struct {
	mu        sync.Mutex
	listeners map[chan Event]struct{}
	closed    bool
}

func newFeed() *feed { return &feed{listeners: map[chan Event]struct{}{}} }

func (f *feed) listen() (<-chan Event, func()) {
	f.mu.Lock()
	defer f.mu.Unlock()
	ch := make(chan Event, listenerBuffer)
	if f.closed {
		close(ch)
		return ch, func() {}
	}
	f.listeners[ch] = struct{}{}
	return ch, func() {
		f.mu.Lock()
		defer f.mu.Unlock()
		delete(f.listeners, ch)
	}
}

func (f *feed) send(events []Event) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for ch := range f.listeners {
		for _, e := range events {
			select {
			case ch <- e:
			default:
			}
		}
	}
}

func (f *feed) close() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.closed = true
	for ch := range f.listeners {
		close(ch)
		delete(f.listeners, ch)
	}
}
