package replicate

import (
	"context"
	"errors"
	"fmt"
	"io"

	"warthesis/internal/flow/sides"
	"warthesis/internal/oci"
	"warthesis/internal/peer"
	"warthesis/internal/record"
	"warthesis/internal/registry"
)

// bringing is an image on its way from a peer.
type bringing struct {
	r      *Replicator
	a      *active
	client *peer.Client
	// from is the whole name at the peer, to that here.
	from, to  oci.Name
	g         *Going
	referrers int
}

// bring copies a tag from the peer of a rule, where the tag here still points to was.
func (r *Replicator) bring(ctx context.Context, a *active, client *peer.Client, c copied) error {
	g := &Going{Repository: c.name, Tag: c.tag, Digest: c.digest, Target: c.target()}
	defer a.meter.begin(g)()
	b := &bringing{r: r, a: a, client: client, from: a.peer.Repository(c.name), to: c.targetName, g: g}
	err := b.image(ctx, c.digest, 0, registry.ManifestPush{
		Tags: []oci.Tag{c.targetTag}, If: registry.If{Digest: c.was, New: c.was == ""}, Origin: record.Origin(a.peer.Name),
	})
	if err == nil {
		a.meter.done()
	}
	return err
}

// image brings an image with all that it names, and what refers to it; the root's manifest
// comes last, as a push says.
func (b *bringing) image(ctx context.Context, digest oci.Digest, depth int, last registry.ManifestPush) error {
	root, first, err := b.client.Manifest(ctx, b.from, digest.String())
	if err != nil {
		return err
	}
	raws := map[oci.Digest][]byte{}
	types := map[oci.Digest]string{}
	bytes := 0
	documents, blobs, err := peer.Closure(root, func(d oci.Descriptor) ([]byte, error) {
		raw := first
		if d.Digest != root.Digest {
			var err error
			if _, raw, err = b.client.Manifest(ctx, b.from, d.Digest.String()); err != nil {
				return nil, err
			}
		}
		if bytes += len(raw); bytes > mostDocumentBytes {
			return nil, oci.Errorf(oci.CodeManifestTooLarge, "the manifests of the image have more than %d MiB", mostDocumentBytes>>20)
		}
		raws[d.Digest], types[d.Digest] = raw, d.MediaType
		return raw, nil
	})
	if err != nil {
		return err
	}
	if depth == 0 {
		b.a.meter.begins(b.g, blobs)
	}
	if err := eachBlob(ctx, blobs, b.blob); err != nil {
		return err
	}
	for _, d := range documents {
		if err := b.referring(ctx, d.Digest, depth); err != nil {
			return err
		}
		push := registry.ManifestPush{}
		if d.Digest == root.Digest {
			push = last
		}
		push.Name, push.Digest, push.MediaType, push.Raw = b.to, d.Digest, types[d.Digest], raws[d.Digest]
		if _, err := b.r.registry.PushManifest(ctx, push); err != nil {
			return err
		}
	}
	return nil
}

// mostResumed is how often a transfer is gone on with that broke off.
const mostResumed = 5

// blob brings a blob that the repository lacks. What another repository here holds is held
// without transfer, once the peer said that it has it in this one.
func (b *bringing) blob(ctx context.Context, d oci.Descriptor) error {
	pass := func(err error) error {
		if err == nil {
			b.a.meter.pass(b.g, d.Size)
		}
		return err
	}
	// What images that travel together share is brought once.
	end, err := b.r.known.alone(ctx, blobAt{-b.a.peer.ID, b.to, d.Digest})
	if err != nil {
		return err
	}
	defer end()
	if size, err := b.r.registry.StatBlob(ctx, b.to, d.Digest); err == nil && size == d.Size {
		return pass(nil)
	}
	if held, err := sides.HoldHere(ctx, b.r.registry, b.client, b.a.peer.ID, b.from, b.to, d); err != nil || held {
		return pass(err)
	}
	into, err := b.r.registry.BeginFetch(ctx, b.a.peer.ID, b.to, d.Digest, d.Size)
	if err != nil {
		return err
	}
	if err := b.receive(ctx, d, into); err != nil {
		into.Abandon()
		return err
	}
	err = into.Finish(ctx, d.Digest)
	if errors.Is(err, oci.CodeDigestInvalid) {
		err = oci.Errorf(oci.CodeDigestInvalid, "what the peer %s sends for %s is something else; whoever runs it has to mend it", b.a.peer.Name, d.Digest)
	}
	return err
}

func (b *bringing) receive(ctx context.Context, d oci.Descriptor, into *registry.Fetch) error {
	for resumed := 0; ; resumed++ {
		before := into.Offset()
		if before == d.Size {
			return nil
		}
		body, _, err := b.client.OpenBlob(ctx, b.from, d, before)
		if err != nil {
			return err
		}
		told := func(n int) { b.a.meter.moved(b.g, int64(n)) }
		// One byte more than is missing is enough to see that too much comes.
		_, err = into.ReadFrom(io.LimitReader(pacedReader{paced{ctx, b.a.limit}, body, told}, d.Size-before+1))
		body.Close()
		switch {
		case into.Offset() > d.Size:
			return oci.Errorf(oci.CodeSizeInvalid, "the peer %s sends more than the %d bytes that %s has", b.a.peer.Name, d.Size, d.Digest)
		case err == nil && into.Offset() == d.Size:
			return nil
		case ctx.Err() != nil:
			return ctx.Err()
		case resumed == mostResumed, into.Offset() == before && resumed > 0:
			return peer.BrokeOff(fmt.Errorf("the transfer of %s broke off after %d of %d bytes", d.Digest, into.Offset(), d.Size))
		}
	}
}

// referring brings what refers to a manifest, where the rule says so and it is not here.
func (b *bringing) referring(ctx context.Context, subject oci.Digest, depth int) error {
	if !b.a.rule.WithReferrers() {
		return nil
	}
	all, err := b.client.Referrers(ctx, b.from, subject)
	if err != nil {
		return err
	}
	for _, d := range all {
		if b.referrers++; b.referrers > mostReferrers || depth == deepestReferrers {
			return oci.Errorf(oci.CodeManifestTooLarge, "more than %d manifests refer to %s, or to what refers to it, or they do so more than %d deep; let the rule copy it without, with --no-referrers", mostReferrers, b.from, deepestReferrers)
		}
		_, err := b.r.registry.Manifest(ctx, b.to, d.Digest.String())
		switch {
		case err == nil:
			err = b.referring(ctx, d.Digest, depth+1)
		case errors.Is(err, oci.CodeManifestUnknown), errors.Is(err, oci.CodeNameUnknown):
			err = b.image(ctx, d.Digest, depth+1, registry.ManifestPush{})
		}
		if err != nil {
			return err
		}
	}
	return nil
}
