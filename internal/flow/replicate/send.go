package replicate

import (
	"context"
	"errors"
	"fmt"

	"warthesis/internal/oci"
	"warthesis/internal/peer"
	"warthesis/internal/record/follows"
)

// The bounds of what refers to one image, and of how deep that goes.
const (
	mostReferrers     = 1000
	deepestReferrers  = 5
	mostDocumentBytes = 64 << 20
)

// sending is an image on its way to a peer.
type sending struct {
	r      *Replicator
	a      *active
	client *peer.Client
	from   oci.Name
	// to is the whole name at the peer.
	to oci.Name
	g  *Going
	// referrers counts what refers to the image, and to that.
	referrers int
}

// image sends an image with all that it names and, where the rule says so, what refers to it;
// last sends the root's manifest, after all else.
func (s *sending) image(ctx context.Context, root oci.Descriptor, depth int, last func(oci.Descriptor, []byte) error) error {
	raws := map[oci.Digest][]byte{}
	bytes := 0
	documents, blobs, err := peer.Closure(root, func(d oci.Descriptor) ([]byte, error) {
		m, err := s.r.registry.Manifest(ctx, s.from, d.Digest.String())
		if err == nil && m.Missing > 0 {
			var now follows.Standing
			if now, err = s.r.records.View(ctx).Follows().Standing(m.ID); err == nil {
				m.Missing = int(now.Missing)
			}
		}
		if err == nil && m.Missing > 0 {
			err = oci.Errorf(oci.CodeManifestUnknown, "%s@%s came from a peer and is not all here yet; it travels once it was pulled whole, or at once where its namespace follows with --complete", s.from, d.Digest)
		}
		if err != nil {
			return nil, err
		}
		raw, err := s.r.registry.ManifestBytes(ctx, m)
		if bytes += len(raw); err == nil && bytes <= mostDocumentBytes {
			raws[d.Digest] = raw
		}
		return raw, err
	})
	if err != nil {
		return err
	}
	if depth == 0 {
		s.a.meter.begins(s.g, blobs)
	}
	if err := eachBlob(ctx, blobs, s.blob); err != nil {
		return err
	}
	for _, d := range documents {
		raw := raws[d.Digest]
		if raw == nil {
			m, err := s.r.registry.Manifest(ctx, s.from, d.Digest.String())
			if err != nil {
				return err
			}
			if raw, err = s.r.registry.ManifestBytes(ctx, m); err != nil {
				return err
			}
		}
		if err := s.referring(ctx, d.Digest, depth); err != nil {
			return err
		}
		if d.Digest == root.Digest {
			err = last(d, raw)
		} else {
			err = s.client.PushManifest(ctx, s.to, d, raw, nil)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// blob sends a blob that the peer lacks.
func (s *sending) blob(ctx context.Context, d oci.Descriptor) error {
	at := blobAt{s.a.peer.ID, s.to, d.Digest}
	pass := func(err error) error {
		if err == nil {
			s.r.known.note(at)
			s.a.meter.pass(s.g, d.Size)
		}
		return err
	}
	end, err := s.r.known.alone(ctx, at)
	if err != nil {
		return err
	}
	defer end()
	if s.r.known.has(at) {
		return pass(nil)
	}
	if has, err := s.client.HasBlob(ctx, s.to, d); err != nil || has {
		return pass(err)
	}
	file, size, err := s.r.registry.OpenBlob(ctx, s.from, d.Digest)
	if err != nil {
		return err
	}
	defer file.Close()
	if size != d.Size {
		return oci.Errorf(oci.CodeSizeInvalid, "the image says that %s has %d bytes, and it has %d", d.Digest, d.Size, size)
	}
	from := oci.Name("")
	if !s.a.peer.Can.Digests {
		// One of ours finds it by itself, wherever the login may pull.
		from = s.r.known.elsewhere(at)
	}
	sent := int64(0)
	content := pacedAt{paced{ctx, s.a.limit}, file}
	outcome, err := s.client.PushBlobFrom(ctx, s.to, from, d, content, func(n int) {
		// What is sent again after a break is not counted twice.
		sent = min(d.Size, sent+int64(n))
		s.a.meter.moved(s.g, int64(n))
	})
	if err == nil && outcome != peer.Sent {
		return pass(nil)
	}
	if err == nil {
		s.r.known.note(at)
	}
	return err
}

// referring sends what refers to a manifest, where the rule says so and the peer lacks it.
func (s *sending) referring(ctx context.Context, subject oci.Digest, depth int) error {
	if !s.a.rule.WithReferrers() {
		return nil
	}
	for after := oci.Digest(""); ; {
		page, more, err := s.r.registry.Referrers(ctx, s.from, subject, "", after)
		if err != nil {
			return err
		}
		for _, d := range page {
			after = d.Digest
			if s.referrers++; s.referrers > mostReferrers || depth == deepestReferrers {
				return oci.Errorf(oci.CodeManifestTooLarge, "more than %d manifests refer to %s, or to what refers to it, or they do so more than %d deep; let the rule copy it without, with --no-referrers", mostReferrers, s.from, deepestReferrers)
			}
			if err := s.referrer(ctx, oci.Descriptor{MediaType: d.MediaType, Digest: d.Digest, Size: d.Size}, depth); err != nil {
				return err
			}
		}
		if !more || len(page) == 0 {
			return nil
		}
	}
}

func (s *sending) referrer(ctx context.Context, d oci.Descriptor, depth int) error {
	has, err := s.client.HasManifest(ctx, s.to, d.Digest)
	if err != nil {
		return err
	}
	if has {
		// What refers to it may have come since.
		return s.referring(ctx, d.Digest, depth+1)
	}
	return s.image(ctx, d, depth+1, func(d oci.Descriptor, raw []byte) error {
		return s.client.PushManifest(ctx, s.to, d, raw, nil)
	})
}

// send copies a tag to the peer of a rule, where the tag there still points to was.
func (r *Replicator) send(ctx context.Context, a *active, client *peer.Client, c copied) error {
	root := oci.Descriptor{Digest: c.digest}
	m, err := r.registry.Manifest(ctx, c.name, c.digest.String())
	if err != nil {
		return err
	}
	root.MediaType, root.Size = m.MediaType, m.Size
	to := a.peer.Repository(c.targetName)
	g := &Going{Repository: c.name, Tag: c.tag, Digest: c.digest, Target: c.target()}
	defer a.meter.begin(g)()
	for again := true; ; again = false {
		s := &sending{r: r, a: a, client: client, from: c.name, to: to, g: g}
		err = s.image(ctx, root, 0, func(d oci.Descriptor, raw []byte) error {
			if c.tag == "" {
				return client.PushManifest(ctx, to, d, raw, nil)
			}
			return client.PlaceTag(ctx, to, c.targetTag, d, raw, c.was, a.peer.Can.Digests)
		})
		if !again || !(errors.Is(err, oci.CodeManifestBlobUnknown) || errors.Is(err, oci.CodeManifestUnknown) || errors.Is(err, oci.CodeBlobUnknown)) {
			break
		}
		// What was there a moment ago went: all of it is asked for again.
		r.known.forget(a.peer.ID, to)
	}
	if err == nil {
		a.meter.done()
	}
	return err
}

// copied is a tag, or with no tag a digest, that is copied under a name.
type copied struct {
	name       oci.Name
	tag        oci.Tag
	digest     oci.Digest
	targetName oci.Name
	targetTag  oci.Tag
	// was is what the tag points to where it is copied to, "" for no such tag.
	was oci.Digest
}

func (c copied) target() string {
	if c.targetTag == "" {
		return fmt.Sprintf("%s@%s", c.targetName, c.digest)
	}
	return string(c.targetName) + ":" + string(c.targetTag)
}
