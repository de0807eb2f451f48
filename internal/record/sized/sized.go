// Package sized is a cache that is bounded in bytes and in entries.
package sized

import (
	"sync"

	"github.com/hashicorp/golang-lru/v2/simplelru"
)

// Cache keeps what was used last, within a number of bytes and of entries. It is safe for
// concurrent use.
type Cache[K comparable, V any] struct {
	most int
	size func(K, V) int

	mu    sync.Mutex
	lru   *simplelru.LRU[K, V]
	bytes int
}

// entryOverhead is what an entry costs beside what it holds: map, list and headers.
const entryOverhead = 200

// New returns an empty cache of at most most bytes and entries entries, both above zero.
// size says about how many bytes a key and its value hold beyond their own headers. A
// value larger than a sixteenth of the cache is not kept.
func New[K comparable, V any](most, entries int, size func(K, V) int) *Cache[K, V] {
	c := &Cache[K, V]{most: most, size: size}
	lru, err := simplelru.NewLRU(entries, func(k K, v V) { c.bytes -= c.cost(k, v) })
	if err != nil {
		// The only error is a size below one.
		panic(err)
	}
	c.lru = lru
	return c
}

func (c *Cache[K, V]) cost(k K, v V) int { return entryOverhead + c.size(k, v) }

// Get returns what is kept under a key.
func (c *Cache[K, V]) Get(k K) (V, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.lru.Get(k)
}

// Add keeps a value under a key, in the place of another.
func (c *Cache[K, V]) Add(k K, v V) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.lru.Remove(k)
	cost := c.cost(k, v)
	if cost > c.most/16 {
		return
	}
	for c.bytes+cost > c.most {
		c.lru.RemoveOldest()
	}
	c.bytes += cost
	// An entry that it pushes out is subtracted.
	c.lru.Add(k, v)
}

// Remove drops a key, and reports whether it was there.
func (c *Cache[K, V]) Remove(k K) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.lru.Remove(k)
}

// Purge drops everything.
func (c *Cache[K, V]) Purge() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.lru.Purge()
	c.bytes = 0
}

// Bytes returns about how many bytes are kept.
func (c *Cache[K, V]) Bytes() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.bytes
}

// Len returns how many entries are kept.
func (c *Cache[K, V]) Len() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.lru.Len()
}
