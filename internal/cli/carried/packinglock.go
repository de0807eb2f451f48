package carried

import (
	"context"
	"fmt"
	"strings"
	"sync"

	"github.com/spf13/pflag"
	"golang.org/x/sync/errgroup"

	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/flow/carry"
	"warthesis/internal/flow/packing"
	"warthesis/internal/oci"
	"warthesis/internal/peer"
)

func lockPacking() site.Command {
	var sets, platforms []string
	var out string
	return site.Command{
		Name: "lock", Short: "Write digests into a packing list", On: site.OnAny, Args: []site.Arg{listArg}, Facts: packingFacts{}, Checks: true,
		Long: "Asks what each reference points to now and writes its digest behind it, in place of variables as well: the list then means the same bytes for ever. With\n" +
			"--platform it locks to the image for that platform; with several, to one for each, which then have no tag. A reference with a digest keeps it. What\n" +
			"is not there any more is named, with those that are.",
		Example: "  warthesis packing lock november.list --set version=2.4.1 --out november.locked\n  warthesis packing lock box14.list --platform linux/arm64",
		Flags: func(f *pflag.FlagSet) {
			setFlag(f, &sets)
			term.Texts(f, &platforms, "platform", "lock to the image for a platform, as in linux/arm64")
			outFlag(f, &out)
		},
		Run: func(ctx context.Context, c *site.Call) error {
			list, values, items, err := readItems(c.Args[0], sets)
			if err != nil {
				return err
			}
			l := &locking{c: c, peers: sources(c.R), found: make([][]packing.Locked, len(items)), gone: make([]string, len(items))}
			for _, text := range platforms {
				p, err := oci.ParsePlatform(text)
				if err != nil {
					return term.Usage("--platform: %w", err)
				}
				l.platforms = append(l.platforms, p)
			}
			if err := l.all(ctx, items); err != nil {
				return err
			}
			if err := l.tellGone(); err != nil {
				return err
			}
			by := map[int][]packing.Locked{}
			for at, item := range items {
				by[item.Line] = l.found[at]
			}
			locked, err := list.Lock(values, func(i packing.Item) []packing.Locked { return by[i.Line] })
			if err != nil {
				return err
			}
			return tellList(c, locked, out)
		},
	}
}

// sources returns the registries that references name, each reached once.
func sources(r *site.Remote) func(registry string) (*peer.Client, error) {
	var mu sync.Mutex
	known := map[string]*peer.Client{}
	return func(registry string) (*peer.Client, error) {
		mu.Lock()
		defer mu.Unlock()
		if known[registry] != nil {
			return known[registry], nil
		}
		client, err := r.Peer(registry)
		known[registry] = client
		return client, err
	}
}

// locking asks for the digests of a list.
type locking struct {
	c         *site.Call
	peers     func(registry string) (*peer.Client, error)
	platforms []oci.Platform
	found     [][]packing.Locked
	// gone says of references that are not there what is there instead.
	gone []string
}

func (l *locking) all(ctx context.Context, items []packing.Item) error {
	group, within := errgroup.WithContext(ctx)
	group.SetLimit(questionsAtOnce)
	for at, item := range items {
		group.Go(func() (err error) {
			client, err := l.peers(item.Ref.Registry)
			if err != nil {
				return err
			}
			l.found[at], err = l.one(within, client, item)
			if carry.IsGone(err) {
				l.gone[at] = sayGone(item, err, carry.Instead(within, client, item))
				return nil
			}
			if err != nil {
				return fmt.Errorf("line %d: %s: %w", item.Line, item.Ref, err)
			}
			return nil
		})
	}
	return group.Wait()
}

func (l *locking) one(ctx context.Context, client *peer.Client, item packing.Item) ([]packing.Locked, error) {
	if len(l.platforms) == 0 {
		d, err := client.Resolve(ctx, item.Ref.Name, item.Ref.Target())
		return []packing.Locked{{Digest: d.Digest}}, err
	}
	var all []packing.Locked
	for _, p := range l.platforms {
		d, _, err := client.Pick(ctx, item.Ref.Name, item.Ref.Target(), &p)
		if err != nil {
			return nil, err
		}
		all = append(all, packing.Locked{Digest: d.Digest, Platform: oci.PlatformString(&p), Several: len(l.platforms) > 1})
	}
	return all, nil
}

// sayGone says that a reference is not there, and what is.
func sayGone(item packing.Item, err error, instead []string) string {
	said := fmt.Sprintf("line %d: %s: %s", item.Line, item.Ref, term.OneLine(err.Error()))
	if len(instead) > 0 {
		said += "; there are " + strings.Join(instead, ", ")
	}
	return said
}

// tellGone tells what is not there.
func (l *locking) tellGone() error {
	count := 0
	for _, said := range l.gone {
		if said != "" {
			count++
			l.c.T.Warn("%s", said)
		}
	}
	if count == 0 {
		return nil
	}
	return term.NotRight("%s not there; nothing was written", term.Count(count, "reference is", "references are"))
}
