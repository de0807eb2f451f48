package upkeep

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"

	"github.com/spf13/pflag"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/given"
	"warthesis/internal/pin"
	"warthesis/internal/rule"
)

func inUseCommands() site.Command {
	return site.Command{
		Name: "in-use", Group: term.GroupRun, Short: "Say what runs somewhere, so that retention rules keep it",
		Long: "A list of what is in use has a name, by which retention rules keep what it names: in_use: NAME. An admin makes it; the account that keeps it\n" +
			"refreshes it, as from a cluster every few minutes. What leaves the list counts as in use for 30 days more. A list that nobody refreshed for too\n" +
			"long is stale: rules keep all of their pattern then.",
		Under: []site.Command{listInUse(), showInUse(), makeInUse(), setInUse(), removeInUse()},
	}
}

var inUseName = site.Arg{Name: "NAME"}

func inUsePath(name string) string { return "/api/v1/in-use/" + url.PathEscape(name) }

func listInUse() site.Command {
	return site.Command{
		Name: "list", Short: "List the lists of what is in use", On: site.OnRegistry, Facts: []api.InUseList{},
		Run: func(ctx context.Context, c *site.Call) error {
			var lists api.InUseLists
			if err := c.Do(ctx, http.MethodGet, "/api/v1/in-use", nil, nil, &lists); err != nil {
				return err
			}
			return c.Tell(lists.Lists, func() {
				if len(lists.Lists) == 0 {
					c.T.Say("%s has no list of what is in use", c.Registry)
					c.T.Hint("To make one:  %s", c.Self("in-use", "make", c.Registry, "cluster-north", "--keeper", "cluster-north"))
					return
				}
				w := c.T.Table("List", "References", "Refreshed", "By", "Kept by", "Fresh for", "")
				w.Right("References")
				for _, l := range lists.Lists {
					state := ""
					if l.Stale {
						state = "stale: rules keep all of their pattern"
					}
					w.Row(l.Name, l.Count, term.When(l.RefreshedAt), term.OrDash(l.RefreshedBy), term.OrDash(l.Keeper), l.FreshFor, state)
				}
				w.Draw()
			})
		},
	}
}

func makeInUse() site.Command {
	var about, keeper string
	var fresh rule.Span
	return site.Command{
		Name: "make", Short: "Make a list of what is in use, or change who keeps it", On: site.OnRegistry, Args: []site.Arg{inUseName}, Facts: api.InUseList{},
		Example: "  warthesis in-use make localhost:7070 cluster-north --keeper cluster-north --fresh-for 1d",
		Flags: func(f *pflag.FlagSet) {
			f.StringVar(&keeper, "keeper", "", "the account that refreshes it; nobody but admins where it is left out")
			term.Span(f, &fresh, "fresh-for", "for how long one refreshing is good; 3d where it is left out")
			f.StringVar(&about, "description", "", "what it is about")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			body := api.MakeInUse{Description: about, Keeper: keeper}
			if fresh != 0 {
				body.FreshFor = fresh.String()
			}
			if err := c.Do(ctx, http.MethodPut, inUsePath(c.Args[0]), nil, body, nil); err != nil {
				return err
			}
			var made api.InUseShown
			if err := c.Do(ctx, http.MethodGet, inUsePath(c.Args[0]), url.Values{"limit": {"1"}}, nil, &made); err != nil {
				return err
			}
			return c.Tell(made.InUseList, func() {
				c.T.Say("The list %s is there; one refreshing is good for %s", made.Name, made.FreshFor)
				c.T.Hint("To say what is in use:  %s", c.Self("in-use", "set", c.Registry, made.Name, "--from", "FILE"))
			})
		},
	}
}

func setInUse() site.Command {
	var shrink bool
	var from string
	return site.Command{
		Name: "set", Short: "Say what is in use, from a file or standard input", On: site.OnRegistry, Args: []site.Arg{inUseName}, Facts: api.InUseRefreshed{},
		Long: "Sets what is in use by a list, from a file or from standard input: the JSON that a cluster's API gives for its pods, or a reference a line. A list\n" +
			"that would be empty, or half as long as before, is refused unless --shrink says that it is so.",
		Example: "  warthesis in-use set registry.larkspur.example cluster-north < pods.json\n  warthesis in-use set localhost:7070 signal-boxes --from running.txt",
		Flags: func(f *pflag.FlagSet) {
			f.StringVar(&from, "from", "-", "file that tells what runs; - for standard input")
			f.BoolVar(&shrink, "shrink", false, "the list may be empty, or half as long as before")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			raw, err := readRunning(from)
			if err != nil {
				return err
			}
			references, err := pin.Running(raw)
			if err != nil {
				return term.Usage("%w", err)
			}
			if references == nil {
				references = []string{}
			}
			var set api.InUseRefreshed
			if err := c.Do(ctx, http.MethodPost, inUsePath(c.Args[0])+"/refresh", nil, api.RefreshInUse{References: references, Shrink: shrink}, &set); err != nil {
				return err
			}
			return c.Tell(set, func() {
				c.T.Say("%s in use by the list %s: %d came, %d left", term.Count(int64(set.Now), "reference is", "references are"), c.Args[0], set.Came, set.Left)
			})
		},
	}
}

// readRunning reads what runs from a file, or from standard input.
func readRunning(from string) ([]byte, error) {
	if from == "-" {
		if term.AsksSomebody() {
			return nil, term.Usage("give a file with --from, or what runs on standard input")
		}
		raw, err := io.ReadAll(io.LimitReader(os.Stdin, pin.MostRunning+1))
		if err == nil && len(raw) > pin.MostRunning {
			err = term.Usage("standard input has more than %d MiB", pin.MostRunning>>20)
		}
		return raw, err
	}
	raw, err := given.Read(from, pin.MostRunning)
	if errors.Is(err, os.ErrNotExist) {
		err = term.Usage("there is no file %s", from)
	}
	return raw, err
}

func showInUse() site.Command {
	var absent, plain bool
	limit := 100
	return site.Command{
		Name: "show", Short: "Show what is in use, and whether it is held here", On: site.OnRegistry, Args: []site.Arg{inUseName}, Facts: api.InUseShown{},
		Long: "Shows what is in use by a list, also what left it within 30 days, and whether what each reference names is held here. With --absent and\n" +
			"--references it prints what runs and is not held here, by digest, a reference a line: ready to be copied.",
		Example: "  warthesis in-use show localhost:7070 cluster-north\n  warthesis in-use show localhost:7070 cluster-north --absent --references > missing.txt",
		Flags: func(f *pflag.FlagSet) {
			f.BoolVar(&absent, "absent", false, "only what is not held here")
			f.BoolVar(&plain, "references", false, "only references with a digest, a line each")
			term.Number(f, &limit, "limit", limit, 1, 100_000, "how many")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			if plain {
				limit = 100_000
			}
			var shown api.InUseShown
			left := limit
			entries, err := site.EveryPage(api.List{}, func(page api.List) ([]api.InUseEntry, string, error) {
				page.Limit = min(1000, left)
				query := page.Query()
				if absent {
					query.Set("absent", "true")
				}
				shown = api.InUseShown{}
				err := c.Do(ctx, http.MethodGet, inUsePath(c.Args[0]), query, nil, &shown)
				if left -= len(shown.Entries); left <= 0 {
					return shown.Entries, "", err
				}
				return shown.Entries, shown.Next, err
			})
			if err != nil {
				return err
			}
			shown.Entries = entries
			if plain && !c.JSON() {
				for _, e := range shown.Entries {
					if e.Digest != "" && e.Reference != e.Digest.String() {
						fmt.Fprintln(c.T.Out, e.Reference)
					}
				}
				return nil
			}
			return c.Tell(shown, func() { drawInUse(c, shown) })
		},
	}
}

func drawInUse(c *site.Call, shown api.InUseShown) {
	if len(shown.Entries) > 0 {
		w := c.T.Table("In use", "Held here", "")
		for _, e := range shown.Entries {
			state := ""
			if e.LeftFor != nil {
				if state = fmt.Sprintf("left the list %d days ago", *e.LeftFor/86400); *e.LeftFor < 86400 {
					state = "left the list today"
				}
			}
			w.Row(e.Reference, term.YesNo(e.Held), state)
		}
		w.Draw()
		if shown.Next != "" {
			c.T.Hint("There are more; list them with --limit")
		}
	}
	c.T.Say("%s: %s, refreshed %s by %s", shown.Name, term.Count(int64(shown.Count), "reference", "references"), term.When(shown.RefreshedAt), term.OrDash(shown.RefreshedBy))
	if shown.Stale {
		c.T.Warn("It is stale: nobody refreshed it for %s, and rules keep all of their pattern.", shown.FreshFor)
	}
}

func removeInUse() site.Command {
	var reason string
	return site.Command{
		Name: "remove", Short: "Remove a list of what is in use", On: site.OnRegistry, Args: []site.Arg{inUseName}, Facts: api.InUseList{}, Asks: true,
		Flags: func(f *pflag.FlagSet) { f.StringVar(&reason, "reason", "", "why, for the audit log") },
		Run: func(ctx context.Context, c *site.Call) error {
			if err := needsReason(reason); err != nil {
				return err
			}
			var was api.InUseShown
			if err := c.Do(ctx, http.MethodGet, inUsePath(c.Args[0]), url.Values{"limit": {"1"}}, nil, &was); err != nil {
				return err
			}
			if err := c.Confirm(ctx, fmt.Sprintf("Remove the list %s of what is in use? Rules that keep by it keep all of their pattern from then on.", c.Args[0])); err != nil {
				return err
			}
			if err := c.Do(ctx, http.MethodDelete, inUsePath(c.Args[0]), url.Values{"reason": {reason}}, nil, nil); err != nil {
				return err
			}
			return c.Tell(was.InUseList, func() { c.T.Say("Removed the list %s of what is in use", c.Args[0]) })
		},
	}
}
