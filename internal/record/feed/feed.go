// Package feed hands what was committed to whoever listens.
package feed

import "sync"

// buffer is how many items a slow listener may be behind.
const buffer = 64

// Feed hands items to listeners. It is safe for concurrent use.
type Feed[T any] struct {
	mu        sync.Mutex
	listeners map[chan T]struct{}
	closed    bool
}

// New returns a feed without listeners.
func New[T any]() *Feed[T] { return &Feed[T]{listeners: map[chan T]struct{}{}} }

// Listen returns a channel of the items that are sent from now on, and a function that
// ends it. A listener that does not keep up loses items.
func (f *Feed[T]) Listen() (<-chan T, func()) {
	f.mu.Lock()
	defer f.mu.Unlock()
	ch := make(chan T, buffer)
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

// Send hands items to all listeners, and waits for none.
func (f *Feed[T]) Send(items []T) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for ch := range f.listeners {
		for _, item := range items {
			select {
			case ch <- item:
			default:
			}
		}
	}
}

// Close ends the channels of all listeners.
func (f *Feed[T]) Close() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.closed = true
	for ch := range f.listeners {
		close(ch)
		delete(f.listeners, ch)
	}
}
