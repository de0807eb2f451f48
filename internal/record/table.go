package record

import (
	"hash/maphash"
	"maps"
)

// shards is into how many parts a table is cut: what a change copies is one part
// of as many.
const shards = 256

var tableSeed = maphash.MakeSeed()

// table is a map of which a copy is cheap: copies share what was not changed
// since. A sealed table, and each copy of it, is safe for concurrent reading. The
// zero value is empty.
type table[K comparable, V any] struct {
	parts *[shards]map[K]V
	// mine marks the parts that no copy shares; nil where all may be shared.
	mine *[shards]bool
}

func shardOf[K comparable](key K) int { return int(maphash.Comparable(tableSeed, key) % shards) }

func (t *table[K, V]) get(key K) (V, bool) {
	if t.parts == nil {
		var none V
		return none, false
	}
	v, ok := t.parts[shardOf(key)][key]
	return v, ok
}

// part returns the part of a key for writing.
func (t *table[K, V]) part(key K) map[K]V {
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

func (t *table[K, V]) set(key K, v V) { t.part(key)[key] = v }

func (t *table[K, V]) drop(key K) {
	if _, there := t.get(key); there {
		delete(t.part(key), key)
	}
}

// seal ends the changes of this copy.
func (t *table[K, V]) seal() { t.mine = nil }

// all calls each for every entry, in no order.
func (t *table[K, V]) all(each func(K, V)) {
	if t.parts == nil {
		return
	}
	for _, part := range t.parts {
		for key, v := range part {
			each(key, v)
		}
	}
}
