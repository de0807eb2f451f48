package carry

import (
	"cmp"
	"context"
	"io"
	"slices"

	"warthesis/internal/oci"
)

// Content is a blob or a manifest that images of a plan have.
type Content struct {
	oci.Descriptor
	// In are the repositories of the destination that have it, without the prefix.
	In []oci.Name
	// Left tells that the destination has it already: it is named, and left out.
	Left bool
	of   *Image
}

// Contents returns what the images of a plan have, each once, in the order of their digests:
// the manifests, and the blobs. Roots are the manifests that stand for themselves, images and
// what refers to them, in the order of the list.
func (c *Carrier) Contents(p *Plan) (roots []oci.Descriptor, documents, blobs []Content) {
	all := [2]map[oci.Digest]*Content{{}, {}}
	add := func(kind int, i *Image, d oci.Descriptor) {
		one := all[kind][d.Digest]
		if one == nil {
			one = &Content{Descriptor: oci.Descriptor{MediaType: d.MediaType, Digest: d.Digest, Size: d.Size}, of: i}
			all[kind][d.Digest] = one
		}
		if !slices.Contains(one.In, i.Item.Name) {
			one.In = append(one.In, i.Item.Name)
		}
	}
	for _, i := range p.Images {
		if i.Lacks() {
			continue
		}
		for _, part := range i.parts {
			roots = append(roots, part.root)
			for _, d := range part.documents {
				add(0, i, d)
			}
			for _, d := range part.blobs {
				add(1, i, d)
			}
		}
	}
	var sorted [2][]Content
	for kind := range all {
		for _, one := range all[kind] {
			slices.Sort(one.In)
			one.Left = kind == 1 && c.isThere(one.Descriptor)
			sorted[kind] = append(sorted[kind], *one)
		}
		slices.SortFunc(sorted[kind], func(a, b Content) int { return cmp.Compare(a.Digest, b.Digest) })
	}
	return roots, sorted[0], sorted[1]
}

// Document returns the bytes of a manifest.
func (c *Carrier) Document(ctx context.Context, of Content) ([]byte, error) {
	return c.manifest(ctx, of.of, of.Descriptor)
}

// Write writes a blob to an open place, checked against its digest as it comes.
func (c *Carrier) Write(ctx context.Context, of Content, to io.Writer) error {
	return c.WritePiece(ctx, of, to, 0, of.Size)
}

// WritePiece writes a part of a blob; a part alone is not checked.
func (c *Carrier) WritePiece(ctx context.Context, of Content, to io.Writer, offset, length int64) error {
	within, end := context.WithCancelCause(ctx)
	defer end(nil)
	content := &content{ctx: within, end: end, c: c, i: of.of, d: of.Descriptor}
	defer content.close()
	_, err := io.Copy(moving{to, c.o.Watch}, io.NewSectionReader(content, offset, length))
	return err
}

// moving tells of what is written.
type moving struct {
	io.Writer
	watch Watcher
}

func (m moving) Write(p []byte) (int, error) {
	n, err := m.Writer.Write(p)
	m.watch.Moved(int64(n))
	return n, err
}

// Lack is a blob that neither the source holds nor the destination has.
type Lack struct {
	oci.Descriptor
	// Of is the first image of the list that needs it.
	Of *Image
}

// Lacks lists the blobs of a plan that a partial source does not hold and the destination does
// not have, each once.
func (c *Carrier) Lacks(p *Plan) (all []Lack) {
	met := map[oci.Digest]bool{}
	p.needs(func(i *Image, d oci.Descriptor) {
		partial, is := i.from.(Partial)
		if is && !met[d.Digest] && !partial.Holds(d) && !c.isThere(d) {
			met[d.Digest] = true
			all = append(all, Lack{d, i})
		}
	})
	return all
}
