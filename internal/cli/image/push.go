package image

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"

	"github.com/spf13/pflag"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/layout"
	"warthesis/internal/oci"
	"warthesis/internal/peer"
)

// standardStream stands for standard input or output in place of a file.
const standardStream = "-"

func pushCommand() site.Command {
	var image string
	return site.Command{
		Name: "push", Group: term.GroupImages, Short: "Send an image to a registry, or to several",
		Long: "Sends an image to a registry. IMAGE is an OCI image layout, as a folder or a tar, or the tar that a container engine saves;\n" +
			"- reads such a tar from standard input. Content that a repository has is not sent again. Several references give one image\n" +
			"several tags, in one repository or in several, of one registry or of several.",
		Example: "  warthesis push planner.tar localhost:7070/timetable/planner:2.4.1\n" +
			"  warthesis push ./planner localhost:7070/timetable/planner:2.4.1 localhost:7070/timetable/planner:latest\n" +
			"  warthesis push - localhost:7070/timetable/planner:2.4.1 tarn.larkspur.example/timetable/planner:2.4.1 < planner.tar",
		On: site.OnAny, Args: []site.Arg{{Name: "IMAGE", File: true}, {Name: "REFERENCE", Image: true, Many: true}}, Facts: transferReport{},
		Flags: func(f *pflag.FlagSet) {
			f.StringVar(&image, "image", "", "which image of IMAGE to send, by name or digest, where it holds several")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			targets, err := pushTargets(c.R, c.Args[1:])
			if err != nil {
				return err
			}
			source, err := openSource(ctx, c.Args[0])
			if err != nil {
				return err
			}
			defer source.Close()
			entry, err := source.Find(image)
			if err != nil {
				return err
			}
			for _, one := range targets {
				for _, ref := range one.refs {
					if ref.Digest != "" && ref.Digest != entry.Digest {
						return term.Usage("the image in %s has the digest %s, not the one in %s", c.Args[0], entry.Digest, ref)
					}
				}
			}
			return pushAll(ctx, c, source.Source, entry.Descriptor, targets)
		},
	}
}

// target is one repository with the tags that an image gets there.
type target struct {
	refs []oci.Reference
	tags []oci.Tag
}

func pushAll(ctx context.Context, c *site.Call, source *layout.Source, d oci.Descriptor, targets []target) error {
	report := transferReport{Digest: d.Digest, MediaType: d.MediaType}
	for i, one := range targets {
		watch, err := pushTo(ctx, c, source, d, one)
		if err != nil {
			if i > 0 {
				err = fmt.Errorf("%w (what stands before it among the references is there: %s)", err, targets[0].refs[0])
			}
			return err
		}
		report.add(watch, one.refs)
	}
	return reportTransfer(c, "Pushed", report)
}

// pushTo sends an image to one repository.
func pushTo(ctx context.Context, c *site.Call, source *layout.Source, d oci.Descriptor, to target) (*term.Watcher, error) {
	first := to.refs[0]
	client, err := c.R.Peer(first.Registry)
	if err != nil {
		return nil, err
	}
	lacks := lacksNamespace(ctx, c, first)
	watch := term.NewWatcher(c.T, c.JSON())
	err = client.PushImage(ctx, first.Name, d, to.tags, func(d oci.Descriptor) (peer.Content, error) { return source.Open(d) }, watch)
	watch.Stop()
	if err != nil {
		return nil, fmt.Errorf("push %s: %w", first, err)
	}
	if lacks {
		sayMade(c, first)
	}
	return watch, nil
}

// lacksNamespace reports whether a push will have to make the namespace, of a registry
// that says so.
func lacksNamespace(ctx context.Context, c *site.Call, ref oci.Reference) bool {
	client, err := c.R.API(ctx, ref.Registry)
	if err != nil {
		return false
	}
	err = client.Do(ctx, http.MethodGet, "/api/v1/namespaces/"+ref.Name.Namespace(), nil, nil, &api.Namespace{})
	return errors.Is(err, oci.CodeNameUnknown) && !errors.Is(err, api.ErrOtherMake)
}

// sayMade says that a push made a namespace: perhaps one that nobody meant.
func sayMade(c *site.Call, ref oci.Reference) {
	said := "The push made the namespace " + ref.Name.Namespace()
	if ref.Name.Namespace() == string(ref.Name) {
		said += ", since a name of one word is the namespace's own repository; names are usually NAMESPACE/NAME"
	}
	c.T.Warn("%s", said)
}

// pushTargets reads the references of a push, each repository once, in order.
func pushTargets(r *site.Remote, args []string) ([]target, error) {
	var targets []target
	at := map[oci.Reference]int{}
	for _, arg := range args {
		ref, err := r.Target(arg)
		if err != nil {
			return nil, err
		}
		i, known := at[ref.Repository()]
		if !known {
			i = len(targets)
			at[ref.Repository()] = i
			targets = append(targets, target{})
		}
		one := &targets[i]
		one.refs = append(one.refs, ref)
		if ref.Tag != "" {
			one.tags = append(one.tags, ref.Tag)
		}
	}
	return targets, nil
}

// source is an image layout, with the file that it was copied to where it came on
// standard input.
type source struct {
	*layout.Source
	copied string
}

// Close closes the layout, and removes what it was copied to.
func (s source) Close() error {
	err := s.Source.Close()
	if s.copied != "" {
		err = errors.Join(err, os.Remove(s.copied))
	}
	return err
}

func openSource(ctx context.Context, at string) (source, error) {
	if at != standardStream {
		opened, err := layout.Open(at)
		return source{Source: opened}, err
	}
	if term.AsksSomebody() {
		return source{}, term.Usage("%s reads a tar from standard input, and that is a terminal", standardStream)
	}
	copied, err := copyInput(ctx)
	if err != nil {
		return source{}, err
	}
	opened, err := layout.Open(copied)
	if err != nil {
		// People know it as what came in.
		said := strings.ReplaceAll(err.Error(), copied, "it")
		return source{}, errors.Join(fmt.Errorf("what came on standard input cannot be pushed: %s", said), os.Remove(copied))
	}
	return source{opened, copied}, nil
}

// copyInput copies standard input to a file: layouts are read from anywhere in them.
func copyInput(ctx context.Context) (string, error) {
	file, err := os.CreateTemp("", "warthesis-push-*.tar")
	if err != nil {
		return "", err
	}
	stop := context.AfterFunc(ctx, func() { _ = os.Stdin.Close() })
	defer stop()
	_, err = io.Copy(file, os.Stdin)
	if ctx.Err() != nil {
		err = ctx.Err()
	}
	if err = errors.Join(err, file.Close()); err != nil {
		return "", errors.Join(fmt.Errorf("read standard input: %w", err), os.Remove(file.Name()))
	}
	return file.Name(), nil
}
