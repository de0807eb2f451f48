package upkeep

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/spf13/pflag"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
)

const runsPath = "/api/v1/runs"

// runsAndKinds is what the list of runs prints for scripts.
type runsAndKinds struct {
	api.RunList
	api.RunKindList
}

func runsCommands() site.Command {
	return site.Command{
		Name: "runs", Group: term.GroupRun, Short: "Show or stop the work beside requests", Under: []site.Command{listRuns(), showRun(), stopRun()},
	}
}

func listRuns() site.Command {
	var kind, state string
	var limit int
	return site.Command{
		Name: "list", Short: "List the work beside requests: what goes, what ended, and what runs by itself",
		Example: "  warthesis runs list localhost:7070 --state failed",
		On:      site.OnRegistry, Facts: runsAndKinds{}, Values: map[string]site.Completer{"kind": kindNames},
		Flags: func(f *pflag.FlagSet) {
			f.StringVar(&kind, "kind", "", "only this kind of runs")
			term.Choice(f, &state, "state", "", "only runs in this state", "waiting", "going", "stopped", "done", "failed")
			term.Number(f, &limit, "limit", 50, 1, 1000, "how many runs")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			query := api.Given(map[string]string{"limit": strconv.Itoa(limit), "kind": kind, "state": state})
			var found runsAndKinds
			if err := c.Do(ctx, http.MethodGet, runsPath, query, nil, &found.RunList); err != nil {
				return err
			}
			if err := c.Do(ctx, http.MethodGet, "/api/v1/run-kinds", nil, nil, &found.RunKindList); err != nil {
				return err
			}
			if kind != "" && !slices.ContainsFunc(found.Kinds, func(k api.RunKind) bool { return k.Name == kind }) && len(found.Runs) == 0 {
				return term.Usage("--kind is %q: it is %s", kind, term.Or(namesOf(found.Kinds)))
			}
			return c.Tell(found, func() { drawRuns(c, found, kind+state != "") })
		},
	}
}

func namesOf(kinds []api.RunKind) []string {
	names := make([]string, len(kinds))
	for i, k := range kinds {
		names[i] = k.Name
	}
	return names
}

func kindNames(ctx context.Context, at site.Site) ([]string, error) {
	var kinds api.RunKindList
	err := at.Do(ctx, http.MethodGet, "/api/v1/run-kinds", nil, nil, &kinds)
	return namesOf(kinds.Kinds), err
}

func drawRuns(c *site.Call, found runsAndKinds, some bool) {
	if len(found.Runs) == 0 {
		none := "No run is recorded."
		if some {
			none = "There is no such run."
		}
		c.T.Say("%s Work that takes well under a second leaves one only where it fails.", none)
	} else {
		w := c.T.Table("Run", "Kind", "State", "Progress", "Asked by", "Began", "Took")
		w.Right("Run")
		for _, run := range found.Runs {
			w.Row(run.ID, kindOf(run), run.State, progressOf(run), term.OrDash(askerOf(run)), term.When(run.BeganAt), tookOf(run))
		}
		w.Draw()
	}
	if found.Next != 0 {
		c.T.Hint("There are older runs; show more of them with --limit")
	}
	c.T.Say("\nWhat runs by itself:")
	w := c.T.Table("Kind", "When", "Last", "What it does")
	for _, k := range found.Kinds {
		about := k.About
		if k.Failing != "" {
			about = "FAILS: " + k.Failing
		}
		w.Row(k.Name, term.OrDash(k.When), term.When(k.RanAt), about)
	}
	w.Draw()
}

func getRun(ctx context.Context, c *site.Call, number string) (run api.Run, err error) {
	path, err := pathOf(number)
	if err != nil {
		return run, err
	}
	return run, c.Do(ctx, http.MethodGet, path, nil, nil, &run)
}

func showRun() site.Command {
	return site.Command{
		Name: "show", Short: "Show one run", On: site.OnRegistry, Args: []site.Arg{{Name: "RUN"}}, Facts: api.Run{},
		Run: func(ctx context.Context, c *site.Call) error {
			run, err := getRun(ctx, c, c.Args[0])
			if err != nil {
				return err
			}
			return c.Tell(run, func() {
				c.T.Fields(fmt.Sprintf("Run %d", run.ID), kindOf(run), [2]string{"State", run.State}, [2]string{"Progress", progressOf(run)}, [2]string{"Asked", term.When(&run.AskedAt)},
					[2]string{"Asked by", askerOf(run)}, [2]string{"Began", term.When(run.BeganAt)}, [2]string{"Took", tookOf(run)}, [2]string{"Tries", strconv.Itoa(run.Tries)},
					[2]string{"Report", run.Report}, [2]string{"Error", run.Error})
			})
		},
	}
}

func stopRun() site.Command {
	return site.Command{
		Name: "stop", Short: "Stop a run that waits or goes", On: site.OnRegistry, Args: []site.Arg{{Name: "RUN"}}, Facts: api.Run{},
		Run: func(ctx context.Context, c *site.Call) error {
			path, err := pathOf(c.Args[0])
			if err != nil {
				return err
			}
			if err := c.Do(ctx, http.MethodPost, path+"/stop", nil, nil, nil); err != nil {
				return err
			}
			run, err := getRun(ctx, c, c.Args[0])
			if err != nil {
				return err
			}
			return c.Tell(run, func() { c.T.Say("Stopped the run %s", c.Args[0]) })
		},
	}
}

// pathOf is where the API has a run.
func pathOf(number string) (string, error) {
	id, err := strconv.ParseInt(number, 10, 64)
	if err != nil || id < 1 {
		return "", term.Usage("%q is no run; runs have numbers, which the list of runs shows", number)
	}
	return fmt.Sprintf("%s/%d", runsPath, id), nil
}

func kindOf(run api.Run) string {
	if run.Place == "" {
		return run.Kind
	}
	return run.Kind + " of " + run.Place
}

func askerOf(run api.Run) string {
	if run.AskedBy != "" {
		return run.AskedBy
	}
	if run.Cause == "schedule" || run.Cause == "event" {
		return "its " + run.Cause
	}
	return ""
}

func progressOf(run api.Run) string {
	said := run.Step
	if run.Unit != "" {
		count := fmt.Sprintf("%d %s", run.Done, run.Unit)
		if run.Total > 0 {
			count = fmt.Sprintf("%d of %d %s", run.Done, run.Total, run.Unit)
		}
		if said != "" {
			said += ", "
		}
		said += count
	}
	if run.Error != "" {
		said = run.Error
	}
	return term.OrDash(said)
}

// tookOf says how long a run took, or has gone so far.
func tookOf(run api.Run) string {
	if run.BeganAt == nil {
		return "-"
	}
	end := time.Now()
	if run.EndedAt != nil {
		end = *run.EndedAt
	}
	return end.Sub(*run.BeganAt).Round(time.Second).String()
}
