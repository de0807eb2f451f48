package carry

import (
	"context"
	"fmt"
	"slices"

	"golang.org/x/sync/errgroup"

	"warthesis/internal/oci"
)

// Verify asks the destination for each image of a plan again, whatever was sent and whatever
// was said to be there: that its tag points to the digest, that all its manifests and blobs
// are there, and that what refers to it is listed. What is not so fails.
func (c *Carrier) Verify(ctx context.Context, p *Plan) error {
	group, within := errgroup.WithContext(ctx)
	group.SetLimit(imagesAtOnce)
	for _, i := range p.Images {
		if i.Lacks() || i.State == Waiting {
			continue
		}
		group.Go(func() error {
			err := c.verify(within, i)
			if within.Err() != nil {
				return within.Err()
			}
			if err != nil {
				i.State, i.Err = Failed, fmt.Errorf("asked again at the end: %w", err)
			}
			return nil
		})
	}
	return group.Wait()
}

func (c *Carrier) verify(ctx context.Context, i *Image) error {
	if i.Item.Tag != "" {
		is, err := c.o.To.TagDigest(ctx, i.Name, i.Item.Tag)
		switch {
		case err != nil:
			return c.toFails(err)
		case is == "":
			return oci.Errorf(oci.CodeManifestUnknown, "the destination does not have the tag %s", i.Target())
		case is != i.Root.Digest:
			return oci.Errorf(oci.CodeTagMoved, "%s is %s at the destination, and should be %s", i.Target(), is, i.Root.Digest)
		}
	}
	group, within := errgroup.WithContext(ctx)
	group.SetLimit(looksAtOnce / imagesAtOnce)
	for _, p := range i.parts {
		for _, d := range p.documents {
			group.Go(func() error {
				has, err := c.o.To.HasManifest(within, i.Name, d.Digest)
				return c.lacks(i, "manifest", d, has, err)
			})
		}
		for _, d := range p.blobs {
			group.Go(func() error {
				has, err := c.o.To.HasBlob(within, i.Name, d)
				return c.lacks(i, "blob", d, has, err)
			})
		}
		if p.root.Digest != i.Root.Digest {
			group.Go(func() error { return c.refers(within, i, p.root) })
		}
	}
	return group.Wait()
}

func (c *Carrier) lacks(i *Image, what string, d oci.Descriptor, has bool, err error) error {
	if err != nil || has {
		return c.toFails(err)
	}
	return oci.Errorf(oci.CodeManifestBlobUnknown, "the destination lacks the %s %s of %s", what, d.Digest, i.Target())
}

// refers fails where the destination does not list what refers to something.
func (c *Carrier) refers(ctx context.Context, i *Image, d oci.Descriptor) error {
	raw, err := c.manifest(ctx, i, d)
	if err != nil {
		return err
	}
	parsed, err := oci.ParseManifest(d.MediaType, raw)
	if err != nil || parsed.Subject == nil {
		return err
	}
	all, err := c.o.To.Referrers(ctx, i.Name, parsed.Subject.Digest)
	if err != nil {
		return c.toFails(err)
	}
	listed := slices.ContainsFunc(all, func(r oci.Descriptor) bool { return r.Digest == d.Digest })
	return c.lacks(i, "referrer", d, listed, nil)
}
