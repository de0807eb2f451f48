package image

import (
	"context"

	"github.com/spf13/pflag"

	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/oci"
)

// identified is what a reference points to.
type identified struct {
	Digest    oci.Digest `json:"digest"`
	Reference string     `json:"reference"`
	MediaType string     `json:"media_type"`
	Size      int64      `json:"size"`
}

func identifyCommand() site.Command {
	var platform string
	var whole bool
	return site.Command{
		Name: "identify", Group: term.GroupLook, Short: "Print the digest of a reference, or compare several",
		Long: "Prints the digest that a tag points to, alone on one line, ready for a script.\n" +
			"For an image of several platforms that is the digest of its index; with --platform it is that of the one platform's manifest.\n" +
			"Of several references, in one registry or in several, it tells side by side whether they are the same image, and how each is pinned.",
		Example: "  warthesis identify localhost:7070/timetable/planner:2.4.1\n  warthesis identify --platform linux/arm64 localhost:7070/timetable/planner:2.4.1\n" +
			"  warthesis identify localhost:7070/timetable/planner:2.4.1 tarn.larkspur.example/timetable/planner:2.4.1",
		On: site.OnImage, Args: []site.Arg{{Name: "OTHER", Optional: true, Many: true, Image: true}}, Facts: identified{}, Or: []compared{},
		Flags: func(f *pflag.FlagSet) {
			addPlatform(f, &platform)
			f.BoolVar(&whole, "whole", false, "print the whole reference with the digest in it")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			if c.JSON() {
				if err := c.Idle("the JSON has both", "whole"); err != nil {
					return err
				}
			}
			wanted, err := platformOf(platform)
			if err != nil {
				return err
			}
			if len(c.Args) > 0 {
				if err := c.Idle("several references are told whole", "whole"); err != nil {
					return err
				}
				return compare(ctx, c, wanted)
			}
			client, err := c.R.Peer(c.Registry)
			if err != nil {
				return err
			}
			ref := c.Image
			var d oci.Descriptor
			warnMoved(ctx, c, client, ref)
			if wanted == nil {
				d, err = client.Resolve(ctx, ref.Name, ref.Target())
			} else {
				d, _, err = client.Pick(ctx, ref.Name, ref.Target(), wanted)
				// The tag names the index, not the one image.
				ref.Tag = ""
			}
			if err != nil {
				return err
			}
			ref.Digest = d.Digest
			return c.Tell(identified{d.Digest, ref.String(), d.MediaType, d.Size}, func() {
				if whole {
					c.T.Say("%s", ref)
					return
				}
				c.T.Say("%s", ref.Digest)
			})
		},
	}
}
