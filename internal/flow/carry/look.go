package carry

import (
	"context"
	"errors"
	"slices"

	"golang.org/x/sync/errgroup"

	"warthesis/internal/flow/packing"
	"warthesis/internal/oci"
	"warthesis/internal/peer"
	"warthesis/internal/rule"
)

// Plan is what a look found.
type Plan struct {
	Images []*Image
	// Bytes is what all images have, each blob once; New what of it goes to the destination.
	Bytes, New int64
	// Blobs is how many blobs they have, NewBlobs how many of them go.
	Blobs, NewBlobs int
}

// Count is how many images stand so.
func (p *Plan) Count(states ...State) (n int) {
	for _, i := range p.Images {
		if slices.Contains(states, i.State) {
			n++
		}
	}
	return n
}

// Look asks for each reference at its source and at the destination. No blob moves. It fails
// where it cannot be done at all; what is wrong with one image is said of that image.
func (c *Carrier) Look(ctx context.Context, items []packing.Item) (*Plan, error) {
	p := &Plan{Images: make([]*Image, len(items))}
	group, within := errgroup.WithContext(ctx)
	group.SetLimit(looksAtOnce)
	for at, item := range items {
		i := &Image{Item: item, Name: item.Name.Below(c.o.Prefix)}
		p.Images[at] = i
		group.Go(func() error {
			c.look(within, i)
			c.o.Watch.Looked(1)
			return within.Err()
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	if err := c.isDead(""); err != nil {
		return nil, err
	}
	if err := c.weigh(ctx, p); err != nil {
		return nil, err
	}
	return p, nil
}

// look finds out what one reference names, and whether the destination has it.
func (c *Carrier) look(ctx context.Context, i *Image) {
	err := c.find(ctx, i)
	if err == nil {
		err = c.compare(ctx, i)
	}
	if err == nil {
		return
	}
	i.State, i.Err, i.parts = Failed, err, nil
	if IsGone(err) && i.Root.Digest == "" {
		i.State, i.Instead = Missing, Instead(ctx, i.from, i.Item)
	}
}

// IsGone reports whether a registry says that something is not there.
func IsGone(err error) bool {
	return errors.Is(err, oci.CodeManifestUnknown) || errors.Is(err, oci.CodeNameUnknown) || errors.Is(err, oci.CodeBlobUnknown)
}

// find reads what a reference names, with all that belongs to it.
func (c *Carrier) find(ctx context.Context, i *Image) (err error) {
	if _, err := oci.ParseName(string(i.Name)); err != nil {
		return err
	}
	if err := c.isDead(i.Item.Ref.Registry); err != nil {
		return err
	}
	if i.from, err = c.o.From(i.Item.Ref.Registry); err != nil {
		return err
	}
	root, raw, err := i.from.Manifest(ctx, i.Item.Ref.Name, i.Item.Ref.Target())
	if err != nil {
		return c.fromFails(i, err)
	}
	c.keep(root.Digest, raw)
	root.Size = int64(len(raw))
	if err := c.gather(ctx, i, root, 0); err != nil {
		return err
	}
	i.Root = root
	return nil
}

// gather reads an image, or what refers to one, with all it names and what refers to that.
// What refers to something stands before it: so a signature is there when its image shows.
func (c *Carrier) gather(ctx context.Context, i *Image, root oci.Descriptor, depth int) error {
	if slices.ContainsFunc(i.parts, func(p part) bool { return p.root.Digest == root.Digest }) {
		return nil
	}
	documents, blobs, err := peer.Closure(root, func(d oci.Descriptor) ([]byte, error) { return c.manifest(ctx, i, d) })
	if err != nil {
		return err
	}
	for _, d := range documents {
		if c.o.NoReferrers {
			break
		}
		all, err := i.from.Referrers(ctx, i.Item.Ref.Name, d.Digest)
		if err != nil {
			return c.fromFails(i, err)
		}
		for _, r := range all {
			if i.Referrers++; i.Referrers > mostReferrers || depth == deepestReferrers {
				return oci.Errorf(oci.CodeManifestTooLarge, "more than %d manifests refer to %s, or to what refers to it, or they do so more than %d deep; leave them out with --no-referrers", mostReferrers, i.Item.Ref, deepestReferrers)
			}
			_, raw, err := i.from.Manifest(ctx, i.Item.Ref.Name, r.Digest.String())
			if IsGone(err) {
				// It went since it was listed.
				i.Referrers--
				continue
			}
			if err != nil {
				return c.fromFails(i, err)
			}
			c.keep(r.Digest, raw)
			if err := c.gather(ctx, i, oci.Descriptor{MediaType: mediaTypeOf(r, raw), Digest: r.Digest, Size: int64(len(raw))}, depth+1); err != nil {
				return err
			}
		}
	}
	i.parts = append(i.parts, part{root: root, documents: documents, blobs: blobs})
	return nil
}

// mediaTypeOf is the media type of a manifest that a list describes.
func mediaTypeOf(d oci.Descriptor, raw []byte) string {
	if parsed, err := oci.ParseManifest("", raw); err == nil {
		return parsed.MediaType
	}
	return d.MediaType
}

// compare asks the destination for an image.
func (c *Carrier) compare(ctx context.Context, i *Image) (err error) {
	if i.Item.Tag != "" {
		if i.Was, err = c.o.To.TagDigest(ctx, i.Name, i.Item.Tag); err != nil {
			return c.toFails(err)
		}
	}
	whole := true
	for at := range i.parts {
		p := &i.parts[at]
		p.whole = i.Was != "" && p.root.Digest == i.Was
		if !p.whole {
			if p.whole, err = c.o.To.HasManifest(ctx, i.Name, p.root.Digest); err != nil {
				return c.toFails(err)
			}
		}
		whole = whole && p.whole
	}
	switch {
	case i.Item.Tag != "" && i.Was != "" && i.Was != i.Root.Digest:
		i.State = Moves
	case whole && (i.Item.Tag == "" || i.Was == i.Root.Digest):
		i.State = There
	default:
		i.State = Absent
	}
	return nil
}

// needs visits the blobs of images that the destination does not have whole, with the image
// that needs each.
func (p *Plan) needs(visit func(*Image, oci.Descriptor)) {
	for _, i := range p.Images {
		if i.Lacks() {
			continue
		}
		for _, part := range i.parts {
			if part.whole {
				continue
			}
			for _, d := range part.blobs {
				visit(i, d)
			}
		}
	}
}

// weigh asks the destination which blobs it has, and adds up.
func (c *Carrier) weigh(ctx context.Context, p *Plan) error {
	type at struct {
		name   oci.Name
		digest oci.Digest
	}
	asked := map[at]bool{}
	group, within := errgroup.WithContext(ctx)
	group.SetLimit(looksAtOnce)
	p.needs(func(i *Image, d oci.Descriptor) {
		if key := (at{i.Name, d.Digest}); asked[key] {
			return
		} else {
			asked[key] = true
		}
		b := c.blobOf(d)
		group.Go(func() error {
			names := []oci.Name{i.Name}
			if partial, is := i.from.(Partial); is && !partial.Holds(d) {
				for _, name := range partial.Elsewhere(d) {
					names = append(names, name.Below(c.o.Prefix))
				}
			}
			for _, name := range names {
				has, err := c.o.To.HasBlob(within, name, d)
				if err != nil {
					return c.toFails(err)
				}
				if has {
					c.mu.Lock()
					b.has[name] = true
					c.mu.Unlock()
					return nil
				}
			}
			return nil
		})
	})
	if err := group.Wait(); err != nil {
		return err
	}
	for _, i := range p.Images {
		for _, part := range i.parts {
			for _, d := range part.blobs {
				if part.whole {
					c.blobOf(d).named[i.Name] = true
				}
			}
		}
	}
	counted := map[oci.Digest]bool{}
	p.needs(func(i *Image, d oci.Descriptor) {
		b := c.blobOf(d)
		if !b.isNew() || b.counted {
			return
		}
		b.counted = true
		i.New += d.Size
		p.New += d.Size
		p.NewBlobs++
	})
	for _, i := range p.Images {
		mine := map[oci.Digest]bool{}
		for _, part := range i.parts {
			for _, d := range part.blobs {
				if !mine[d.Digest] {
					mine[d.Digest] = true
					i.Bytes += d.Size
				}
				if !counted[d.Digest] {
					counted[d.Digest] = true
					p.Bytes += d.Size
					p.Blobs++
				}
			}
		}
	}
	return nil
}

// mostInstead is how many tags are named where one is missing, among as many as mostAmong.
const (
	mostInstead = 5
	mostAmong   = 10_000
)

// Instead returns tags that a repository has in place of one that was meant and is not there:
// the nearest of its kind.
func Instead(ctx context.Context, from From, item packing.Item) []string {
	if item.Ref.Tag == "" {
		return nil
	}
	var all []string
	err := eachTag(ctx, from, item.Ref.Name, func(tag oci.Tag) bool {
		all = append(all, string(tag))
		return len(all) < mostAmong
	})
	if err != nil {
		return nil
	}
	return rule.Nearest(string(item.Ref.Tag), all, mostInstead)
}
