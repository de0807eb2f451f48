package parcel

import (
	"context"
	"fmt"
	"io"
	"strings"

	"warthesis/internal/flow/packing"
	"warthesis/internal/layout"
	"warthesis/internal/oci"
)

// Layout is an image layout of anybody's make, as a source that images can be carried from.
// It is safe for concurrent use.
type Layout struct {
	Items     []packing.Item
	source    *layout.Source
	types     map[oci.Digest]oci.Descriptor
	referrers map[oci.Digest][]oci.Descriptor
}

// somewhere stands for the registry of what came without one.
const somewhere = "layout.invalid"

// OpenLayout opens a layout. What it calls by a tag alone, or not at all, is called by a
// repository that is given; as is "" for none.
func OpenLayout(at string, as oci.Name) (*Layout, error) {
	source, err := layout.Open(at)
	if err != nil {
		return nil, err
	}
	l := &Layout{source: source, types: map[oci.Digest]oci.Descriptor{}, referrers: map[oci.Digest][]oci.Descriptor{}}
	if err := l.read(as); err != nil {
		source.Close()
		return nil, fmt.Errorf("%s: %w", at, err)
	}
	return l, nil
}

func (l *Layout) read(as oci.Name) error {
	entries := l.source.Entries()
	for _, e := range entries {
		l.types[e.Digest] = e.Descriptor
	}
	for _, e := range entries {
		_, raw, err := l.Manifest(context.Background(), "", e.Digest.String())
		if err != nil {
			return err
		}
		m, err := oci.ParseManifest(e.MediaType, raw)
		if err != nil {
			return fmt.Errorf("%s: %w", e.Digest, err)
		}
		if m.Subject != nil {
			d := e.Descriptor
			d.Annotations = nil
			l.referrers[m.Subject.Digest] = append(l.referrers[m.Subject.Digest], d)
			if _, along := l.types[m.Subject.Digest]; along && e.Name == "" {
				continue
			}
		}
		item, err := itemOf(e, as)
		if err != nil {
			return err
		}
		l.Items = append(l.Items, item)
	}
	return nil
}

// itemOf reads what a layout calls an image: a whole reference, a repository with a tag or a
// digest, a tag alone, or nothing.
func itemOf(e layout.Entry, as oci.Name) (packing.Item, error) {
	item := packing.Item{Ref: oci.Reference{Registry: somewhere, Name: as, Digest: e.Digest}, Name: as}
	text, _, _ := strings.Cut(e.Name, "@")
	if first, rest, has := strings.Cut(text, "/"); has && (strings.ContainsAny(first, ".:") || first == "localhost") {
		text = rest
	}
	name, tag, tagged := strings.Cut(text, ":")
	if !tagged && !strings.Contains(text, "/") && !strings.Contains(e.Name, "@") {
		name, tag = "", text
	}
	if name != "" {
		parsed, err := oci.ParseName(name)
		if err != nil {
			return item, fmt.Errorf("it calls an image %q: %w", e.Name, err)
		}
		item.Name, item.Ref.Name = parsed, parsed
	}
	if tag != "" {
		parsed, err := oci.ParseTag(tag)
		if err != nil {
			return item, fmt.Errorf("it calls an image %q: %w", e.Name, err)
		}
		item.Tag, item.Ref.Tag = parsed, parsed
	}
	if item.Name == "" {
		return item, oci.Errorf(oci.CodeQueryInvalid, "it does not say to which repository %s belongs; say so with --as NAME", e.Digest)
	}
	return item, nil
}

// Close closes the layout.
func (l *Layout) Close() error { return l.source.Close() }

// mostDocument is the largest manifest of a layout that is read.
const mostDocument = oci.MostManifestLimit

// Manifest returns a manifest by its digest.
func (l *Layout) Manifest(_ context.Context, _ oci.Name, target string) (oci.Descriptor, []byte, error) {
	digest, err := oci.ParseDigest(target)
	if err != nil {
		return oci.Descriptor{}, nil, err
	}
	d := l.types[digest]
	d.Digest = digest
	content, err := l.source.Open(d)
	if err != nil {
		return d, nil, oci.Errorf(oci.CodeManifestUnknown, "%v", err)
	}
	defer content.Close()
	if content.Size() > mostDocument {
		return d, nil, oci.Errorf(oci.CodeManifestTooLarge, "the manifest %s is larger than %d MiB", digest, mostDocument>>20)
	}
	raw, err := io.ReadAll(io.NewSectionReader(content, 0, content.Size()))
	if err != nil {
		return d, nil, err
	}
	if oci.DigestOf(digest.Algorithm(), raw) != digest {
		return d, nil, fault("%s in it is not what its digest says", digest)
	}
	d.Size = int64(len(raw))
	if m, err := oci.ParseManifest(d.MediaType, raw); err == nil {
		d.MediaType = m.MediaType
	}
	return d, raw, nil
}

// Referrers returns what in the layout refers to a manifest.
func (l *Layout) Referrers(_ context.Context, _ oci.Name, digest oci.Digest) ([]oci.Descriptor, error) {
	return l.referrers[digest], nil
}

// Tags lists none: a layout has what it says by digest.
func (l *Layout) Tags(context.Context, oci.Name, string) (tags []string, next string, err error) {
	return nil, "", nil
}

// OpenBlob opens a blob.
func (l *Layout) OpenBlob(_ context.Context, _ oci.Name, d oci.Descriptor, offset int64) (io.ReadCloser, int64, error) {
	content, err := l.source.Open(d)
	if err != nil {
		return nil, 0, oci.Errorf(oci.CodeBlobUnknown, "%v", err)
	}
	if content.Size() != d.Size {
		content.Close()
		return nil, 0, oci.Errorf(oci.CodeSizeInvalid, "%s has %d bytes in it, and should have %d", d.Digest, content.Size(), d.Size)
	}
	return closing{io.NewSectionReader(content, offset, d.Size-offset), content}, d.Size - offset, nil
}

type closing struct {
	io.Reader
	io.Closer
}

// CheckAll reads all content that the images have, and compares it with its digests. Contents
// come from a plan of a carrier that has looked at the layout.
func (l *Layout) CheckAll(ctx context.Context, blobs []oci.Descriptor) error {
	for _, d := range blobs {
		content, _, err := l.OpenBlob(ctx, "", d, 0)
		if err != nil {
			return err
		}
		is, err := d.Digest.Algorithm().FromReader(content)
		content.Close()
		if err != nil {
			return err
		}
		if is != d.Digest {
			return fault("%s in it is not what its digest says", d.Digest)
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
	}
	return nil
}
