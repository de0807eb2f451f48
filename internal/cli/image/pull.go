package image

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/layout"
	"warthesis/internal/oci"
	"warthesis/internal/peer"
)

func addPull(root *cobra.Command, t term.Terminal, r *site.Remote) {
	var platform, output string
	command := &cobra.Command{
		Use:     "pull REFERENCE DESTINATION",
		GroupID: term.GroupImages,
		Short:   "Bring an image from a registry into an image layout",
		Long: "Brings an image into an OCI image layout: a folder, or one tar where DESTINATION ends in .tar.\n" +
			"Every byte is checked against its digest. A pull that was stopped goes on where it stopped when it is run again.\n" +
			"Without --platform the images of all platforms come.",
		Example: "  warthesis pull localhost:7070/timetable/planner:2.4.1 ./planner\n" +
			"  warthesis pull --platform linux/arm64 localhost:7070/timetable/planner:2.4.1 planner.tar",
		Args: cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			if err := term.CheckOutput(output); err != nil {
				return err
			}
			ref, wanted, err := targetFor(args[0], platform)
			if err != nil {
				return err
			}
			client, err := r.Peer(ref.Registry)
			if err != nil {
				return err
			}
			into, err := openDestination(c.Context(), t, args[1])
			if err != nil {
				return err
			}
			defer into.folder.Close()
			watch := term.NewWatcher(t, output)
			d, err := client.PullImage(c.Context(), ref.Name, ref.Target(), wanted, keeper{into.folder}, watch)
			watch.Stop()
			if err != nil {
				return fmt.Errorf("pull %s: %w", ref, errors.Join(err, into.abandon()))
			}
			if err := into.finish(layout.Entry{Name: string(ref.Tag), Descriptor: d}); err != nil {
				return err
			}
			if wanted != nil {
				// The tag names the index, not the one image that came.
				ref.Tag = ""
			}
			if output == term.OutputTable {
				defer fmt.Fprintf(t.Out, "In:        %s\n", args[1])
			}
			return reportTransfer(t, output, "Pulled", watch, d, []oci.Reference{ref})
		},
	}
	addPlatform(command, &platform)
	term.AddOutput(command, &output)
	root.AddCommand(command)
}

func addPlatform(c *cobra.Command, platform *string) {
	c.Flags().StringVar(platform, "platform", "", "only the image for this platform, as os/architecture")
}

// targetFor reads an argument that must name a tag or a digest, and the platform
// that is wanted of it, nil for all.
func targetFor(argument, platform string) (oci.Reference, *oci.Platform, error) {
	ref, err := site.Target(argument)
	if err != nil || platform == "" {
		return ref, nil, err
	}
	wanted, err := oci.ParsePlatform(platform)
	if err != nil {
		return ref, nil, term.Usage("%w", err)
	}
	return ref, &wanted, nil
}

// destination is where a pull goes: a folder, which becomes a tar at the end
// where a tar was asked for.
type destination struct {
	folder *layout.Folder
	at     string
	tar    string
	isNew  bool
}

func openDestination(ctx context.Context, t term.Terminal, at string) (*destination, error) {
	d := &destination{at: at}
	if strings.HasSuffix(at, ".tar") {
		if is, err := os.Lstat(at); err == nil && !is.Mode().IsRegular() {
			return nil, term.Usage("%s is there and is no plain file; name another, or a folder", at)
		}
		d.tar, d.at = at, at+".partial"
	}
	_, err := os.Stat(d.at)
	d.isNew = errors.Is(err, os.ErrNotExist)
	d.folder, err = layout.Create(ctx, d.at, func() {
		fmt.Fprintf(t.Err, "Another pull writes to %s; this one goes on when it ends\n", d.at)
	})
	return d, err
}

// abandon leaves what came for the next run, and nothing where nothing came.
func (d *destination) abandon() error {
	if !d.isNew || d.folder.HasContent() {
		return nil
	}
	return os.RemoveAll(d.at)
}

func (d *destination) finish(e layout.Entry) error {
	if err := errors.Join(d.folder.Add(e), d.folder.Finish()); err != nil || d.tar == "" {
		return err
	}
	return d.folder.Pack(d.tar)
}

// keeper lets a layout take what a peer brings.
type keeper struct{ *layout.Folder }

func (k keeper) Receive(d oci.Descriptor) (peer.Receiver, error) { return k.Folder.Receive(d) }
