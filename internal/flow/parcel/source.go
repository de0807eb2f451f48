package parcel

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"reflect"
	"slices"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"warthesis/internal/flow/packing"
	"warthesis/internal/oci"
)

// Parcel is a parcel, or some of its volumes, opened. It is safe for concurrent use. It is a
// source that images can be carried from, by the names of its list.
type Parcel struct {
	Header
	List  packing.List
	Items []packing.Item
	Needs []Need

	volumes []*volume
	needs   map[oci.Digest]Need
	// pieces are those of blobs that are cut, by blob, in order; kept are pieces that an
	// earlier unloading left in a folder.
	pieces map[oci.Digest][]piece
	// types are the media types of the roots that the index names.
	types map[oci.Digest]oci.Descriptor
	// referrers are the manifests that refer to others, by those.
	referrers map[oci.Digest][]oci.Descriptor
}

type piece struct {
	Item
	content io.ReaderAt
}

// Open opens the volumes of one parcel that are at hand: those that are named, in any order,
// and pieces that Keep left in a folder before, "" for none. It does not check them.
func Open(names []string, kept string) (*Parcel, error) {
	p := &Parcel{needs: map[oci.Digest]Need{}, pieces: map[oci.Digest][]piece{}, types: map[oci.Digest]oci.Descriptor{}, referrers: map[oci.Digest][]oci.Descriptor{}}
	for _, name := range names {
		v, err := open(name)
		if err != nil {
			return nil, errors.Join(err, p.Close())
		}
		p.volumes = append(p.volumes, v)
		if first := p.volumes[0]; v.ID != first.ID || !reflect.DeepEqual(v.Content, first.Content) {
			err := fault("%s and %s belong to different parcels, or to one that was cut in another way", first.at, v.at)
			return nil, errors.Join(err, p.Close())
		}
	}
	if err := p.read(kept); err != nil {
		return nil, errors.Join(err, p.Close())
	}
	return p, nil
}

func (p *Parcel) read(kept string) (err error) {
	first := p.volumes[0]
	p.Header = first.Header
	if p.List, p.Items, err = first.list(); err != nil {
		return err
	}
	if p.Needs, err = first.needs(); err != nil {
		return err
	}
	for _, need := range p.Needs {
		p.needs[need.Digest] = need
	}
	for _, v := range p.volumes {
		for _, item := range v.Content[v.Volume-1] {
			if !item.isPiece() {
				continue
			}
			s, err := v.section(item.name())
			if err != nil {
				return err
			}
			p.pieces[item.Digest] = append(p.pieces[item.Digest], piece{item, s})
		}
	}
	if kept != "" {
		if err := p.takeKept(kept); err != nil {
			return err
		}
	}
	for digest, all := range p.pieces {
		// Of one that is twice here the volume's is taken, and not what was kept.
		slices.SortStableFunc(all, func(a, b piece) int { return cmp.Compare(a.Offset, b.Offset) })
		p.pieces[digest] = slices.CompactFunc(all, func(a, b piece) bool { return a.Offset == b.Offset })
	}
	return p.index()
}

// index reads what the index names, and what refers to what.
func (p *Parcel) index() error {
	raw, err := p.volumes[0].read(v1.ImageIndexFile)
	if err != nil {
		return err
	}
	parsed, err := oci.ParseManifest(oci.MediaTypeIndex, raw)
	if err != nil {
		return fault("its index.json is damaged: %v", err)
	}
	for _, d := range parsed.Children {
		p.types[d.Digest] = d
		raw, err := p.volumes[0].read(blobName(d.Digest))
		if err != nil {
			return err
		}
		m, err := oci.ParseManifest(d.MediaType, raw)
		if err != nil {
			return fault("%s in it is no manifest: %v", d.Digest, err)
		}
		if m.Subject != nil {
			d.Annotations = nil
			p.referrers[m.Subject.Digest] = append(p.referrers[m.Subject.Digest], d)
		}
	}
	return nil
}

// Close closes its files.
func (p *Parcel) Close() error {
	var errs []error
	for _, v := range p.volumes {
		for _, f := range append(v.kept, v.file) {
			errs = append(errs, f.Close())
		}
	}
	return errors.Join(errs...)
}

// At lists the volumes that are at hand, by their numbers.
func (p *Parcel) At() (volumes []int) {
	for _, v := range p.volumes {
		volumes = append(volumes, v.Volume)
	}
	slices.Sort(volumes)
	return slices.Compact(volumes)
}

// Check checks the volumes that are at hand.
func (p *Parcel) Check() error {
	for _, v := range p.volumes {
		if err := v.check(); err != nil {
			return fmt.Errorf("%s: %w", v.at, err)
		}
	}
	return p.checkPieces()
}

// checkPieces compares the blobs that are cut with their digests, those of which all pieces
// are at hand.
func (p *Parcel) checkPieces() error {
	for digest, all := range p.pieces {
		content := p.find(oci.Descriptor{Digest: digest, Size: all[0].Size})
		if content == nil {
			continue
		}
		is, err := digest.Algorithm().FromReader(&reader{content, 0, all[0].Size})
		if err != nil {
			return err
		}
		if is != digest {
			return fault("the pieces of %s together are not what its digest says", digest)
		}
	}
	return nil
}

// Manifest returns a manifest by its digest.
func (p *Parcel) Manifest(_ context.Context, _ oci.Name, target string) (oci.Descriptor, []byte, error) {
	digest, err := oci.ParseDigest(target)
	if err != nil {
		return oci.Descriptor{}, nil, err
	}
	raw, err := p.volumes[0].read(blobName(digest))
	if err != nil {
		return oci.Descriptor{}, nil, oci.Errorf(oci.CodeManifestUnknown, "the parcel does not have the manifest %s", digest)
	}
	if oci.DigestOf(digest.Algorithm(), raw) != digest {
		return oci.Descriptor{}, nil, fault("%s in the parcel is not what its digest says", digest)
	}
	d := p.types[digest]
	d.Digest, d.Size = digest, int64(len(raw))
	if m, err := oci.ParseManifest(d.MediaType, raw); err == nil {
		d.MediaType = m.MediaType
	}
	return d, raw, nil
}

// Referrers returns what in the parcel refers to a manifest.
func (p *Parcel) Referrers(_ context.Context, _ oci.Name, digest oci.Digest) ([]oci.Descriptor, error) {
	return p.referrers[digest], nil
}

// Tags lists none: a parcel has what it says by digest.
func (p *Parcel) Tags(context.Context, oci.Name, string) (tags []string, next string, err error) {
	return nil, "", nil
}

// Holds reports whether a blob is in the volumes at hand.
func (p *Parcel) Holds(d oci.Descriptor) bool {
	return p.find(d) != nil
}

// Elsewhere returns where a blob is expected at the destination that the parcel was packed
// without.
func (p *Parcel) Elsewhere(d oci.Descriptor) []oci.Name { return p.needs[d.Digest].In }

// find returns a blob, nil where it is not at hand whole.
func (p *Parcel) find(d oci.Descriptor) io.ReaderAt {
	for _, v := range p.volumes {
		if e, there := v.files[blobName(d.Digest)]; there && e.size == d.Size {
			return io.NewSectionReader(v.file, e.offset, e.size)
		}
	}
	all := p.pieces[d.Digest]
	end := int64(0)
	for _, one := range all {
		if one.Offset != end {
			return nil
		}
		end += one.Length
	}
	if end != d.Size || len(all) == 0 {
		return nil
	}
	return joined(all)
}

// joined is a blob made of its pieces.
type joined []piece

func (j joined) ReadAt(p []byte, off int64) (int, error) {
	for _, one := range j {
		if off >= one.Offset && off < one.Offset+one.Length {
			n, err := one.content.ReadAt(p[:min(int64(len(p)), one.Offset+one.Length-off)], off-one.Offset)
			if errors.Is(err, io.EOF) && n > 0 {
				err = nil
			}
			return n, err
		}
	}
	return 0, io.EOF
}

// OpenBlob opens a blob.
func (p *Parcel) OpenBlob(_ context.Context, _ oci.Name, d oci.Descriptor, offset int64) (io.ReadCloser, int64, error) {
	content := p.find(d)
	if content == nil {
		return nil, 0, oci.Errorf(oci.CodeBlobUnknown, "the parcel does not have %s at hand", d.Digest)
	}
	return io.NopCloser(&reader{content, offset, d.Size}), d.Size - offset, nil
}

// reader reads from an offset on.
type reader struct {
	from     io.ReaderAt
	at, size int64
}

func (r *reader) Read(p []byte) (int, error) {
	if r.at >= r.size {
		return 0, io.EOF
	}
	n, err := r.from.ReadAt(p[:min(int64(len(p)), r.size-r.at)], r.at)
	r.at += int64(n)
	if n > 0 && errors.Is(err, io.EOF) {
		err = nil
	}
	return n, err
}

// keptName is what a piece is called in the folder of those that are kept.
func (i Item) keptName() string {
	return fmt.Sprintf("%s-%s-%016d-%016d", i.Digest.Algorithm(), i.Digest.Encoded(), i.Offset, i.Length)
}

// Keep leaves the pieces at hand whose blobs are not whole yet in a folder, for when the other
// volumes are unloaded. It returns how many bytes they have.
func (p *Parcel) Keep(in string) (bytes int64, err error) {
	for _, all := range p.pieces {
		if p.find(oci.Descriptor{Digest: all[0].Digest, Size: all[0].Size}) != nil {
			continue
		}
		for _, one := range all {
			if err := keep(filepath.Join(in, one.keptName()), one); err != nil {
				return bytes, fmt.Errorf("keep a piece of %s: %w", one.Digest, err)
			}
			bytes += one.Length
		}
	}
	return bytes, nil
}

func keep(at string, one piece) error {
	if info, err := os.Stat(at); err == nil && info.Size() == one.Length {
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(at), 0o700); err != nil {
		return err
	}
	f, err := os.OpenFile(at+unfinished, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, io.NewSectionReader(one.content, 0, one.Length))
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return errors.Join(err, os.Remove(at+unfinished))
	}
	return os.Rename(at+unfinished, at)
}

// Drop removes the pieces that were kept in a folder: all of the parcel came.
func (p *Parcel) Drop(in string) error {
	for _, volume := range p.Content {
		for _, item := range volume {
			if !item.isPiece() {
				continue
			}
			if err := os.Remove(filepath.Join(in, item.keptName())); err != nil && !errors.Is(err, os.ErrNotExist) {
				return err
			}
		}
	}
	return nil
}

// takeKept takes up pieces that were kept.
func (p *Parcel) takeKept(in string) error {
	for _, volume := range p.Content {
		for _, item := range volume {
			if !item.isPiece() {
				continue
			}
			raw, err := os.Open(filepath.Join(in, item.keptName()))
			if errors.Is(err, os.ErrNotExist) {
				continue
			}
			if err != nil {
				return err
			}
			// It stays open as long as the parcel.
			p.volumes[0].kept = append(p.volumes[0].kept, raw)
			if info, err := raw.Stat(); err != nil || info.Size() != item.Length {
				continue
			}
			p.pieces[item.Digest] = append(p.pieces[item.Digest], piece{item, raw})
		}
	}
	return nil
}

// Missing lists the volumes that are not at hand, by their numbers.
func (p *Parcel) Missing() (volumes []int) {
	at := p.At()
	for n := range p.Volumes {
		if !slices.Contains(at, n+1) {
			volumes = append(volumes, n+1)
		}
	}
	return volumes
}

// VolumesOf lists the volumes in which blobs are, by their numbers.
func (p *Parcel) VolumesOf(blobs []oci.Descriptor) (volumes []int) {
	for at, items := range p.Content {
		for _, d := range blobs {
			if slices.ContainsFunc(items, func(i Item) bool { return i.Digest == d.Digest }) {
				volumes = append(volumes, at+1)
				break
			}
		}
	}
	return volumes
}
