package upkeep

import (
	"context"
	"fmt"
	"net/url"
	"strconv"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
)

func addRuns(root *cobra.Command, t term.Terminal, r *site.Remote) {
	var kind, state, output string
	var limit int
	parent := &cobra.Command{
		Use: "runs [REGISTRY]", GroupID: term.GroupRun, Short: "Show the work beside requests: what goes, what ended, and what runs by itself",
		Example: "  warthesis runs localhost:7070 --state failed\n  warthesis runs show localhost:7070 17",
		Args:    cobra.MaximumNArgs(1),
		RunE: r.At(func(c *cobra.Command, at site.Site, _ []string) error {
			if err := term.CheckOutput(output); err != nil {
				return err
			}
			query := url.Values{"limit": {strconv.Itoa(limit)}}
			for key, value := range map[string]string{"kind": kind, "state": state} {
				if value != "" {
					query.Set(key, value)
				}
			}
			return listRuns(c.Context(), t, at, query, output)
		}),
	}
	f := parent.Flags()
	f.StringVar(&kind, "kind", "", "only this kind of runs")
	f.StringVar(&state, "state", "", "only runs that are waiting, going, stopped, done or failed")
	f.IntVar(&limit, "limit", 50, "how many runs, at most 1000")
	term.AddOutput(parent, &output)
	parent.AddCommand(showRun(t, r), stopRun(t, r))
	root.AddCommand(parent)
}

func listRuns(ctx context.Context, t term.Terminal, at site.Site, query url.Values, output string) error {
	var list api.RunList
	var kinds api.RunKindList
	if err := at.Do(ctx, "GET", "/api/v1/runs", query, nil, &list); err != nil {
		return err
	}
	if err := at.Do(ctx, "GET", "/api/v1/run-kinds", nil, nil, &kinds); err != nil {
		return err
	}
	if output == term.OutputJSON {
		return term.WriteJSON(t.Out, struct {
			api.RunList
			api.RunKindList
		}{list, kinds})
	}
	if len(list.Runs) == 0 {
		none := "No run is recorded."
		if query.Has("kind") || query.Has("state") {
			none = "There is no such run."
		}
		fmt.Fprintln(t.Out, none+" Work that takes well under a second leaves one only where it fails.")
	} else {
		w := term.NewTable(t, "Run", "Kind", "State", "Progress", "Asked by", "Began", "Took")
		term.AlignRight(w, "Run")
		for _, run := range list.Runs {
			w.AppendRow(table.Row{run.ID, kindOf(run), run.State, progressOf(run), term.OrDash(askerOf(run)), term.When(run.BeganAt), tookOf(run)})
		}
		w.Render()
	}
	if list.Next != 0 {
		fmt.Fprintln(t.Out, "There are older runs; show more of them with --limit")
	}
	fmt.Fprintln(t.Out, "\nWhat runs by itself:")
	w := term.NewTable(t, "Kind", "When", "Last", "What it does")
	for _, k := range kinds.Kinds {
		about := k.About
		if k.Failing != "" {
			about = "FAILS: " + k.Failing
		}
		w.AppendRow(table.Row{k.Name, term.OrDash(k.When), term.When(k.RanAt), about})
	}
	w.Render()
	return nil
}

func showRun(t term.Terminal, r *site.Remote) *cobra.Command {
	var output string
	c := &cobra.Command{
		Use: "show REGISTRY RUN", Short: "Show one run", Args: cobra.ExactArgs(2),
		RunE: r.At(func(c *cobra.Command, at site.Site, rest []string) error {
			if err := term.CheckOutput(output); err != nil {
				return err
			}
			path, err := pathOf(rest[0])
			if err != nil {
				return err
			}
			var run api.Run
			if err := at.Do(c.Context(), "GET", path, nil, nil, &run); err != nil {
				return err
			}
			if output == term.OutputJSON {
				return term.WriteJSON(t.Out, run)
			}
			w := term.NewTable(t, fmt.Sprintf("Run %d", run.ID), kindOf(run))
			for _, row := range []struct{ what, is string }{
				{"State", run.State}, {"Progress", progressOf(run)}, {"Asked", term.When(&run.AskedAt)}, {"Asked by", askerOf(run)}, {"Began", term.When(run.BeganAt)},
				{"Took", tookOf(run)}, {"Tries", strconv.Itoa(run.Tries)}, {"Report", run.Report}, {"Error", run.Error},
			} {
				if row.is != "" {
					w.AppendRow(table.Row{row.what, row.is})
				}
			}
			w.Render()
			return nil
		}),
	}
	term.AddOutput(c, &output)
	return c
}

func stopRun(t term.Terminal, r *site.Remote) *cobra.Command {
	return &cobra.Command{
		Use: "stop REGISTRY RUN", Short: "Stop a run that waits or goes", Args: cobra.ExactArgs(2),
		RunE: r.At(func(c *cobra.Command, at site.Site, rest []string) error {
			path, err := pathOf(rest[0])
			if err != nil {
				return err
			}
			if err := at.Do(c.Context(), "POST", path+"/stop", nil, nil, nil); err != nil {
				return err
			}
			fmt.Fprintf(t.Out, "Stopped the run %s.\n", rest[0])
			return nil
		}),
	}
}

// pathOf is where the API has a run.
func pathOf(number string) (string, error) {
	id, err := strconv.ParseInt(number, 10, 64)
	if err != nil || id < 1 {
		return "", term.Usage("%q is no run; runs have numbers, which the list of runs shows", number)
	}
	return fmt.Sprintf("/api/v1/runs/%d", id), nil
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
