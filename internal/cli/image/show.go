package image

import (
	"context"

	"github.com/spf13/pflag"

	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
)

func showCommand() site.Command {
	var platform string
	return site.Command{
		Name: "show", Group: term.GroupLook, Short: "Print a manifest or an index as it is stored",
		Long: "Prints a manifest or an index byte for byte as it is stored, and nothing else: what comes out has the digest of the reference.\n" +
			"With --platform it prints the manifest of that platform.",
		Example: "  warthesis show localhost:7070/timetable/planner:2.4.1\n  warthesis show --platform linux/amd64 localhost:7070/timetable/planner:2.4.1",
		On:      site.OnImage,
		Flags:   func(f *pflag.FlagSet) { addPlatform(f, &platform) },
		Run: func(ctx context.Context, c *site.Call) error {
			wanted, err := platformOf(platform)
			if err != nil {
				return err
			}
			client, err := c.R.Peer(c.Registry)
			if err != nil {
				return err
			}
			warnMoved(ctx, c, client, c.Image)
			_, raw, err := client.Pick(ctx, c.Image.Name, c.Image.Target(), wanted)
			if err != nil {
				return err
			}
			_, err = c.T.Exactly().Write(raw)
			return err
		},
	}
}
