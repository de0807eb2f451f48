// Package record keeps what is known about the bytes: namespaces, repositories,
// holdings, manifests and what they name, tags and where they pointed before,
// uploads, and the events of all changes. It is SQLite through GORM, and the only
// room that knows either.
//
// It promises that an Update that returned nil is on the disk (synchronous=FULL)
// and seen by every read that starts afterwards, the cached ones included. One
// goroutine owns the writing connection and commits what has queued up in one
// transaction; reads run beside it on connections of their own.
//
// It leaves to registry what the changes mean, and never touches a content file.
package record
