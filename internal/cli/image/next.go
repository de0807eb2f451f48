package image

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/pflag"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/oci"
	"warthesis/internal/rule"
)

// nextFlags are how the next version is wanted.
type nextFlags struct {
	step       rule.Step
	hold, from bool
	as, pushed string
}

func nextCommand() site.Command {
	var n nextFlags
	return site.Command{
		Name: "next", Group: term.GroupLook, Short: "Print the next version of a repository",
		Long: "Prints the tag of the next version of a repository, alone on one line: PART is major, minor (where it is left out) or patch. It is behind\n" +
			"all versions that were ever there, removed ones too; a v before the numbers is kept. Where there is none yet it is 1.0.0, 0.1.0 or 0.0.1.\n" +
			"Pre-releases do not count for releases: behind 1.3.0 and 1.4.0-rc.2 comes 1.4.0, and with --word rc 1.4.0-rc.3.\n\n" +
			"Two that ask at the same time are told the same, unless they --hold the name: it is kept for the login for 15 minutes.",
		Example: "  warthesis next localhost:7070/timetable/planner patch\n  warthesis next localhost:7070/timetable/planner minor --word rc --hold --as VERSION\n" +
			"  warthesis next localhost:7070/timetable/planner minor --push planner.tar\n  git tag | warthesis next localhost:7070/timetable/planner --from-stdin",
		On: site.OnRepository, Args: []site.Arg{{Name: "PART", Optional: true, Words: []string{"major", "minor", "patch"}}}, Facts: api.NextVersion{},
		Flags: func(f *pflag.FlagSet) {
			f.StringVar(&n.step.Word, "word", "", "a pre-release with this word before its number, as rc in 1.4.0-rc.2")
			f.StringVar(&n.step.Prefix, "prefix", "", "what stands before the version, as planner- in planner-1.4.0")
			f.BoolVar(&n.hold, "hold", false, "hold the name for this login for 15 minutes: nobody else is given it, or can push it")
			f.StringVar(&n.pushed, "push", "", "push this image under the tag at once, as push takes it")
			f.BoolVar(&n.from, "from-stdin", false, "behind the names on standard input, one a line, instead of the tags that are there")
			f.StringVar(&n.as, "as", "", "print NAME=VERSION, for build pipelines")
		},
		Run: func(ctx context.Context, c *site.Call) error { return n.run(ctx, c) },
	}
}

func (n *nextFlags) run(ctx context.Context, c *site.Call) error {
	if n.step.Part = rule.Minor; len(c.Args) > 0 {
		n.step.Part = rule.Part(c.Args[0])
	}
	if n.step.Part != rule.Major && n.step.Part != rule.Minor && n.step.Part != rule.Patch {
		return term.Usage("PART is %q: it is major, minor or patch", n.step.Part)
	}
	if n.step.Word != "" && !rule.IsWord(n.step.Word) {
		return term.Usage("--word is %q: it is letters and digits, and not digits alone, as in rc", n.step.Word)
	}
	if n.from {
		if err := c.Idle("the names on standard input are asked, not the registry", "hold", "push"); err != nil {
			return err
		}
	}
	if c.JSON() {
		if err := c.Idle("the JSON has the tag alone", "as", "push"); err != nil {
			return err
		}
	}
	next, err := n.ask(ctx, c)
	if err != nil {
		return err
	}
	if n.pushed != "" {
		if err := n.push(ctx, c, next.Tag); err != nil {
			return err
		}
	}
	return c.Tell(next, func() {
		if n.as != "" {
			c.T.Say("%s=%s", n.as, next.Tag)
			return
		}
		c.T.Say("%s", next.Tag)
	})
}

// ask finds out the next version.
func (n *nextFlags) ask(ctx context.Context, c *site.Call) (api.NextVersion, error) {
	if n.from {
		return n.fromInput(c)
	}
	next, err := c.NextVersion(ctx, c.Place.Name, n.step, n.hold || n.pushed != "")
	switch {
	case errors.Is(err, api.ErrOtherMake):
		return n.byStandard(ctx, c)
	case errors.Is(err, oci.CodeNameUnknown) && !n.hold:
		// The first push makes the repository.
		return api.NextVersion{Tag: oci.Tag(n.step.From(nil))}, nil
	}
	return next, err
}

// mostNames is how many names are read from standard input.
const mostNames = 1_000_000

func (n *nextFlags) fromInput(c *site.Call) (api.NextVersion, error) {
	var names []string
	lines := bufio.NewScanner(os.Stdin)
	for lines.Scan() {
		if len(names) == mostNames {
			return api.NextVersion{}, term.Usage("standard input has more than %d names", mostNames)
		}
		if name := strings.TrimSpace(lines.Text()); len(name) <= oci.MaxTagLength {
			names = append(names, name)
		}
	}
	if err := lines.Err(); err != nil {
		return api.NextVersion{}, fmt.Errorf("read names from standard input: %w", err)
	}
	tag, err := oci.ParseTag(n.step.From(names))
	return api.NextVersion{Tag: tag}, err
}

// byStandard asks a registry of another make for its tags; what was removed there nobody
// knows.
func (n *nextFlags) byStandard(ctx context.Context, c *site.Call) (api.NextVersion, error) {
	if n.hold {
		return api.NextVersion{}, oci.Errorf(oci.CodeUnsupported, "%s is no Warthesis registry: it cannot hold a name", c.Registry)
	}
	client, err := c.R.Peer(c.Registry)
	if err != nil {
		return api.NextVersion{}, err
	}
	names, err := site.EveryPage(api.List{}, func(page api.List) ([]string, string, error) { return client.Tags(ctx, c.Place.Name, page.After) })
	if err != nil && !errors.Is(err, oci.CodeNameUnknown) {
		return api.NextVersion{}, err
	}
	c.T.Warn("%s is no Warthesis registry: tags that were removed there do not count, and nothing is held", c.Registry)
	tag, err := oci.ParseTag(n.step.From(names))
	return api.NextVersion{Tag: tag}, err
}

// push sends the image under the tag.
func (n *nextFlags) push(ctx context.Context, c *site.Call, tag oci.Tag) error {
	source, err := openSource(ctx, n.pushed)
	if err != nil {
		return err
	}
	defer source.Close()
	entry, err := source.Find("")
	if err != nil {
		return err
	}
	to := target{refs: []oci.Reference{{Registry: c.Registry, Name: c.Place.Name, Tag: tag}}, tags: []oci.Tag{tag}}
	_, err = pushTo(ctx, c, source.Source, entry.Descriptor, to)
	return err
}
