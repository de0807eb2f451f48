package upkeep

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/spf13/pflag"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/oci"
)

func sweepCommands() site.Command {
	return site.Command{
		Name: "sweep", Group: term.GroupRun, Short: "Collect garbage: take what nothing needs any more",
		Under: []site.Command{previewSweep(), runSweep(), stopSweep(), listSweeps(), showSweep()},
	}
}

// shown says which things of a report are shown.
type shown struct {
	kind  string
	limit int
}

func (s *shown) addTo(f *pflag.FlagSet) {
	term.Choice(f, &s.kind, "kind", "", "only things of this kind", "manifest", "tag", "holding", "repository", "namespace", "blob", "stray", "leftover")
	term.Number(f, &s.limit, "limit", 50, 0, 100_000, "how many things are listed; 0 for none")
}

// sweepFacts is what sweeps print for scripts.
type sweepFacts struct {
	api.Run
	Items []api.SweepItem `json:"items"`
}

func previewSweep() site.Command {
	var which shown
	return site.Command{
		Name: "preview", Short: "Tell what a sweep would take now, and why; nothing goes",
		Long:    "Tells what a sweep would take now and why, and what nothing needs and stays all the same. Of a place it tells what that lets go of; bytes go\nwith the sweep of the whole registry.",
		Example: "  warthesis sweep preview localhost:7070\n  warthesis sweep preview localhost:7070/timetable --kind holding",
		On:      site.OnWhere, Facts: sweepFacts{}, Flags: which.addTo,
		Run: func(ctx context.Context, c *site.Call) error {
			asked, err := c.Sweep(ctx, api.AskSweep{Place: string(c.Place.Name), Preview: true})
			if err != nil {
				return err
			}
			run, err := await(ctx, c, asked.Run)
			if err != nil {
				return err
			}
			return tellSweep(ctx, c, run, which)
		},
	}
}

func runSweep() site.Command {
	var unrecorded, detach bool
	which := shown{}
	return site.Command{
		Name: "run", Short: "Sweep now: take what nothing needs any more",
		Long: "Takes what nothing needs any more: what was removed and whose restore window is over, blobs that no manifest names, files that no record\n" +
			"names. Pushes and pulls go on. What is taken cannot be brought back; what a restore window or the grace still covers stays.",
		Example: "  warthesis sweep run localhost:7070\n  warthesis sweep run localhost:7070/timetable",
		On:      site.OnWhere, Facts: sweepFacts{}, Asks: true,
		Flags: func(f *pflag.FlagSet) {
			f.BoolVar(&unrecorded, "unrecorded", false, "also take files that no record names, however many they are")
			f.BoolVar(&detach, "no-wait", false, "do not wait for its end")
			which.addTo(f)
		},
		Run: func(ctx context.Context, c *site.Call) error {
			if unrecorded {
				if err := c.Confirm(ctx, "Take all files that no record names, for good? If the records are older than the files, restore newer records instead."); err != nil {
					return err
				}
			}
			asked, err := c.Sweep(ctx, api.AskSweep{Place: string(c.Place.Name), Unrecorded: unrecorded})
			if err != nil {
				return err
			}
			if detach {
				return c.Tell(sweepFacts{Run: asked.Run, Items: []api.SweepItem{}}, func() {
					c.T.Say("Run %d is asked for", asked.Run.ID)
					c.T.Hint("To see it:  %s", c.Self("sweep", "show", c.Registry, strconv.FormatInt(asked.Run.ID, 10)))
				})
			}
			run, err := await(ctx, c, asked.Run)
			if err != nil {
				return err
			}
			return tellSweep(ctx, c, run, which)
		},
	}
}

// askEvery is how often it is asked how a run fares: each question is a request, and runs
// let requests go first.
const askEvery = 500 * time.Millisecond

// await waits for the end of a run, and tells of it meanwhile where a person watches.
func await(ctx context.Context, c *site.Call, run api.Run) (api.Run, error) {
	line := c.T.Line(c.JSON())
	defer line.End()
	for tick := time.NewTicker(askEvery); run.State == "waiting" || run.State == "going"; {
		line.Show("Run %d: %s", run.ID, progressOf(run))
		select {
		case <-ctx.Done():
			tick.Stop()
			return run, fmt.Errorf("the run %d goes on at the registry; stop it with  %s", run.ID, c.Self("runs", "stop", c.Registry, strconv.FormatInt(run.ID, 10)))
		case <-tick.C:
		}
		var err error
		if run, err = getRun(ctx, c, strconv.FormatInt(run.ID, 10)); err != nil {
			return run, err
		}
	}
	return run, nil
}

// tellSweep prints a sweep with what it took, or would.
func tellSweep(ctx context.Context, c *site.Call, run api.Run, which shown) error {
	facts := sweepFacts{Run: run, Items: []api.SweepItem{}}
	more, err := items(ctx, c, run, which, &facts.Items)
	if err != nil {
		return err
	}
	if err := c.Tell(facts, func() { drawSweep(c, run, facts.Items, more) }); err != nil {
		return err
	}
	if run.State == "failed" {
		return errors.New(run.Error)
	}
	return nil
}

// items asks for the things of a report.
func items(ctx context.Context, c *site.Call, run api.Run, which shown, all *[]api.SweepItem) (more bool, err error) {
	after := int64(0)
	for len(*all) < which.limit {
		var page api.SweepItems
		query := api.Given(map[string]string{"kind": which.kind, "limit": strconv.Itoa(min(1000, which.limit-len(*all))), "after": strconv.FormatInt(after, 10)})
		err := c.Do(ctx, http.MethodGet, fmt.Sprintf("%s/%d/items", runsPath, run.ID), query, nil, &page)
		if errors.Is(err, oci.CodeNameUnknown) {
			return false, nil
		}
		if err != nil {
			return false, err
		}
		*all = append(*all, page.Items...)
		if after = page.Next; after == 0 {
			return false, nil
		}
	}
	return true, nil
}

// kinds are what goes, for people.
var kinds = map[string][2]string{
	"manifest": {"image", "images"}, "tag": {"tag", "tags"}, "holding": {"holding", "holdings"}, "repository": {"repository", "repositories"}, "namespace": {"namespace", "namespaces"},
	"blob": {"blob", "blobs"}, "stray": {"unrecorded file", "unrecorded files"}, "leftover": {"leftover of an upload", "leftovers of uploads"},
}

func drawSweep(c *site.Call, run api.Run, all []api.SweepItem, more bool) {
	preview := run.Kind == "sweep-preview"
	if len(all) > 0 {
		w := c.T.Table("", "What", "In", "Digest", "Size", "Why")
		w.Right("Size")
		for _, i := range all {
			what := kinds[i.Kind][0]
			if i.Name != "" && i.Kind != "stray" {
				what += " " + i.Name
			}
			w.Row(fate(i), what, term.OrDash(string(i.Repository)), shortOf(string(i.Digest)), sizeOf(i), i.Says)
		}
		w.Draw()
		if more {
			c.T.Hint("There are more; list them with --limit")
		}
		c.T.Say("")
	}
	if run.Sweep == nil {
		c.T.Say("Run %d: %s", run.ID, run.State)
		return
	}
	r := run.Sweep
	if preview {
		drawSums(c, "would go", r.Goes)
	} else {
		drawSums(c, "went", r.Taken)
		drawSums(c, "stayed", r.Since)
	}
	drawSums(c, "stays", r.Stays)
	switch {
	case preview && len(r.Goes) == 0:
		c.T.Say("Nothing would go now.")
	case !preview:
		c.T.Say("Run %d is %s: %s in %s are free on the disk.", run.ID, run.State, term.Size(r.Freed), term.Count(r.Files, "file", "files"))
		if r.Waited > 0 {
			c.T.Say("%s of others waited for it, the longest %.1f ms (%s).", term.Count(r.Waited, "change", "changes"), r.WaitedLongest, r.WaitedKind)
		}
	}
	if r.Missing > 0 {
		c.T.Warn("%s missing on the disk; see  %s", term.Count(r.Missing, "file is", "files are"), c.Self("hurt", "list", c.Registry))
	}
}

func fate(i api.SweepItem) string {
	switch {
	case i.Went == nil:
		return "goes"
	case *i.Went:
		return "went"
	}
	return "stayed"
}

func sizeOf(i api.SweepItem) string {
	if i.Size == 0 {
		return "-"
	}
	return term.Size(i.Size)
}

func drawSums(c *site.Call, fate string, sums []api.Sum) {
	for _, s := range sums {
		words := kinds[s.Kind]
		said := term.Count(s.Count, words[0], words[1])
		if s.Bytes > 0 {
			said += " (" + term.Size(s.Bytes) + ")"
		}
		c.T.Say("%-9s %s: %s", fate, said, s.Says)
	}
}

func stopSweep() site.Command {
	return site.Command{
		Name: "stop", Short: "Stop the sweep that goes or waits", On: site.OnWhere, Facts: api.Run{},
		Run: func(ctx context.Context, c *site.Call) error {
			list, err := sweeps(ctx, c, 1000)
			if err != nil {
				return err
			}
			for _, run := range list.Runs {
				if run.Kind == "sweep" && (run.State == "going" || run.State == "waiting") && run.Place == string(c.Place.Name) {
					if err := c.Do(ctx, http.MethodPost, fmt.Sprintf("%s/%d/stop", runsPath, run.ID), nil, nil, nil); err != nil {
						return err
					}
					run, err = await(ctx, c, run)
					if err != nil {
						return err
					}
					return c.Tell(run, func() { c.T.Say("Run %d is stopped; what it took is gone, and the next sweep takes the rest", run.ID) })
				}
			}
			return oci.Errorf(oci.CodeNameUnknown, "no sweep of %s goes or waits", c.Place)
		},
	}
}

func sweeps(ctx context.Context, c *site.Call, limit int) (list api.RunList, err error) {
	query := api.Given(map[string]string{"kind": "sweep", "place": string(c.Place.Name), "limit": strconv.Itoa(limit)})
	return list, c.Do(ctx, http.MethodGet, runsPath, query, nil, &list)
}

func listSweeps() site.Command {
	var limit int
	return site.Command{
		Name: "list", Short: "List sweeps with what each took", On: site.OnWhere, Facts: []api.Run{},
		Flags: func(f *pflag.FlagSet) { term.Number(f, &limit, "limit", 20, 1, 1000, "how many sweeps") },
		Run: func(ctx context.Context, c *site.Call) error {
			list, err := sweeps(ctx, c, limit)
			if err != nil {
				return err
			}
			return c.Tell(list.Runs, func() {
				if len(list.Runs) == 0 {
					c.T.Say("No sweep of %s ran yet", c.Place)
					return
				}
				w := c.T.Table("Run", "Of", "State", "Began", "Took", "What came of it")
				w.Right("Run")
				for _, run := range list.Runs {
					said := run.Report
					if run.Error != "" {
						said = run.Error
					}
					w.Row(run.ID, orRegistry(run.Place), run.State, term.When(run.BeganAt), tookOf(run), term.OrDash(said))
				}
				w.Draw()
			})
		},
	}
}

func orRegistry(place string) string {
	if place == "" {
		return "the registry"
	}
	return place
}

func showSweep() site.Command {
	var which shown
	return site.Command{
		Name: "show", Short: "Show what a sweep took, what stayed, and why", On: site.OnRegistry, Args: []site.Arg{{Name: "RUN"}}, Facts: sweepFacts{}, Flags: which.addTo,
		Run: func(ctx context.Context, c *site.Call) error {
			run, err := getRun(ctx, c, c.Args[0])
			if err != nil {
				return err
			}
			if run.Kind != "sweep" && run.Kind != "sweep-preview" {
				return term.Usage("the run %d is a %s and no sweep; show it with  %s", run.ID, run.Kind, c.Self("runs", "show", c.Registry, c.Args[0]))
			}
			return tellSweep(ctx, c, run, which)
		},
	}
}

func scrubCommand() site.Command {
	var detach bool
	return site.Command{
		Name: "scrub", Group: term.GroupRun, Short: "Read what is here against its digests",
		Long: "Reads files from the disk against their digests: of the whole registry, of a place, or of one image. What is wrong is set aside, so that\n" +
			"nobody is served it, and listed by  hurt list. By itself the registry reads everything once in 14 days.",
		Example: "  warthesis scrub localhost:7070/timetable\n  warthesis scrub localhost:7070/timetable/planner:2.4.1",
		On:      site.OnWhat, Facts: api.Run{}, Checks: true,
		Flags: func(f *pflag.FlagSet) { f.BoolVar(&detach, "no-wait", false, "do not wait for its end") },
		Run: func(ctx context.Context, c *site.Call) error {
			asked, err := c.Scrub(ctx, api.AskScrub{Place: string(c.Place.Name), Reference: c.Image.Target()})
			if err != nil {
				return err
			}
			run := asked.Run
			if !detach {
				if run, err = await(ctx, c, run); err != nil {
					return err
				}
			}
			if err := c.Tell(run, func() { c.T.Say("Run %d is %s: %s", run.ID, run.State, progressOrReport(run)) }); err != nil {
				return err
			}
			if run.State == "failed" {
				return errors.New(run.Error)
			}
			s := run.Scrub
			if s == nil {
				return nil
			}
			hurt := s.Missing + s.Short + s.Rotten + s.Unreadable
			if hurt > 0 || len(s.Records) > 0 {
				c.T.Hint("What is hurt:  %s", c.Self("hurt", "list", c.Registry))
			}
			if len(s.Records) > 0 {
				return term.NotRight("the records are damaged: %s", s.Records[0])
			}
			if hurt > 0 {
				return term.NotRight("%s not what they should be", term.Count(hurt, "file is", "files are"))
			}
			return nil
		},
	}
}

func progressOrReport(run api.Run) string {
	if run.Report != "" {
		return run.Report
	}
	return progressOf(run)
}
