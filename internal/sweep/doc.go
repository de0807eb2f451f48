// Package sweep is what goes, beside requests: garbage collection, which takes what
// nothing needs any more, and scrubs, which read what is here against its digests.
//
// It promises that pushes and pulls go on, that what is taken was asked for again in the
// change that takes it, and that a report of each run tells what went, what stayed and
// why. A run that is cut goes on where it was. What goes is decided by record, and taken
// by registry.
package sweep
