package record

import (
	"sync"

	"github.com/hashicorp/golang-lru/v2"

	"warthesis/internal/oci"
)

// cacheSize bounds each cache, in entries.
const cacheSize = 1 << 16

type contentKey struct {
	repository int64
	digest     oci.Digest
}

type tagKey struct {
	repository int64
	tag        oci.Tag
}

// cache answers the questions that every pull asks, without the database. Only
// what was found is kept, and every commit takes out what it changed before it is
// acknowledged.
type cache struct {
	repositories *lru.Cache[oci.Name, Repository]
	manifests    *lru.Cache[contentKey, Manifest]
	tags         *lru.Cache[tagKey, oci.Digest]
	holdings     *lru.Cache[contentKey, Blob]

	mu sync.Mutex
	// generation counts changes: what was read before one is not kept after it.
	generation uint64
}

func newCache() *cache {
	return &cache{
		repositories: newLRU[oci.Name, Repository](),
		manifests:    newLRU[contentKey, Manifest](),
		tags:         newLRU[tagKey, oci.Digest](),
		holdings:     newLRU[contentKey, Blob](),
	}
}

func newLRU[K comparable, V any]() *lru.Cache[K, V] {
	// The only error is a size below one.
	c, err := lru.New[K, V](cacheSize)
	if err != nil {
		panic(err)
	}
	return c
}

// change takes out what a commit changed.
func (c *cache) change(forget func(*cache)) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.generation++
	forget(c)
}

func (c *cache) now() uint64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.generation
}

// cached answers from the entries, or loads and keeps the answer, unless a commit
// came in between: then what was loaded may be older than the commit.
func cached[K comparable, V any](c *cache, entries *lru.Cache[K, V], key K, load func() (V, error)) (V, error) {
	if v, ok := entries.Get(key); ok {
		return v, nil
	}
	before := c.now()
	v, err := load()
	if err != nil {
		return v, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.generation == before {
		entries.Add(key, v)
	}
	return v, nil
}
