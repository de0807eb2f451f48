package record

import (
	"sync"

	"warthesis/internal/oci"
	"warthesis/internal/record/sized"
)

// The bounds of the caches: each in entries, and in bytes.
const (
	cacheSize         = 1 << 16
	repositoriesBytes = 16 << 20
	manifestsBytes    = 32 << 20
	tagsBytes         = 16 << 20
	holdingsBytes     = 32 << 20
)

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
	repositories *sized.Cache[oci.Name, Repository]
	manifests    *sized.Cache[contentKey, Manifest]
	tags         *sized.Cache[tagKey, oci.Digest]
	holdings     *sized.Cache[contentKey, Blob]

	mu sync.Mutex
	// generation counts changes: what was read before one is not kept after it.
	generation uint64
}

func newCache() *cache {
	return &cache{
		repositories: sized.New(repositoriesBytes, cacheSize, func(name oci.Name, r Repository) int {
			return repositoryBytes + 2*len(name) + len(r.Description) + mapBytes(r.Labels)
		}),
		manifests: sized.New(manifestsBytes, cacheSize, func(key contentKey, m Manifest) int {
			return manifestBytes + 2*len(key.digest) + len(m.MediaType) + len(m.ArtifactType) + len(m.Subject) + len(m.Platforms) + len(m.Place) + mapBytes(m.Annotations) + mapBytes(m.Labels)
		}),
		tags:     sized.New(tagsBytes, cacheSize, func(key tagKey, digest oci.Digest) int { return len(key.tag) + len(digest) }),
		holdings: sized.New(holdingsBytes, cacheSize, func(key contentKey, b Blob) int { return blobBytes + 2*len(key.digest) + len(b.Place) }),
	}
}

// What values take beside their texts, in bytes.
const (
	repositoryBytes = 250
	manifestBytes   = 450
	blobBytes       = 120
	pairBytes       = 80
)

func mapBytes[M ~map[string]string](m M) (bytes int) {
	for key, value := range m {
		bytes += pairBytes + len(key) + len(value)
	}
	return bytes
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
func cached[K comparable, V any](c *cache, entries *sized.Cache[K, V], key K, load func() (V, error)) (V, error) {
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
