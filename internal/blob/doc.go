// Package blob keeps bytes by digest on one local disk.
//
// Open promises: what Place has returned for is on the disk under its digest,
// bytes and folders synced, and survives a power loss. What an upload reported in
// a Checkpoint is on the disk up to its offset. A file under blobs/ is not proof
// of anything by itself: it is trusted only if a record says so, and each copy has a
// place of its own.
//
// It does not promise: anything about two processes on one folder (the lock
// refuses the second), network file systems, or file systems whose rename is not
// atomic. It knows no repository and no right; that is for the rooms above.
package blob
