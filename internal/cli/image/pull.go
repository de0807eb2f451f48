package image

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/pflag"

	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/layout"
	"warthesis/internal/oci"
	"warthesis/internal/peer"
)

func pullCommand() site.Command {
	var platform, name string
	return site.Command{
		Name: "pull", Group: term.GroupImages, Short: "Bring an image from a registry into an image layout",
		Long: "Brings an image into an OCI image layout: a folder, or one tar where DESTINATION ends in .tar, or a tar on standard output where it is -.\n" +
			"Every byte is checked against its digest. A pull that was stopped goes on where it stopped when it is run again.\n" +
			"Without --platform the images of all platforms come.",
		Example: "  warthesis pull localhost:7070/timetable/planner:2.4.1 ./planner\n" +
			"  warthesis pull --platform linux/arm64 localhost:7070/timetable/planner:2.4.1 planner.tar\n" +
			"  warthesis pull localhost:7070/timetable/planner:2.4.1 - | ssh signalbox \"cat > planner.tar\"",
		On: site.OnImage, Args: []site.Arg{{Name: "DESTINATION", File: true}}, Facts: transferReport{},
		Flags: func(f *pflag.FlagSet) {
			addPlatform(f, &platform)
			f.StringVar(&name, "name", "", "name of the image in the layout; the tag where left out")
		},
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
			entry := layout.Entry{Name: string(c.Image.Tag)}
			if c.Given("name") {
				if _, err := oci.ParseTag(name); err != nil {
					return term.Usage("--name: %w", err)
				}
				entry.Name = name
			}
			into, err := openDestination(ctx, c, c.Args[0])
			if err != nil {
				return err
			}
			defer into.close()
			watch := term.NewWatcher(c.T, c.JSON())
			entry.Descriptor, err = client.PullImage(ctx, c.Image.Name, c.Image.Target(), wanted, keeper{into.folder}, watch)
			watch.Stop()
			if err != nil {
				return fmt.Errorf("pull %s: %w", c.Image, errors.Join(err, into.abandon()))
			}
			if err := into.finish(entry); err != nil {
				return err
			}
			ref := c.Image
			if wanted != nil {
				// The tag names the index, not the one image that came.
				ref.Tag = ""
			}
			report := transferReport{Digest: entry.Digest, MediaType: entry.MediaType}
			report.add(watch, []oci.Reference{ref})
			if into.streams {
				report.write(c.T.Err, "Pulled")
				return nil
			}
			err = reportTransfer(c, "Pulled", report)
			if !c.JSON() {
				c.T.Say("In:        %s", c.Args[0])
			}
			return err
		},
	}
}

func addPlatform(f *pflag.FlagSet, platform *string) {
	f.StringVar(platform, "platform", "", "only the image for this platform, as os/architecture")
}

// platformOf reads the platform that is wanted, nil for all.
func platformOf(platform string) (*oci.Platform, error) {
	if platform == "" {
		return nil, nil
	}
	wanted, err := oci.ParsePlatform(platform)
	if err != nil {
		return nil, term.Usage("--platform: %w", err)
	}
	return &wanted, nil
}

// destination is where a pull goes: a folder, which becomes a tar at the end
// where a tar was asked for.
type destination struct {
	folder *layout.Folder
	at     string
	tar    string
	isNew  bool
	// streams tells that the tar goes to out, and nothing stays here.
	streams bool
	out     io.Writer
}

func openDestination(ctx context.Context, c *site.Call, at string) (*destination, error) {
	d := &destination{at: at, out: c.T.Exactly()}
	switch {
	case at == standardStream:
		if c.T.IsWatched() {
			return nil, term.Usage("%s writes a tar to standard output, and that is a terminal; send it to a file or a program", standardStream)
		}
		if c.JSON() {
			return nil, term.Usage("--output json and %s both want standard output; leave one out", standardStream)
		}
		var err error
		if d.at, err = os.MkdirTemp("", "warthesis-pull-"); err != nil {
			return nil, err
		}
		d.streams = true
	case strings.HasSuffix(at, ".tar"):
		if is, err := os.Lstat(at); err == nil && !is.Mode().IsRegular() {
			return nil, term.Usage("%s is there and is no plain file; name another, or a folder", at)
		}
		d.tar, d.at = at, at+".partial"
	}
	_, err := os.Stat(d.at)
	d.isNew = errors.Is(err, os.ErrNotExist)
	d.folder, err = layout.Create(ctx, d.at, func() {
		c.T.Warn("Another pull writes to %s; this one goes on when it ends", d.at)
	})
	if err != nil && d.streams {
		err = errors.Join(err, os.RemoveAll(d.at))
	}
	return d, err
}

// close lets others write there, and leaves nothing of what went to standard output.
func (d *destination) close() {
	_ = d.folder.Close()
	if d.streams {
		_ = os.RemoveAll(d.at)
	}
}

// abandon leaves what came for the next run, and nothing where nothing came.
func (d *destination) abandon() error {
	if !d.isNew || d.folder.HasContent() {
		return nil
	}
	return os.RemoveAll(d.at)
}

func (d *destination) finish(e layout.Entry) error {
	err := errors.Join(d.folder.Add(e), d.folder.Finish())
	switch {
	case err != nil:
		return err
	case d.streams:
		return d.folder.PackTo(d.out)
	case d.tar == "":
		return nil
	}
	return d.folder.Pack(d.tar)
}

// keeper lets a layout take what a peer brings.
type keeper struct{ *layout.Folder }

func (k keeper) Receive(d oci.Descriptor) (peer.Receiver, error) { return k.Folder.Receive(d) }
