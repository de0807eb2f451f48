// Package table is a map of which a copy is cheap, for what is read all the time and
// changed now and then.
package table

import (
	"hash/maphash"
	"maps"
)

// shards is into how many parts a table is cut: what a change copies is one part
// of as many.
const shards = 256

var seed = maphash.MakeSeed()

// Table is a map of which a copy is cheap: copies share what was not changed
// since. A sealed table, and each copy of it, is safe for concurrent reading. The
// zero value is empty.
type Table[K comparable, V any] struct {
	parts *[shards]map[K]V
	// mine marks the parts that no copy shares; nil where all may be shared.
	mine *[shards]bool
}

func shardOf[K comparable](key K) int { return int(maphash.Comparable(seed, key) % shards) }

// Get returns what stands under a key.
func (t *Table[K, V]) Get(key K) (V, bool) {
	if t.parts == nil {
		var none V
		return none, false
	}
	v, ok := t.parts[shardOf(key)][key]
	return v, ok
}

// part returns the part of a key for writing.
func (t *Table[K, V]) part(key K) map[K]V {
	if t.mine == nil {
		next := new([shards]map[K]V)
		if t.parts != nil {
			*next = *t.parts
		}
		t.parts, t.mine = next, new([shards]bool)
	}
	i := shardOf(key)
	if !t.mine[i] {
		if t.parts[i] = maps.Clone(t.parts[i]); t.parts[i] == nil {
			t.parts[i] = map[K]V{}
		}
		t.mine[i] = true
	}
	return t.parts[i]
}

// Set puts something under a key of this copy.
func (t *Table[K, V]) Set(key K, v V) { t.part(key)[key] = v }

// Drop takes a key out of this copy.
func (t *Table[K, V]) Drop(key K) {
	if _, there := t.Get(key); there {
		delete(t.part(key), key)
	}
}

// Seal ends the changes of this copy.
func (t *Table[K, V]) Seal() { t.mine = nil }

// All calls each for every entry, in no order.
func (t *Table[K, V]) All(each func(K, V)) {
	if t.parts == nil {
		return
	}
	for _, part := range t.parts {
		for key, v := range part {
			each(key, v)
		}
	}
}
