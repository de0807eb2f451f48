// Package parcel writes and reads parcels: an OCI image layout in a tar, with the packing list
// that it was packed by, what it expects to be at the other side, and sums of all files. It may
// be cut into volumes, each of which is such a tar with a part of the blobs, and can be
// checked and unloaded by itself, in any order.
//
// A parcel is deterministic: the same content makes the same bytes, whatever the day and the
// machine. It says nothing about who packed it: the digests in the list are what a signature
// would be about.
package parcel

import (
	"archive/tar"
	"bytes"
	"encoding/json"
	"fmt"
	"strings"

	"warthesis/internal/oci"
)

// The files of a parcel besides those of an image layout.
const (
	folder     = "warthesis/"
	headerFile = folder + "parcel.json"
	listFile   = folder + "packing.list"
	needsFile  = folder + "needs.json"
	sumsFile   = folder + "sums"
	piecesIn   = folder + "pieces/"
)

// format is the version of what parcels have besides the layout.
const format = 1

// Header says what a parcel is.
type Header struct {
	Format int `json:"format"`
	// ID is that of all volumes: the digest of what the parcel holds and expects.
	ID oci.Digest `json:"id"`
	// Volume is which of Volumes this file is, from 1.
	Volume  int `json:"volume"`
	Volumes int `json:"volumes"`
	Images  int `json:"images"`
	// Bytes is what the blobs of all volumes have, Blobs how many there are.
	Bytes int64 `json:"bytes"`
	Blobs int   `json:"blobs"`
	// Without is what the other side is expected to have, nil for nothing.
	Without *Base `json:"without,omitempty"`
	// Content are the blobs of all volumes, by volume.
	Content [][]Item `json:"content"`
}

// Item is a blob in a volume, or a piece of one that is larger than a volume.
type Item struct {
	Digest oci.Digest `json:"digest"`
	Size   int64      `json:"size"`
	// Offset and Length are those of a piece; Length is zero for a whole blob.
	Offset int64 `json:"offset,omitempty"`
	Length int64 `json:"length,omitempty"`
}

// isPiece reports whether the item is a part of a blob.
func (i Item) isPiece() bool { return i.Length > 0 }

// bytes is how many bytes of the blob the item has.
func (i Item) bytes() int64 {
	if i.isPiece() {
		return i.Length
	}
	return i.Size
}

// name is where the item stands in the tar.
func (i Item) name() string {
	if i.isPiece() {
		return fmt.Sprintf("%s%s/%s/%016d", piecesIn, i.Digest.Algorithm(), i.Digest.Encoded(), i.Offset)
	}
	return blobName(i.Digest)
}

func blobName(d oci.Digest) string {
	return "blobs/" + d.Algorithm().String() + "/" + d.Encoded()
}

// Base is what a parcel was packed without.
type Base struct {
	// Kind is parcel, list or registry, Name how it was called.
	Kind string `json:"kind"`
	Name string `json:"name"`
	// ID is that of a parcel.
	ID oci.Digest `json:"id,omitempty"`
}

// String says what the base is.
func (b Base) String() string {
	said := fmt.Sprintf("the %s %s", b.Kind, b.Name)
	if b.ID != "" {
		said += fmt.Sprintf(" (%s)", b.ID.Encoded()[:12])
	}
	return said
}

// Need is a blob that images of the parcel have and the parcel does not.
type Need struct {
	oci.Descriptor
	// In are the repositories that have it at the other side, as the list calls them.
	In []oci.Name `json:"in"`
}

// file is a file of a volume that is written from memory.
type file struct {
	name string
	raw  []byte
}

// blockSize is that of a tar (POSIX.1, "ustar Interchange Format").
const blockSize = 512

// padded is how many bytes content of a size takes in a tar.
func padded(size int64) int64 { return (size + blockSize - 1) / blockSize * blockSize }

// headerOf returns the bytes before a file in the tar. No times, no owners: what is the same
// is written the same.
func headerOf(name string, size int64) ([]byte, error) {
	var out bytes.Buffer
	err := tar.NewWriter(&out).WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: name, Size: size, Mode: 0o644, Format: tar.FormatPAX})
	return out.Bytes(), err
}

// sumLine is a line of the sums.
func sumLine(name string, digest oci.Digest) string { return digest.String() + "  " + name + "\n" }

// VolumeName is what a volume of a parcel is called; a parcel in one piece has its own name.
func VolumeName(name string, volume, volumes int) string {
	if volumes == 1 {
		return name
	}
	return fmt.Sprintf("%s.%dof%d", name, volume, volumes)
}

// idOf is the ID of a parcel.
func idOf(files ...file) oci.Digest {
	var all strings.Builder
	for _, f := range files {
		all.WriteString(sumLine(f.name, oci.DigestOf(oci.SHA256, f.raw)))
	}
	return oci.DigestOf(oci.SHA256, []byte(all.String()))
}

func marshal(v any) ([]byte, error) {
	raw, err := json.MarshalIndent(v, "", " ")
	return append(raw, '\n'), err
}
