package cli

import (
	"fmt"

	"github.com/spf13/cobra"
)

func addShow(root *cobra.Command, t terminal, r *remote) {
	var platform string
	command := &cobra.Command{
		Use:     "show REFERENCE",
		GroupID: groupLook,
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
			client, err := r.peer(ref.Registry)
			if err != nil {
				return err
			}
			_, raw, err := client.Pick(c.Context(), ref.Name, ref.Target(), wanted)
			if err != nil {
				return err
			}
			_, err = t.exactly().Write(raw)
			return err
		},
	}
	addPlatform(command, &platform)
	root.AddCommand(command)
}

func addIdentify(root *cobra.Command, t terminal, r *remote) {
	var platform string
	var whole bool
	command := &cobra.Command{
		Use:     "identify REFERENCE",
		GroupID: groupLook,
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
			client, err := r.peer(ref.Registry)
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
				_, err = fmt.Fprintln(t.out, ref)
				return err
			}
			_, err = fmt.Fprintln(t.out, ref.Digest)
			return err
		},
	}
	addPlatform(command, &platform)
	command.Flags().BoolVar(&whole, "whole", false, "print the whole reference with the digest in it")
	root.AddCommand(command)
}
