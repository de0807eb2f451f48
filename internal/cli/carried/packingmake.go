package carried

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/pflag"
	"golang.org/x/sync/errgroup"

	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/flow/carry"
	"warthesis/internal/flow/packing"
	"warthesis/internal/given"
	"warthesis/internal/oci"
	"warthesis/internal/peer"
	"warthesis/internal/pin"
	"warthesis/internal/rule"
)

// questionsAtOnce is how many references are asked for at the same time.
const questionsAtOnce = 8

// gathering is what a list is made of.
type gathering struct {
	files, matches, lists   []string
	pods, registry, release string
	bare, versions, out     string
	newest                  int
	c                       *site.Call
	all                     packing.List
	seen                    map[string]bool
	within                  packing.Range
}

func makePacking() site.Command {
	var g gathering
	return site.Command{
		Name: "make", Short: "Make a packing list", On: site.OnAny, Facts: packingFacts{},
		Long: "Makes a packing list of what is named, each reference once: what build files, compose files and cluster manifests use; what a cluster runs, by the JSON of\n" +
			"its pods; what a registry has, by patterns, all of it or the newest versions of each repository; what an image names that describes a release, in\n" +
			"the text files of its layers or in its index; and what other lists name. Several may be given at once.",
		Example: "  warthesis packing make --files deploy/ --out november.list\n" +
			"  warthesis packing make --pods pods.json --out cluster.list\n" +
			"  warthesis packing make --registry localhost:7070 --match \"signals/*:<release>\" --newest 2\n" +
			"  warthesis packing make --release localhost:7070/signals/release:2026.11\n" +
			"  warthesis packing make --list all.list --versions \">=2.1 <3\"",
		Flags: func(f *pflag.FlagSet) {
			term.Texts(f, &g.files, "files", "a file, or a folder, whose references are taken")
			f.StringVar(&g.pods, "pods", "", "the JSON that a cluster's API gives for its pods, or a reference a line; - is standard input")
			f.StringVar(&g.registry, "registry", "", "the registry that --match looks through; the default one where it is left out")
			term.Texts(f, &g.matches, "match", "a pattern of what is taken of the registry, as in \"signals/*:<release>\"")
			term.Number(f, &g.newest, "newest", 0, 0, 10_000, "take only so many versions of each repository that --match finds, the newest ones; 0 takes all")
			f.StringVar(&g.release, "release", "", "an image that names those of a release")
			term.Texts(f, &g.lists, "list", "another packing list")
			f.StringVar(&g.versions, "versions", "", "take of --match and --list only tags that are versions within a range, as in \">=2.1 <3\"")
			f.StringVar(&g.bare, "bare", "", "the registry that names without one mean; without it they are left out")
			outFlag(f, &g.out)
		},
		Run: g.run,
	}
}

func (g *gathering) run(ctx context.Context, c *site.Call) (err error) {
	g.c, g.seen = c, map[string]bool{}
	if len(g.files)+len(g.matches)+len(g.lists) == 0 && g.pods == "" && g.release == "" {
		return term.Usage("say what the list is made of: --files, --pods, --match, --release or --list")
	}
	if len(g.matches) == 0 {
		if err := c.Idle("it is about --match", "registry", "newest"); err != nil {
			return err
		}
	}
	if g.versions != "" {
		if len(g.matches)+len(g.lists) == 0 {
			return term.Usage("--versions has no effect here: it is about --match and --list")
		}
		if g.within, err = packing.ReadRange(g.versions); err != nil {
			return term.Usage("--versions: %w", err)
		}
	}
	if g.bare != "" {
		if _, err := oci.ParseRegistry(g.bare); err != nil {
			return term.Usage("--bare: %w", err)
		}
	}
	for _, step := range []func(context.Context) error{g.fromLists, g.fromFiles, g.fromPods, g.fromRegistry, g.fromRelease} {
		if err := step(ctx); err != nil {
			return err
		}
	}
	if g.all.Len() == 0 {
		return term.NotRight("nothing was found that a list could name")
	}
	return tellList(c, g.all, g.out)
}

// add adds references that are not in the list yet.
func (g *gathering) add(refs []oci.Reference) {
	for _, r := range refs {
		if text := r.String(); !g.seen[text] {
			g.seen[text] = true
			g.all.Lines = append(g.all.Lines, packing.Line{Source: text})
		}
	}
}

func (g *gathering) fromLists(context.Context) error {
	for _, name := range g.lists {
		list, err := readList(name)
		if err != nil {
			return err
		}
		g.all = packing.Join(g.all, list.Within(g.within))
	}
	for _, line := range g.all.Lines {
		g.seen[line.Source] = true
	}
	return nil
}

// meant returns what a text means as a reference that can be copied, or why it is left out.
func meant(f pin.Found, bare string) (oci.Reference, string) {
	ref := f.Ref
	switch {
	case f.Skip != "":
		return ref, f.Skip
	case f.Bare && bare == "":
		return ref, "it names no registry; which one is meant is told with --bare"
	case f.Bare:
		ref.Registry = bare
	}
	if ref.Target() == "" {
		ref.Tag = pin.DefaultTag
	}
	return ref, ""
}

func (g *gathering) fromFiles(context.Context) error {
	files, err := site.ReferenceFiles(g.files)
	if err != nil {
		return err
	}
	for _, file := range files {
		raw, err := given.Read(file.Path, pin.MostBytes)
		var places []pin.Found
		if err == nil {
			places, err = pin.Find(filepath.ToSlash(file.Path), raw)
		}
		if err != nil && file.Named {
			return fmt.Errorf("%s cannot be read: %w", file.Path, err)
		}
		if err != nil {
			g.c.T.Warn("%s is left out: %s", file.Path, term.OneLine(err.Error()))
			continue
		}
		for _, f := range places {
			ref, why := meant(f, g.bare)
			if why != "" {
				g.c.T.Warn("%s:%d: %s is left out: %s", file.Path, f.Line, f.Text, why)
				continue
			}
			g.add([]oci.Reference{ref})
		}
	}
	return nil
}

// readRunning reads what runs now, with digests where they are told.
func readRunning(name string) ([]string, error) {
	raw, err := site.ReadInput(name, pin.MostRunning)
	if err != nil {
		return nil, err
	}
	return pin.RunningPinned(raw)
}

func (g *gathering) fromPods(context.Context) error {
	if g.pods == "" {
		return nil
	}
	names, err := readRunning(g.pods)
	if err != nil {
		return err
	}
	for _, text := range names {
		ref, why := meant(pin.Read(text), g.bare)
		if why != "" {
			g.c.T.Warn("%s is left out: %s", term.OneLine(text), why)
			continue
		}
		g.add([]oci.Reference{ref})
	}
	return nil
}

func (g *gathering) fromRelease(ctx context.Context) error {
	if g.release == "" {
		return nil
	}
	ref, err := g.c.R.Target(g.release)
	if err != nil {
		return err
	}
	client, err := g.c.R.Peer(ref.Registry)
	if err != nil {
		return err
	}
	found, err := carry.Released(ctx, client, ref)
	if err != nil {
		return fmt.Errorf("read %s: %w", ref, err)
	}
	if len(found) == 0 {
		return term.NotRight("%s names no images: there is no reference in the text files of its layers, and none in its index", ref)
	}
	g.add(found)
	return nil
}

func (g *gathering) fromRegistry(ctx context.Context) error {
	if len(g.matches) == 0 {
		return nil
	}
	registry := g.registry
	if registry == "" {
		registry = g.c.R.DefaultRegistry()
	}
	place, err := g.c.R.ReadPlace(registry)
	switch {
	case registry == "":
		return term.Usage("--registry is missing: there is no default registry")
	case err != nil:
		return err
	case place.Name != "":
		return term.Usage("--registry: %s names more than a registry", registry)
	}
	patterns := make([]rule.Pattern, len(g.matches))
	for i, text := range g.matches {
		if patterns[i], err = rule.ParsePattern(text); err != nil {
			return term.Usage("--match: %w", err)
		}
	}
	client, err := g.c.R.Peer(place.Registry)
	if err != nil {
		return err
	}
	names, err := matching(ctx, client, patterns)
	if err != nil {
		return err
	}
	found := make([][]oci.Reference, len(names))
	group, within := errgroup.WithContext(ctx)
	group.SetLimit(questionsAtOnce)
	for i, name := range names {
		group.Go(func() (err error) {
			found[i], err = g.tagsOf(within, client, oci.Reference{Registry: place.Registry, Name: name}, patterns)
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	for _, refs := range found {
		g.add(refs)
	}
	return nil
}

// mostNames is how many repositories of a registry are looked through.
const mostNames = 1_000_000

// matching lists the repositories that patterns mean. Those that are named in full are not
// looked for.
func matching(ctx context.Context, client *peer.Client, patterns []rule.Pattern) ([]oci.Name, error) {
	var names []oci.Name
	looks := false
	for _, p := range patterns {
		if strings.Contains(p.Repository(), "*") {
			looks = true
			continue
		}
		name, err := oci.ParseName(p.Repository())
		if err != nil {
			return nil, term.Usage("--match: %w", err)
		}
		names = append(names, name)
	}
	for after, count := "", 0; looks; {
		page, next, err := client.Repositories(ctx, after)
		if errors.Is(err, oci.CodeUnsupported) {
			return nil, fmt.Errorf("%w; name the repositories in full, without *", err)
		}
		if err != nil {
			return nil, err
		}
		for _, text := range page {
			name, err := oci.ParseName(text)
			if err == nil && slices.ContainsFunc(patterns, func(p rule.Pattern) bool { return rule.MatchText(p.Repository(), text) }) {
				names = append(names, name)
			}
		}
		if count += len(page); count > mostNames || next != "" && next <= after {
			return nil, errors.New("the registry lists its repositories without end; name them in full, without *")
		}
		looks, after = next != "", next
	}
	slices.Sort(names)
	return slices.Compact(names), nil
}

// tagsOf lists the tags of a repository that are meant, the newest first.
func (g *gathering) tagsOf(ctx context.Context, client *peer.Client, at oci.Reference, patterns []rule.Pattern) ([]oci.Reference, error) {
	refs, err := carry.Listed(ctx, client, at, func(tag oci.Tag) bool {
		if _, is := rule.ParseVersion(string(tag)); !is && g.newest > 0 || !g.within.Has(string(tag)) {
			return false
		}
		return slices.ContainsFunc(patterns, func(p rule.Pattern) bool { return p.Matches(rule.Name{Repository: at.Name, Tag: tag}) })
	})
	if err != nil {
		return nil, err
	}
	slices.SortFunc(refs, func(a, b oci.Reference) int {
		return bytes.Compare(rule.OrderKey(string(b.Tag)), rule.OrderKey(string(a.Tag)))
	})
	if g.newest > 0 {
		refs = refs[:min(len(refs), g.newest)]
	}
	return refs, nil
}
