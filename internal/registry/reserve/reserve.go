// Package reserve is how much open uploads are to bring, so that what is allowed is not
// given away twice while they are under way.
package reserve

import "sync"

// Book has what is reserved. The zero value is empty; it is safe for concurrent use.
type Book struct {
	mu       sync.Mutex
	uploads  map[string]Entry
	reserved map[key]int64
}

// Entry is what one upload is to bring: where and by whom, in bytes. An account of 0 is
// nobody.
type Entry struct {
	NamespaceID, AccountID int64
	Bytes                  int64
}

type key struct {
	account bool
	id      int64
}

// Others is what all other uploads are to bring, in the same namespace and by the same
// account.
type Others struct{ Namespace, Account int64 }

// Grow reserves for an upload what it is to bring in all, unless that is less than before,
// where may allows it beside the others. With a may of nil it is not asked.
func (b *Book) Grow(upload string, to Entry, may func(Others) error) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	was, there := b.uploads[upload]
	if there && to.Bytes <= was.Bytes {
		return nil
	}
	if may != nil {
		others := Others{b.reserved[key{false, to.NamespaceID}], b.reserved[key{true, to.AccountID}]}
		if there {
			others.Namespace, others.Account = others.Namespace-was.Bytes, others.Account-was.Bytes
		}
		if err := may(others); err != nil {
			return err
		}
	}
	b.drop(upload)
	if b.uploads == nil {
		b.uploads, b.reserved = map[string]Entry{}, map[key]int64{}
	}
	b.uploads[upload] = to
	b.add(to, to.Bytes)
	return nil
}

// Shrink lets go of what an upload had reserved beyond the bytes that came.
func (b *Book) Shrink(upload string, bytes int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if was, there := b.uploads[upload]; there && bytes < was.Bytes {
		b.add(was, bytes-was.Bytes)
		was.Bytes = bytes
		b.uploads[upload] = was
	}
}

// Drop lets go of what an upload had reserved.
func (b *Book) Drop(upload string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.drop(upload)
}

func (b *Book) drop(upload string) {
	was, there := b.uploads[upload]
	if !there {
		return
	}
	delete(b.uploads, upload)
	b.add(was, -was.Bytes)
}

// add counts bytes of an upload; what is nothing any more is forgotten.
func (b *Book) add(of Entry, bytes int64) {
	for _, k := range []key{{false, of.NamespaceID}, {true, of.AccountID}} {
		if b.reserved[k] += bytes; b.reserved[k] == 0 {
			delete(b.reserved, k)
		}
	}
}

// Of is what is reserved in a namespace, in bytes.
func (b *Book) Of(namespace int64) int64 {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.reserved[key{false, namespace}]
}
