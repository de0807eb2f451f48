package image

import (
	"github.com/spf13/cobra"

	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
)

func addShow(root *cobra.Command, t term.Terminal, r *site.Remote) {
	var platform string
	command := &cobra.Command{
		Use:     "show REFERENCE",
		GroupID: term.GroupLook,
		Short:   "Print a manifest or an index as it is stored",
		Long: "Prints a manifest or an index byte for byte as it is stored, and nothing else: what comes out has the digest of the reference.\n" +
			"With --platform it prints the manifest of that platform.",
		Example: "  warthesis show localhost:7070/timetable/planner:2.4.1\n  warthesis show --platform linux/amd64 localhost:7070/timetable/planner:2.4.1",
		Args:    cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			ref, wanted, err := targetFor(args[0], platform)
			if err != nil {
				return err
			}
			client, err := r.Peer(ref.Registry)
			if err != nil {
				return err
			}
			_, raw, err := client.Pick(c.Context(), ref.Name, ref.Target(), wanted)
			if err != nil {
				return err
			}
			_, err = t.Exactly().Write(raw)
			return err
		},
	}
	addPlatform(command, &platform)
	root.AddCommand(command)
}
