package flow

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"time"

	"github.com/spf13/pflag"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/oci"
)

func importCommand() site.Command {
	var body api.MakeImport
	var keep, into, list string
	var detach bool
	return site.Command{
		Name: "import", Group: term.GroupFlow, Short: "Bring in repositories of a peer, or all that it has", On: site.OnRegistry,
		Args: []site.Arg{{Name: "PEER[/REPOSITORY]"}, {Name: "HERE", Optional: true}}, Facts: api.Import{}, Checks: true,
		Long: "Brings in a repository of a peer with all its tags, their platforms and what refers to them, under the same name or as HERE; what a pattern matches, as in\n" +
			"PEER/signals/*; or, by the peer's name alone, all that it has: so a whole registry moves over. It can be repeated until nothing differs: what is\n" +
			"equal is not brought again, and at its end it says whether both sides are equal by digest, and when that was. A tag that somebody moved here\n" +
			"stays, without --overwrite. The registry does it, and goes on after a stop.",
		Example: "  warthesis import localhost:7070 partner/tickets/printer outside/printer\n  warthesis import localhost:7070 old-registry --preview\n" +
			"  warthesis import localhost:7070 old-registry --name move-over --when 6h",
		Flags: func(f *pflag.FlagSet) {
			f.StringVar(&keep, "name", "", "what the import is called, to be run again: imports run NAME; made of what it brings where it is left out")
			f.StringVar(&into, "into", "", "what stands here before the names of what a pattern matches")
			f.StringVar(&list, "list", "", "a file with the repositories that are meant, a name a line; - is standard input")
			f.StringVar(&body.When, "when", "", "when it runs again by itself: an interval as 6h, or a cron expression")
			f.BoolVar(&body.Preview, "preview", false, "only compare, and bring nothing")
			f.BoolVar(&body.Overwrites, "overwrite", false, "also move tags that somebody moved here")
			f.BoolVar(&body.NoReferrers, "no-referrers", false, "leave out what refers to the images, as signatures do")
			f.BoolVar(&detach, "no-wait", false, "do not wait for its end")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			if err := readImport(c, &body, list, into); err != nil {
				return err
			}
			if body.Name = keep; body.Name == "" {
				body.Name = nameFor(body)
			}
			var made api.Import
			err := c.Do(ctx, http.MethodPost, "/api/v1/imports", nil, body, &made)
			if errors.Is(err, oci.CodeQueryInvalid) && keep == "" {
				// The same was brought in before: it is brought in again.
				if again, same := sameImport(ctx, c, body); same {
					made, err = again, c.Do(ctx, http.MethodPost, importPath(body.Name, "run"), nil, api.RunImport{Preview: body.Preview}, &again)
				}
			}
			if err != nil {
				return err
			}
			return awaitImport(ctx, c, made.Name, detach)
		},
	}
}

// readImport reads what is to be brought in.
func readImport(c *site.Call, body *api.MakeImport, list, into string) error {
	peer, repository, named := strings.Cut(c.Args[0], "/")
	body.Peer, body.Prefix = peer, oci.Name(into)
	here := ""
	if len(c.Args) > 1 {
		here = c.Args[1]
	}
	switch {
	case list != "":
		if named || here != "" {
			return term.Usage("--list says which repositories are meant; name the peer alone beside it")
		}
		raw, err := site.ReadInput(list, mostNamesFile)
		if err != nil {
			return err
		}
		for line := range strings.Lines(string(raw)) {
			line, _, _ = strings.Cut(line, "#")
			words := strings.Fields(line)
			switch {
			case len(words) == 0:
			case len(words) == 1:
				what := api.ImportWhat{From: oci.Name(words[0])}
				if into != "" {
					what.To = oci.Name(into + "/" + words[0])
				}
				body.What = append(body.What, what)
			case len(words) == 3 && words[1] == "->":
				body.What = append(body.What, api.ImportWhat{From: oci.Name(words[0]), To: oci.Name(words[2])})
			default:
				return term.Usage("%.80q is no repository; a line is NAME, or NAME -> NAME here", strings.TrimSpace(line))
			}
		}
		if len(body.What) == 0 {
			return term.Usage("%s names no repository", list)
		}
	case !named:
		body.What = []api.ImportWhat{{Pattern: "*"}}
	case strings.Contains(repository, "*"):
		body.What = []api.ImportWhat{{Pattern: repository}}
	default:
		what := api.ImportWhat{From: oci.Name(repository), To: oci.Name(here)}
		if here == "" && into != "" {
			what.To = oci.Name(into + "/" + repository)
		}
		body.What = []api.ImportWhat{what}
		body.Prefix = ""
		return nil
	}
	if here != "" {
		return term.Usage("HERE names one repository, and several are meant; say with --into what stands before their names")
	}
	if list != "" {
		body.Prefix = ""
	}
	return nil
}

// mostNamesFile is the largest list of repositories in bytes.
const mostNamesFile = 4 << 20

var notOfNames = regexp.MustCompile(`[^a-z0-9]+`)

// nameFor is what an import is called that was given no name.
func nameFor(body api.MakeImport) string {
	name := body.Peer
	if what := body.What[0]; what.From != "" {
		name += "-" + string(what.From)
	} else if what.Pattern != "*" {
		name += "-" + what.Pattern
	}
	if len(body.What) > 1 {
		name += "-and-more"
	}
	name = strings.Trim(notOfNames.ReplaceAllString(strings.ToLower(name), "-"), "-")
	const most = 64
	return strings.Trim(name[:min(len(name), most)], "-")
}

func importPath(name string, more ...string) string {
	return "/api/v1/imports/" + strings.Join(append([]string{url.PathEscape(name)}, more...), "/")
}

// sameImport returns an import that is kept, where it brings the same.
func sameImport(ctx context.Context, c *site.Call, body api.MakeImport) (is api.Import, same bool) {
	if err := c.Do(ctx, http.MethodGet, importPath(body.Name), nil, nil, &is); err != nil {
		return is, false
	}
	one, err := json.Marshal(is.What)
	if err != nil {
		return is, false
	}
	for i := range body.What {
		if body.What[i].To == "" {
			body.What[i].To = body.What[i].From
		}
	}
	two, err := json.Marshal(body.What)
	return is, err == nil && string(one) == string(two) && is.Peer == body.Peer && is.Prefix == body.Prefix && is.When == body.When && is.Overwrites == body.Overwrites && is.NoReferrers == body.NoReferrers
}

// awaitImport waits until the run of an import is over, and tells what came of it.
func awaitImport(ctx context.Context, c *site.Call, name string, detach bool) error {
	line := c.T.Line(c.JSON())
	defer line.End()
	tick := time.NewTicker(askEvery)
	defer tick.Stop()
	var facts api.Import
	for {
		var is api.Import
		if err := c.Do(ctx, http.MethodGet, importPath(name), nil, nil, &is); err != nil {
			return err
		}
		facts = is
		if detach || is.State != "waiting" && is.State != "going" {
			break
		}
		line.Show("%s: %d of %d repositories", is.Step, is.Done, is.Total)
		select {
		case <-ctx.Done():
			return fmt.Errorf("the registry goes on with it; see it with  %s", c.Self("imports", "show", c.Registry, name))
		case <-tick.C:
		}
	}
	line.End()
	if detach {
		facts.Report = nil
	}
	if err := c.Tell(facts, func() { drawImport(c, facts) }); err != nil {
		return err
	}
	switch {
	case detach:
	case facts.State == "failed":
		return errors.New(facts.Says)
	case facts.Report != nil && facts.Report.Totals.Failed+int64(facts.Report.Totals.Unread) > 0 && !facts.Report.Preview:
		return errors.New("not all of it could be brought")
	}
	return nil
}

func drawImport(c *site.Call, f api.Import) {
	if f.Report == nil {
		c.T.Say("The import %s is %s", f.Name, term.OrDash(f.State))
		c.T.Hint("To see how far it is:  %s", c.Self("imports", "show", c.Registry, f.Name))
		return
	}
	r := f.Report
	w := c.T.Table("Repository", "Here", "Tags", "Equal", "Lacks", "Behind", "Moved here", "Here alone", "Failed", "Brought", "Why")
	w.Right("Tags", "Equal", "Lacks", "Behind", "Moved here", "Here alone", "Failed", "Brought")
	const most = 40
	shown, hidden := 0, 0
	for _, one := range r.Repositories {
		if r.Totals.Repositories > most && one.Equal == one.Tags && one.Why == "" && one.Brought == 0 && one.Extra == 0 {
			hidden++
			continue
		}
		if shown++; shown > most {
			hidden++
			continue
		}
		w.Row(one.From, one.To, one.Tags, one.Equal, one.Lacks, one.Behind, one.Ours, one.Extra, one.Failed, one.Brought, term.OrDash(one.Why))
	}
	w.Draw()
	if hidden > 0 {
		c.T.Say("%s more, of which most are equal; all of them with --output json", term.Count(hidden, "repository", "repositories"))
	}
	if len(r.Differs) > 0 {
		w := c.T.Table("Tag", "State", "There", "Here", "Why")
		for _, d := range r.Differs[:min(len(r.Differs), most)] {
			w.Row(string(d.Repository)+":"+string(d.Tag), d.State, shortOr(d.There), shortOr(d.Here), term.OrDash(d.Why))
		}
		w.Draw()
		if more := len(r.Differs) - most; more > 0 {
			c.T.Say("and %d tags more", more)
		}
	}
	if r.Preview {
		for _, n := range r.Namespaces {
			if !n.There {
				c.T.Say("It would make the namespace %s for %s%s", n.Name, term.Count(n.Repositories, "repository", "repositories"), described(n.Description))
			}
		}
	}
	c.T.Say("%s", strings.ToUpper(r.Says[:1])+r.Says[1:])
	if r.Preview {
		c.T.Hint("Nothing was brought. To bring it:  %s", c.Self("imports", "run", c.Registry, f.Name))
		return
	}
	if !r.Equal {
		c.T.Hint("To bring what differs since:  %s", c.Self("imports", "run", c.Registry, f.Name))
	}
}

func described(text string) string {
	if text == "" {
		return ""
	}
	return ", described as: " + term.OneLine(text)
}

func shortOr(d oci.Digest) string {
	if d == "" {
		return "-"
	}
	return term.Short(d)
}

var importArg = site.Arg{Name: "NAME"}

func importsCommands() site.Command {
	return site.Command{
		Name: "imports", Group: term.GroupFlow, Short: "Run imports again, and see what came of them",
		Under: []site.Command{listImports(), showImport(), runImport(), removeImport()},
	}
}

func listImports() site.Command {
	return site.Command{
		Name: "list", Short: "List imports", On: site.OnRegistry, Facts: []api.Import{},
		Run: func(ctx context.Context, c *site.Call) error {
			var list api.ImportList
			if err := c.Do(ctx, http.MethodGet, "/api/v1/imports", nil, nil, &list); err != nil {
				return err
			}
			return c.Tell(list.Imports, func() {
				if len(list.Imports) == 0 {
					c.T.Say("Nothing was brought in to %s by naming it", c.Registry)
					c.T.Hint("To bring something in:  %s", c.Self("import", c.Registry, "PEER/REPOSITORY"))
					return
				}
				w := c.T.Table("Name", "Peer", "What", "When", "State", "Last ended", "Says")
				for _, i := range list.Imports {
					when := i.When
					if when == "" {
						when = "by hand"
					}
					w.Row(i.Name, i.Peer, whatOf(i.What), when, term.OrDash(i.State), term.When(i.EndedAt), term.OrDash(i.Says))
				}
				w.Draw()
			})
		},
	}
}

func whatOf(all []api.ImportWhat) string {
	first := string(all[0].From)
	if first == "" {
		first = all[0].Pattern
	}
	if more := len(all) - 1; more > 0 {
		first += fmt.Sprintf(" and %d more", more)
	}
	return first
}

func showImport() site.Command {
	return site.Command{
		Name: "show", Short: "Show an import, with the report of its last run", On: site.OnRegistry, Args: []site.Arg{importArg}, Facts: api.Import{},
		Run: func(ctx context.Context, c *site.Call) error {
			var is api.Import
			if err := c.Do(ctx, http.MethodGet, importPath(c.Args[0]), nil, nil, &is); err != nil {
				return err
			}
			return c.Tell(is, func() { drawImport(c, is) })
		},
	}
}

func runImport() site.Command {
	var body api.RunImport
	var detach bool
	return site.Command{
		Name: "run", Short: "Bring in what differs since", On: site.OnRegistry, Args: []site.Arg{importArg}, Facts: api.Import{}, Checks: true,
		Flags: func(f *pflag.FlagSet) {
			f.BoolVar(&body.Preview, "preview", false, "only compare, and bring nothing")
			f.BoolVar(&detach, "no-wait", false, "do not wait for its end")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			if err := c.Do(ctx, http.MethodPost, importPath(c.Args[0], "run"), nil, body, &api.Import{}); err != nil {
				return err
			}
			return awaitImport(ctx, c, c.Args[0], detach)
		},
	}
}

func removeImport() site.Command {
	return site.Command{
		Name: "remove", Short: "Remove an import; what it brought stays", On: site.OnRegistry, Args: []site.Arg{importArg}, Facts: api.Import{}, Asks: true,
		Run: func(ctx context.Context, c *site.Call) error {
			var is api.Import
			if err := c.Do(ctx, http.MethodGet, importPath(c.Args[0]), nil, nil, &is); err != nil {
				return err
			}
			if err := c.Confirm(ctx, fmt.Sprintf("Remove the import %s? What it brought stays; it can be made again.", is.Name)); err != nil {
				return err
			}
			if err := c.Do(ctx, http.MethodDelete, importPath(is.Name), nil, nil, nil); err != nil {
				return err
			}
			return c.Tell(is, func() { c.T.Say("The import %s is removed", is.Name) })
		},
	}
}
