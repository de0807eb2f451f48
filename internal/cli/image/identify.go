package image

import (
	"fmt"

	"github.com/spf13/cobra"

	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
)

func addIdentify(root *cobra.Command, t term.Terminal, r *site.Remote) {
	var platform string
	var whole bool
	command := &cobra.Command{
		Use:     "identify REFERENCE",
		GroupID: term.GroupLook,
		Short:   "Print the digest of a reference",
		Long: "Prints the digest that a tag points to, alone on one line, ready for a script.\n" +
			"For an image of several platforms that is the digest of its index; with --platform it is that of the one platform's manifest.",
		Example: "  warthesis identify localhost:7070/timetable/planner:2.4.1\n  warthesis identify --platform linux/arm64 localhost:7070/timetable/planner:2.4.1",
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
			if wanted == nil {
				d, err := client.Resolve(c.Context(), ref.Name, ref.Target())
				ref.Digest = d.Digest
				if err != nil {
					return err
				}
			} else {
				d, _, err := client.Pick(c.Context(), ref.Name, ref.Target(), wanted)
				// The tag names the index, not the one image.
				ref.Tag, ref.Digest = "", d.Digest
				if err != nil {
					return err
				}
			}
			if whole {
				_, err = fmt.Fprintln(t.Out, ref)
				return err
			}
			_, err = fmt.Fprintln(t.Out, ref.Digest)
			return err
		},
	}
	addPlatform(command, &platform)
	command.Flags().BoolVar(&whole, "whole", false, "print the whole reference with the digest in it")
	root.AddCommand(command)
}
