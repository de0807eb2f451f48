package image

import (
	"fmt"

	"github.com/spf13/cobra"

	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/layout"
	"warthesis/internal/oci"
	"warthesis/internal/peer"
)

func addPush(root *cobra.Command, t term.Terminal, r *site.Remote) {
	var image, output string
	command := &cobra.Command{
		Use:     "push IMAGE REFERENCE...",
		GroupID: term.GroupImages,
		Short:   "Send an image to a registry",
		Long: "Sends an image to a registry. IMAGE is an OCI image layout, as a folder or a tar, or the tar that a container engine saves.\n" +
			"Content that the repository has is not sent again. Several references of one repository give one image several tags.",
		Example: "  warthesis push planner.tar localhost:7070/timetable/planner:2.4.1\n" +
			"  warthesis push ./planner localhost:7070/timetable/planner:2.4.1 localhost:7070/timetable/planner:latest",
		Args: cobra.MinimumNArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			if err := term.CheckOutput(output); err != nil {
				return err
			}
			refs, tags, err := pushTargets(args[1:])
			if err != nil {
				return err
			}
			source, err := layout.Open(args[0])
			if err != nil {
				return err
			}
			defer source.Close()
			entry, err := source.Find(image)
			if err != nil {
				return err
			}
			if wanted := refs[0].Digest; wanted != "" && wanted != entry.Digest {
				return term.Usage("the image in %s has the digest %s, not the one in %s", args[0], entry.Digest, refs[0])
			}
			client, err := r.Peer(refs[0].Registry)
			if err != nil {
				return err
			}
			watch := term.NewWatcher(t, output)
			err = client.PushImage(c.Context(), refs[0].Name, entry.Descriptor, tags,
				func(d oci.Descriptor) (peer.Content, error) { return source.Open(d) }, watch)
			watch.Stop()
			if err != nil {
				return fmt.Errorf("push %s: %w", refs[0], err)
			}
			return reportTransfer(t, output, "Pushed", watch, entry.Descriptor, refs)
		},
	}
	command.Flags().StringVar(&image, "image", "", "which image of IMAGE to send, by name or digest, where it holds several")
	term.AddOutput(command, &output)
	root.AddCommand(command)
}

// pushTargets reads the references of a push: one repository, any number of tags.
func pushTargets(args []string) ([]oci.Reference, []oci.Tag, error) {
	var refs []oci.Reference
	var tags []oci.Tag
	for _, arg := range args {
		ref, err := site.Reference(arg)
		if err != nil {
			return nil, nil, err
		}
		if ref.Target() == "" {
			return nil, nil, term.Usage("%s names no tag; add one, as in %s:1.0.0", arg, arg)
		}
		if len(refs) > 0 && (ref.Registry != refs[0].Registry || ref.Name != refs[0].Name) {
			return nil, nil, term.Usage("%s and %s are two repositories; push to each on its own", refs[0].Repository(), ref.Repository())
		}
		refs = append(refs, ref)
		if ref.Tag != "" {
			tags = append(tags, ref.Tag)
		}
	}
	return refs, tags, nil
}
