package carried

import (
	"context"
	"errors"
	"slices"

	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/flow/carry"
	"warthesis/internal/flow/parcel"
	"warthesis/internal/oci"
)

// checked is what a check of a parcel found.
type checked struct {
	parcelFacts
	// Layout tells that it is an image layout of another make.
	Layout bool `json:"layout,omitempty"`
}

func checkParcel() site.Command {
	return site.Command{
		Name: "check", Short: "Check a parcel, or an image layout in a tar, to the last byte", On: site.OnNothing, Args: []site.Arg{parcelArg}, Facts: checked{}, Checks: true,
		Long: "Reads all of it: each content against its digest, each file against its sum, and that nothing is missing but what it says that it expects at the other\n" +
			"side. Of a parcel in volumes those at hand are checked. It ends with 5 where anything is not as it should be.",
		Example: "  warthesis parcel check november.parcel\n  warthesis parcel check /mnt/drive/november.parcel.2of3",
		Run: func(ctx context.Context, c *site.Call) error {
			p, l, err := openAny(c.Args[0], "", "unnamed")
			if err != nil {
				return err
			}
			line := c.T.Line(c.JSON())
			line.Show("reading %s", c.Args[0])
			defer line.End()
			var facts checked
			if p != nil {
				defer p.Close()
				if err := errors.Join(p.Check(), p.Complete(ctx)); err != nil {
					return sayFault(err)
				}
				facts.parcelFacts = factsOf(p.Header, p.Needs, p)
			} else {
				defer l.Close()
				if facts, err = checkLayout(ctx, l); err != nil {
					return sayFault(err)
				}
			}
			line.End()
			return c.Tell(facts, func() {
				if facts.Layout {
					c.T.Say("%s is right: an image layout with %s, %s in %s", c.Args[0], term.Count(facts.Images, "image", "images"), term.Size(facts.Bytes), term.Count(facts.Blobs, "blob", "blobs"))
					return
				}
				c.T.Say("%s is right", c.Args[0])
				drawParcel(c, facts.parcelFacts)
				if len(p.Missing()) > 0 {
					c.T.Say("Checked: %s of %d", volumesInWords(p.At()), p.Volumes)
				}
			})
		},
	}
}

// checkLayout reads all of an image layout.
func checkLayout(ctx context.Context, l *parcel.Layout) (checked, error) {
	facts := checked{Layout: true}
	carrier := carry.New(carry.Options{From: func(string) (carry.From, error) { return l, nil }, To: parcel.Place{}, Called: "the layout"})
	plan, err := carrier.Look(ctx, l.Items)
	if err != nil {
		return facts, err
	}
	for _, i := range plan.Images {
		if i.Lacks() {
			return facts, term.NotRight("%w", i.Err)
		}
	}
	_, documents, blobs := carrier.Contents(plan)
	facts.Images, facts.Bytes, facts.Blobs, facts.Volumes = len(plan.Images), plan.Bytes, plan.Blobs, 1
	all := make([]oci.Descriptor, 0, len(blobs)+len(documents))
	for _, d := range slices.Concat(documents, blobs) {
		all = append(all, d.Descriptor)
	}
	if err := l.CheckAll(ctx, all); err != nil && ctx.Err() == nil {
		return facts, term.NotRight("%w", err)
	}
	return facts, ctx.Err()
}
