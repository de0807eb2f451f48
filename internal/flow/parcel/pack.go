package parcel

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"reflect"
	"slices"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"golang.org/x/sync/errgroup"

	"warthesis/internal/flow/carry"
	"warthesis/internal/flow/packing"
	"warthesis/internal/oci"
)

// Packing is a parcel that is to be written.
type Packing struct {
	Header Header
	// Needs are the blobs that it leaves out.
	Needs []Need

	carrier *carry.Carrier
	// shared are the files that each volume has, documents included.
	shared []file
	blobs  map[oci.Digest]carry.Content
}

// smallest is the smallest volume, in bytes, besides what each volume has.
const smallest = 1 << 20

// Arrange lays out what the plan of a carrier holds: which blob goes into which volume. The
// volumes have size bytes at most, zero for one of any size. It fails where a plan lacks
// something. places are the repositories of the other side that have what is left out, besides
// those of the list; nil for no others.
func Arrange(ctx context.Context, c *carry.Carrier, p *carry.Plan, without *Base, places map[oci.Digest][]oci.Name, size int64) (*Packing, error) {
	k := &Packing{carrier: c, blobs: map[oci.Digest]carry.Content{}}
	roots, documents, blobs := c.Contents(p)
	k.Header = Header{Format: format, Without: without}
	index := v1.Index{MediaType: oci.MediaTypeIndex, Manifests: []oci.Descriptor{}}
	index.SchemaVersion = 2
	list := packing.List{}
	entered := map[oci.Digest]bool{}
	for _, i := range p.Images {
		if i.Lacks() {
			continue
		}
		k.Header.Images++
		d := oci.Descriptor{MediaType: i.Root.MediaType, Digest: i.Root.Digest, Size: i.Root.Size}
		if i.Item.Tag != "" {
			d.Annotations = map[string]string{v1.AnnotationRefName: string(i.Item.Name) + ":" + string(i.Item.Tag)}
		} else {
			d.Annotations = map[string]string{v1.AnnotationRefName: string(i.Item.Name) + "@" + i.Root.Digest.String()}
		}
		entered[d.Digest] = true
		index.Manifests = append(index.Manifests, d)
		line := packing.Line{Source: i.Item.Ref.WithDigest(i.Root.Digest).String()}
		if i.Item.Renamed {
			line.To = string(i.Item.Name)
			if i.Item.Tag != "" {
				line.To += ":" + string(i.Item.Tag)
			}
		}
		list.Lines = append(list.Lines, line)
	}
	// What refers to images stands in the index as well, without a name.
	for _, d := range roots {
		if !entered[d.Digest] {
			entered[d.Digest] = true
			index.Manifests = append(index.Manifests, oci.Descriptor{MediaType: d.MediaType, Digest: d.Digest, Size: d.Size})
		}
	}
	documented := map[oci.Digest]bool{}
	var files []file
	for _, d := range documents {
		raw, err := c.Document(ctx, d)
		if err != nil {
			return nil, err
		}
		documented[d.Digest] = true
		files = append(files, file{blobName(d.Digest), raw})
	}
	var packed []Item
	k.Needs = []Need{}
	for _, d := range blobs {
		switch {
		case documented[d.Digest]:
		case d.Left:
			in := append(slices.Clone(d.In), places[d.Digest]...)
			slices.Sort(in)
			k.Needs = append(k.Needs, Need{d.Descriptor, slices.Compact(in)})
		default:
			k.blobs[d.Digest] = d
			k.Header.Bytes += d.Size
			k.Header.Blobs++
			packed = append(packed, Item{Digest: d.Digest, Size: d.Size})
		}
	}
	if err := k.describe(index, list, files); err != nil {
		return nil, err
	}
	return k, k.cut(packed, size)
}

// describe writes the files that each volume has.
func (k *Packing) describe(index v1.Index, list packing.List, documents []file) error {
	marker, err := json.Marshal(v1.ImageLayout{Version: v1.ImageLayoutVersion})
	if err != nil {
		return err
	}
	described, err := marshal(index)
	if err != nil {
		return err
	}
	needs, err := marshal(k.Needs)
	if err != nil {
		return err
	}
	meta := []file{{v1.ImageLayoutFile, marker}, {v1.ImageIndexFile, described}, {listFile, list.Bytes()}, {needsFile, needs}}
	k.Header.ID = idOf(meta...)
	k.shared = append(meta, documents...)
	return nil
}

// takes is how much a file takes in a volume, with its line in the sums.
func takes(name string, size int64) int64 {
	return blockSize + padded(size) + int64(len(sumLine(name, oci.DigestOf(oci.SHA512, nil))))
}

// itemTakes is how much an item takes, with its place in the header of each volume.
func itemTakes(i Item) int64 { return takes(i.name(), i.bytes()) }

// described is how much of the header an item takes, at most.
const described = 320

// cut shares out the blobs among volumes, in their order. One that does not fit behind the
// others begins the next volume; one that is larger than a volume is cut.
func (k *Packing) cut(items []Item, size int64) error {
	if size == 0 {
		k.Header.Volume, k.Header.Volumes, k.Header.Content = 1, 1, [][]Item{append([]Item{}, items...)}
		return nil
	}
	// The header names all items, and the sums all files: room is left for both.
	room := size - 16*blockSize
	for _, f := range k.shared {
		room -= takes(f.name, int64(len(f.raw)))
	}
	pieces := int64(0)
	for _, i := range items {
		pieces += 1 + i.Size/max(smallest, size)
	}
	room -= 2 * pieces * described
	if room < smallest {
		return oci.Errorf(oci.CodeQueryInvalid, "volumes of %d bytes are too small: what each of them has takes %d; take at least %d", size, size-room, size-room+smallest)
	}
	var volumes [][]Item
	now, left := []Item{}, room
	next := func() { volumes, now, left = append(volumes, now), []Item{}, room }
	for _, i := range items {
		switch {
		case itemTakes(i) <= left:
			now, left = append(now, i), left-itemTakes(i)
			continue
		case itemTakes(i) <= room:
			next()
			now, left = append(now, i), left-itemTakes(i)
			continue
		}
		for i.Offset < i.Size {
			piece := i
			piece.Length = 1
			fits := (left-itemTakes(piece))/blockSize*blockSize + blockSize
			if fits <= blockSize {
				next()
				continue
			}
			piece.Length = min(i.Size-i.Offset, fits)
			now, left = append(now, piece), left-itemTakes(piece)
			i.Offset += piece.Length
		}
	}
	k.Header.Content = append(volumes, now)
	k.Header.Volumes = len(k.Header.Content)
	return nil
}

// placed is content with where it stands in a volume.
type placed struct {
	name   string
	size   int64
	raw    []byte
	item   *Item
	offset int64
}

// layOut places all files of a volume but the sums, which come last since they have the sums
// of what comes before them.
func (k *Packing) layOut(volume int) ([]placed, int64, error) {
	header := k.Header
	header.Volume = volume
	raw, err := marshal(header)
	if err != nil {
		return nil, 0, err
	}
	var all []placed
	for _, f := range append([]file{{headerFile, raw}}, k.shared...) {
		all = append(all, placed{name: f.name, size: int64(len(f.raw)), raw: f.raw})
	}
	for at := range header.Content[volume-1] {
		item := &header.Content[volume-1][at]
		all = append(all, placed{name: item.name(), size: item.bytes(), item: item})
	}
	end := int64(0)
	for at := range all {
		before, err := headerOf(all[at].name, all[at].size)
		if err != nil {
			return nil, 0, err
		}
		all[at].offset = end + int64(len(before))
		end = all[at].offset + padded(all[at].size)
	}
	return all, end, nil
}

// unfinished is what a volume is called until it is whole.
const unfinished = ".unfinished"

// Write writes the volumes of a parcel that are not there whole. What an earlier run brought
// of the one it stopped in is checked and kept. It returns the names of the files.
func (k *Packing) Write(ctx context.Context, name string, atOnce int) (names []string, err error) {
	for volume := 1; volume <= k.Header.Volumes; volume++ {
		at := VolumeName(name, volume, k.Header.Volumes)
		names = append(names, at)
		if there, err := readHeader(at); err == nil && there.ID == k.Header.ID && there.Volume == volume && reflect.DeepEqual(there.Content, k.Header.Content) {
			if err := Check(at); err == nil {
				continue
			}
		}
		if err := k.volume(ctx, at, volume, atOnce); err != nil {
			return nil, fmt.Errorf("write %s: %w", at, err)
		}
	}
	return names, checkCut(names)
}

// checkCut compares the blobs that are cut with their digests: a piece alone could not be. What
// is wrong is taken away, so that the next run writes it anew.
func checkCut(names []string) error {
	if len(names) == 1 {
		return nil
	}
	p, err := Open(names, "")
	if err != nil {
		return err
	}
	defer p.Close()
	if err := p.checkPieces(); err != nil {
		for _, name := range names {
			err = errors.Join(err, os.Remove(name))
		}
		return fmt.Errorf("what came from the source is something else: %w; the volumes were removed", err)
	}
	return nil
}

func (k *Packing) volume(ctx context.Context, at string, volume, atOnce int) error {
	all, end, err := k.layOut(volume)
	if err != nil {
		return err
	}
	f, err := os.OpenFile(at+unfinished, os.O_RDWR|os.O_CREATE, 0o644)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = errors.New("it is no plain file")
	}
	if err != nil {
		return err
	}
	sums := make([]oci.Digest, len(all))
	group, within := errgroup.WithContext(ctx)
	group.SetLimit(max(1, atOnce))
	for i, p := range all {
		group.Go(func() (err error) {
			sums[i], err = k.write(within, f, p)
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	var listed []byte
	for i, p := range all {
		listed = append(listed, sumLine(p.name, sums[i])...)
	}
	before, err := headerOf(sumsFile, int64(len(listed)))
	if err != nil {
		return err
	}
	last := slices.Concat(before, listed, make([]byte, padded(int64(len(listed)))-int64(len(listed))+2*blockSize))
	if _, err := f.WriteAt(last, end); err != nil {
		return err
	}
	if err := f.Truncate(end + int64(len(last))); err != nil {
		return err
	}
	if err := f.Sync(); err != nil {
		return err
	}
	if err := os.Rename(at+unfinished, at); err != nil {
		return err
	}
	return syncFolder(filepath.Dir(at))
}

func syncFolder(at string) error {
	f, err := os.Open(at)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}

// write writes one file of a volume at its place and returns its sum.
func (k *Packing) write(ctx context.Context, f *os.File, p placed) (oci.Digest, error) {
	before, err := headerOf(p.name, p.size)
	if err != nil {
		return "", err
	}
	if _, err := f.WriteAt(before, p.offset-int64(len(before))); err != nil {
		return "", err
	}
	padding := make([]byte, padded(p.size)-p.size)
	if _, err := f.WriteAt(padding, p.offset+p.size); err != nil {
		return "", err
	}
	switch {
	case p.item == nil:
		_, err := f.WriteAt(p.raw, p.offset)
		return oci.DigestOf(oci.SHA256, p.raw), err
	case !p.item.isPiece():
		// What an earlier run brought is right, or comes again.
		if is, err := p.item.Digest.Algorithm().FromReader(io.NewSectionReader(f, p.offset, p.size)); err == nil && is == p.item.Digest {
			if p.item.Digest.Algorithm() == oci.SHA256 {
				return is, nil
			}
		} else if err := k.carrier.Write(ctx, k.blobs[p.item.Digest], io.NewOffsetWriter(f, p.offset)); err != nil {
			return "", err
		}
	default:
		if err := k.carrier.WritePiece(ctx, k.blobs[p.item.Digest], io.NewOffsetWriter(f, p.offset), p.item.Offset, p.item.Length); err != nil {
			return "", err
		}
	}
	return oci.SHA256.FromReader(io.NewSectionReader(f, p.offset, p.size))
}
