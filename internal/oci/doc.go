// Package oci holds the nouns of the open container standards: names, tags,
// digests, references, media types, platforms, and manifests parsed and checked.
//
// It is pure: no file, no network, no clock. Everything it parses comes from
// outside and is treated as hostile; a value that one of its parsers returned is
// within the grammar and the limits of the standards.
package oci
