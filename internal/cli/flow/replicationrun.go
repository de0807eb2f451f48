package flow

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"github.com/spf13/pflag"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
)

// askEvery is how often it is asked how far something is.
const askEvery = 500 * time.Millisecond

func runReplication() site.Command {
	var body api.RunReplication
	var detach bool
	return site.Command{
		Name: "run", Short: "Let a replication rule act now, and wait until nothing is due", On: site.OnRegistry, Args: []site.Arg{ruleArg}, Facts: replicationFacts{}, Asks: true,
		Long: "Compares all that a rule means with the other side and copies what differs, at once, also what waits after a failure. It waits until nothing is due any\n" +
			"more and fails where something does not go on; --no-wait leaves it to the registry.",
		Example: "  warthesis replication run localhost:7070 depot\n  warthesis replication run localhost:7070 depot --settle signals/relay:stable",
		Flags: func(f *pflag.FlagSet) {
			f.BoolVar(&body.Removals, "removals", false, "also let removals go that wait because they would take more than a fifth of a repository there")
			f.StringVar(&body.Settle, "settle", "", "a tag in conflict, as REPOSITORY:TAG: the other side gets what the rule copies, whatever it has")
			f.BoolVar(&detach, "no-wait", false, "do not wait for its end")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			if body.Removals {
				if err := c.Confirm(ctx, fmt.Sprintf("Let the rule %s remove at the other side what it put there and was removed here? Only there it can be brought back.", c.Args[0])); err != nil {
					return err
				}
			}
			if body.Settle != "" {
				if err := c.Confirm(ctx, fmt.Sprintf("Overwrite %s at the other side with what the rule %s copies? What is there now stays in its tag log.", body.Settle, c.Args[0])); err != nil {
					return err
				}
			}
			var now api.Replication
			if err := c.Do(ctx, http.MethodPost, rulePath(c.Args[0], "run"), nil, body, &now); err != nil {
				return err
			}
			var err error
			if !detach {
				now, err = awaitCopies(ctx, c, now)
			}
			if err != nil {
				return err
			}
			if err := c.Tell(replicationFacts{Replication: now, Items: []api.DueItem{}}, func() { drawReplication(c, now) }); err != nil {
				return err
			}
			switch {
			case detach:
			case now.Error != "":
				return errors.New(now.Error)
			case now.Conflicting > 0:
				return term.NotRight("%s in conflict; see them with  %s", term.Count(now.Conflicting, "tag is", "tags are"), c.Self("replication", "show", c.Registry, now.Name))
			}
			return nil
		},
	}
}

// awaitCopies waits until nothing is due, or it does not go on.
func awaitCopies(ctx context.Context, c *site.Call, now api.Replication) (api.Replication, error) {
	line := c.T.Line(c.JSON())
	defer line.End()
	tick := time.NewTicker(askEvery)
	defer tick.Stop()
	// What failed is tried again later, and the rest goes on.
	for now.Due+now.Places > now.Failing && now.AgainIn == nil && now.State != "closed" && now.State != "paused" {
		line.Show("%d due, at most %s left, %s/s", now.Due+now.Places, term.Size(now.BytesLeft), term.Size(now.BytesRate))
		select {
		case <-ctx.Done():
			return now, fmt.Errorf("the registry goes on with it; see it with  %s", c.Self("replication", "show", c.Registry, now.Name))
		case <-tick.C:
		}
		next := api.Replication{}
		if err := c.Do(ctx, http.MethodGet, rulePath(c.Args[0]), nil, nil, &next); err != nil {
			return now, err
		}
		now = next
	}
	return now, nil
}

func pauseReplication() site.Command {
	var end bool
	return site.Command{
		Name: "pause", Short: "Pause a replication rule, or let it act again", On: site.OnRegistry, Args: []site.Arg{ruleArg}, Facts: api.Replication{},
		Long:  "A rule that is paused copies nothing; what becomes due meanwhile is copied when it acts again, with --end.",
		Flags: func(f *pflag.FlagSet) { f.BoolVar(&end, "end", false, "let it act again") },
		Run: func(ctx context.Context, c *site.Call) error {
			var now api.Replication
			if err := c.Do(ctx, http.MethodPost, rulePath(c.Args[0], "pause"), nil, api.PauseReplication{Paused: !end}, &now); err != nil {
				return err
			}
			return c.Tell(now, func() {
				if end {
					c.T.Say("The replication rule %s acts again", now.Name)
					return
				}
				c.T.Say("The replication rule %s is paused", now.Name)
				c.T.Hint("To let it act again:  %s", c.Self("replication", "pause", c.Registry, now.Name, "--end"))
			})
		},
	}
}

func driftReplication() site.Command {
	var right, last bool
	limit := 1000
	return site.Command{
		Name: "drift", Short: "Compare both sides of a rule tag by tag, and put right what differs", On: site.OnRegistry, Args: []site.Arg{ruleArg}, Facts: api.DriftReport{}, Asks: true, Checks: true,
		Long: "Compares all that a rule means with the other side, by digest: what is missing there, what is different, what is extra. With --put-right what is missing\n" +
			"or different is copied, whoever moved it; what is extra goes only where the rule put it there and removes.",
		Example: "  warthesis replication drift localhost:7070 depot\n  warthesis replication drift localhost:7070 depot --put-right",
		Flags: func(f *pflag.FlagSet) {
			f.BoolVar(&right, "put-right", false, "copy what is missing or different, whoever moved it")
			f.BoolVar(&last, "last", false, "show the last comparison, and make none")
			term.Number(f, &limit, "limit", limit, 0, 100_000, "how many differences are listed at most")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			var found api.DriftReport
			if !last {
				if right {
					if err := c.Confirm(ctx, fmt.Sprintf("Let the rule %s overwrite at the other side what differs? What is there now stays in the tag log there, where it keeps one.", c.Args[0])); err != nil {
						return err
					}
				}
				if err := c.Do(ctx, http.MethodPost, rulePath(c.Args[0], "drift"), nil, api.AskDrift{Right: right}, &found); err != nil {
					return err
				}
			}
			found, err := awaitDrift(ctx, c, found, limit)
			if err != nil {
				return err
			}
			if err := c.Tell(found, func() { drawDrift(c, found) }); err != nil {
				return err
			}
			switch {
			case found.State == "failed":
				return errors.New(found.Error)
			case found.Missing+found.Different+found.Extra > 0 && !right:
				return term.NotRight("both sides differ")
			}
			return nil
		},
	}
}

// awaitDrift waits for the end of a comparison, and gathers what it found.
func awaitDrift(ctx context.Context, c *site.Call, asked api.DriftReport, limit int) (found api.DriftReport, err error) {
	line := c.T.Line(c.JSON())
	defer line.End()
	run := asked.Run
	tick := time.NewTicker(askEvery)
	defer tick.Stop()
	items := []api.DriftItem{}
	for after := int64(0); ; {
		page := api.DriftReport{}
		query := url.Values{"after": {fmt.Sprint(after)}, "limit": {fmt.Sprint(max(1, min(1000, limit-len(items))))}}
		if err := c.Do(ctx, http.MethodGet, rulePath(c.Args[0], "drift"), query, nil, &page); err != nil {
			return found, err
		}
		if run != 0 && page.Run < run || page.State == "waiting" || page.State == "going" {
			line.Show("Run %d: %d tags compared", page.Run, page.Compared)
			select {
			case <-ctx.Done():
				return found, fmt.Errorf("the run %d goes on at the registry", run)
			case <-tick.C:
			}
			continue
		}
		items = append(items, page.Items...)
		if found = page; page.Next == 0 || len(items) >= limit {
			found.Items = items[:min(len(items), limit)]
			return found, nil
		}
		after = page.Next
	}
}

func drawDrift(c *site.Call, d api.DriftReport) {
	if d.Run == 0 {
		c.T.Say("Both sides were not compared yet")
		return
	}
	if len(d.Items) > 0 {
		w := c.T.Table("Tag", "Is", "Here", "There", "As")
		for _, i := range d.Items {
			w.Row(fmt.Sprintf("%s:%s", i.Repository, i.Tag), i.Kind, shortOf(i.Here), shortOf(i.There), i.Target)
		}
		w.Draw()
		if d.Next != 0 {
			c.T.Hint("There is more; --limit shows it.")
		}
	}
	c.T.Say("%s", d.Says)
}
