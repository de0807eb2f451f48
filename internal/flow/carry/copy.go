package carry

import (
	"context"
	"maps"
	"slices"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"warthesis/internal/oci"
	"warthesis/internal/peer"
)

// Copy takes the images of a plan to the destination, but for those that are there, and those
// that are missing. What fails is said of the image; it fails itself only where ctx ends, or
// nothing can go on.
func (c *Carrier) Copy(ctx context.Context, p *Plan) error {
	group, within := errgroup.WithContext(ctx)
	group.SetLimit(imagesAtOnce)
	for _, i := range p.Images {
		switch i.State {
		case Absent, Moves:
		case There:
			c.o.Watch.Passed(i.Bytes)
			c.o.Watch.Ended(i)
			continue
		default:
			c.o.Watch.Ended(i)
			continue
		}
		group.Go(func() error {
			err := c.image(within, i)
			if within.Err() != nil {
				return within.Err()
			}
			i.State, i.Err = Copied, nil
			if len(i.Awaits) > 0 {
				i.State = Waiting
			}
			if err != nil {
				i.State, i.Err = Failed, err
			}
			c.o.Watch.Ended(i)
			// Nothing waits for a destination that does not answer once for each image.
			return c.isDead("")
		})
	}
	return group.Wait()
}

// image copies one image and what refers to it.
func (c *Carrier) image(ctx context.Context, i *Image) error {
	if err := c.isDead(i.Item.Ref.Registry); err != nil {
		return err
	}
	for _, p := range i.parts {
		if p.whole {
			continue
		}
		if err := c.part(ctx, i, p); err != nil {
			return err
		}
	}
	// An image shows once all of it is there.
	if i.Item.Tag == "" || len(i.Awaits) > 0 {
		return nil
	}
	raw, err := c.manifest(ctx, i, i.Root)
	if err != nil {
		return err
	}
	return c.toFails(c.o.To.PlaceTag(ctx, i.Name, i.Item.Tag, i.Root, raw, i.Was, c.o.Conditions))
}

// part copies one image: its blobs, and its manifests but for the root of what has a tag,
// which comes with the tag, last.
func (c *Carrier) part(ctx context.Context, i *Image, p part) error {
	var sent atomic.Int64
	group, within := errgroup.WithContext(ctx)
	partial, _ := i.from.(Partial)
	awaited := len(i.Awaits)
	for _, d := range p.blobs {
		if partial != nil && !partial.Holds(d) && !c.isThere(d) {
			i.Awaits = append(i.Awaits, d)
			continue
		}
		group.Go(func() error {
			bytes, err := c.blob(within, i, d)
			sent.Add(bytes)
			return err
		})
	}
	err := group.Wait()
	i.Sent += sent.Load()
	if err != nil || len(i.Awaits) > awaited {
		return err
	}
	for _, d := range p.documents {
		if i.Item.Tag != "" && d.Digest == i.Root.Digest {
			continue
		}
		raw, err := c.manifest(ctx, i, d)
		if err != nil {
			return err
		}
		if err := c.toFails(c.o.To.PushManifest(ctx, i.Name, d, raw, nil)); err != nil {
			return err
		}
	}
	return nil
}

// blob brings a blob into a repository of the destination: it is there, or another repository
// of the destination has it, or it is sent. It returns how many bytes went.
func (c *Carrier) blob(ctx context.Context, i *Image, d oci.Descriptor) (int64, error) {
	b := c.blobOf(d)
	if err := b.lock(ctx); err != nil {
		return 0, err
	}
	defer b.unlock()
	has, elsewhere := c.placesOf(b, i.Name)
	if has {
		c.o.Watch.Passed(d.Size)
		return 0, nil
	}
	select {
	case c.room <- struct{}{}:
	case <-ctx.Done():
		return 0, context.Cause(ctx)
	}
	defer func() { <-c.room }()
	sent, err := c.send(ctx, i, d, elsewhere)
	if err != nil {
		return sent, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	b.has[i.Name] = true
	return sent, nil
}

// isThere reports whether some repository of the destination has a blob.
func (c *Carrier) isThere(d oci.Descriptor) bool {
	b := c.blobOf(d)
	c.mu.Lock()
	defer c.mu.Unlock()
	return len(b.has) > 0
}

// placesOf reports whether a repository of the destination has a blob, and else another one
// that does, "" for none.
func (c *Carrier) placesOf(b *blob, name oci.Name) (has bool, elsewhere oci.Name) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if b.has[name] {
		return true, ""
	}
	for _, places := range []map[oci.Name]bool{b.has, b.named} {
		if len(places) > 0 {
			return false, slices.Min(slices.Collect(maps.Keys(places)))
		}
	}
	return false, ""
}

// send sends a blob, or lets the destination mount it.
func (c *Carrier) send(ctx context.Context, i *Image, d oci.Descriptor, elsewhere oci.Name) (int64, error) {
	within, end := context.WithCancelCause(ctx)
	defer end(nil)
	content := &content{ctx: within, end: end, c: c, i: i, d: d}
	defer content.close()
	var sent int64
	outcome, err := c.o.To.PushBlobFrom(within, i.Name, elsewhere, d, content, func(n int) {
		// What is sent again after a break is not counted twice.
		n = int(min(int64(n), d.Size-sent))
		sent += int64(n)
		c.o.Watch.Moved(int64(n))
	})
	// Where the source failed, the destination complains only of the consequences.
	if failed := content.failed(); failed != nil {
		return sent, failed
	}
	if err == nil && outcome != peer.Sent {
		c.o.Watch.Passed(d.Size)
	}
	if err == nil && outcome == peer.Sent && sent < d.Size {
		// An earlier run had sent its beginning.
		c.o.Watch.Passed(d.Size - sent)
	}
	return sent, c.toFails(err)
}
