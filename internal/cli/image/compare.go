package image

import (
	"context"
	"errors"
	"slices"

	"golang.org/x/sync/errgroup"

	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/oci"
	"warthesis/internal/peer"
)

// warnMoved warns where a reference has a tag beside its digest, which decides, and the
// tag points elsewhere by now. Where that cannot be found out, nothing is said.
func warnMoved(ctx context.Context, c *site.Call, client *peer.Client, ref oci.Reference) {
	if ref.Tag == "" || ref.Digest == "" {
		return
	}
	d, err := client.Resolve(ctx, ref.Name, string(ref.Tag))
	switch {
	case errors.Is(err, oci.CodeManifestUnknown):
		c.T.Warn("The digest decides; there is no tag %s in %s any more.", ref.Tag, ref.Repository())
	case err == nil && d.Digest != ref.Digest:
		c.T.Warn("The digest decides; the tag %s of %s points to %s by now.", ref.Tag, ref.Repository(), d.Digest)
	}
}

// How an image compares to the first.
const (
	sameDigest  = "same"
	sameContent = "same content, other manifest"
	otherImage  = "other"
)

// compared is one of several images side by side.
type compared struct {
	identified
	// Pin is the reference with tag and digest.
	Pin string `json:"pin"`
	// Is says how it compares to the first, "" for that.
	Is string `json:"is,omitempty"`

	made peer.Made
}

// compare tells references side by side.
func compare(ctx context.Context, c *site.Call, wanted *oci.Platform) error {
	refs := []oci.Reference{c.Image}
	for _, arg := range c.Args {
		ref, err := c.R.Target(arg)
		if err != nil {
			return err
		}
		refs = append(refs, ref)
	}
	rows := make([]compared, len(refs))
	clients := make([]*peer.Client, len(refs))
	for i, ref := range refs {
		var err error
		if clients[i], err = c.R.Peer(ref.Registry); err != nil {
			return err
		}
	}
	group, asking := errgroup.WithContext(ctx)
	group.SetLimit(pinsAtOnce)
	for i, ref := range refs {
		group.Go(func() error {
			target := ref.Target()
			if wanted != nil {
				d, _, err := clients[i].Pick(asking, ref.Name, target, wanted)
				if err != nil {
					return err
				}
				target = d.Digest.String()
			}
			made, err := clients[i].Made(asking, ref.Name, target, true)
			rows[i] = compared{
				identified: identified{made.Digest, ref.String(), made.MediaType, made.Size}, made: made, Pin: ref.WithDigest(made.Digest).String(),
			}
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	for i := range rows[1:] {
		rows[i+1].Is = howSame(rows[0].made, rows[i+1].made)
	}
	return c.Tell(rows, func() {
		w := c.T.Table("Reference", "Digest", "Than the first")
		for _, row := range rows {
			w.Row(row.Reference, term.Short(row.Digest), row.Is)
		}
		w.Draw()
		c.T.Say("")
		for _, row := range rows {
			c.T.Say("%s", row.Pin)
		}
	})
}

// howSame compares images: two that have one config and the same layers run alike, however
// their manifests were written.
func howSame(a, b peer.Made) string {
	switch {
	case a.Digest == b.Digest:
		return sameDigest
	case len(a.Contents) > 0 && slices.Equal(a.Contents, b.Contents):
		return sameContent
	}
	return otherImage
}
