package upkeep

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/pflag"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
)

func retentionCommands() site.Command {
	return site.Command{
		Name: "retention", Group: term.GroupRun, Short: "Say what is worth keeping, by rules, and let the rest go",
		Long: "Retention rules stand in lists, as YAML: of a repository, of its namespace, and of the registry, asked in that order; the first rule that means a tag, or\n" +
			"an image without one, decides: keep or drop. What none means stays. A list that could take more than before waits, 24 hours where nothing else is set.\n" +
			"What goes is removed as by hand: it is in the audit log, and can be brought back until its restore window is over.",
		Under: []site.Command{
			showRules(retaining), listRules(retaining), setRules(retaining), previewRetention(), explainRetention(), runRetention(), changeRetention(), removeRules(retaining),
		},
	}
}

// drawWaits says what is to be known of a list of retention rules beside its words.
func drawWaits(c *site.Call, list api.RuleList) {
	if list.Kind != retaining.name {
		return
	}
	if list.Waits && list.ActsAt != nil {
		c.T.Warn("It waits, since it could take more than before: it acts about %s.", when(*list.ActsAt))
		c.T.Hint("To let it act at once:  %s", c.Self("retention", "change", term.OrDash(c.Place.String()), "--at-once", "--reason", "…"))
	}
	for _, w := range list.Waiting {
		c.T.Warn("In %s it waits until about %s: it would take %d of %d things there.", w.Repository, when(w.Until), w.Takes, w.OutOf)
	}
	if len(list.Rules) > 0 && list.Reaches == 0 && list.List == "" {
		c.T.Warn("Its rules speak of no repository that is there now.")
	}
	for _, name := range list.UnknownInUse {
		c.T.Warn("There is no list %s of what is in use; until there is, rules that keep by it keep all of their pattern.", name)
	}
	if list.NextRun != nil {
		c.T.Hint("Retention rules act next about %s.", when(*list.NextRun))
	}
}

// when writes a moment that is to come.
func when(t time.Time) string {
	return t.Local().Format("2006-01-02 15:04") + " (in " + term.Left(t) + ")"
}

func previewRetention() site.Command {
	at := where{kind: retaining.name}
	var asCSV bool
	limit := 50
	return site.Command{
		Name: "preview", Short: "Tell what would go, now and on the next 14 days", Args: []site.Arg{{Name: "FILE", File: true, Optional: true}},
		Long: "Tells what the rules that are set would let go, now and on each of the next 14 days, and why; with a file, what that list would, set at the place\n" +
			"instead of the one that is there, and what is otherwise then. Nothing is changed.",
		Example: "  warthesis retention preview localhost:7070/timetable\n  warthesis retention preview localhost:7070/timetable rules.yaml\n  warthesis retention preview localhost:7070/timetable --csv > goes.csv",
		On:      site.OnPlace, Facts: api.RetentionPreview{},
		Flags: func(f *pflag.FlagSet) {
			at.addTo(f)
			f.BoolVar(&asCSV, "csv", false, "a line for each thing, with commas between")
			term.Number(f, &limit, "limit", limit, 0, 20_000, "how many things are listed; 0 for none")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			query, _, err := at.query(c)
			if err != nil {
				return err
			}
			if asCSV {
				if limit = 20_000; c.JSON() {
					return term.Usage("--csv and --output json are two forms of the output; take one of them")
				}
			}
			query.Del("kind")
			var p api.RetentionPreview
			if len(c.Args) == 0 {
				query.Set("limit", strconv.Itoa(limit))
				p, err = c.Retention(ctx, query)
			} else {
				words, bad := readWords(c.Args[0], retaining)
				if bad != nil {
					return bad
				}
				p, err = c.TryRetention(ctx, query, api.TryRetention{Words: words, Limit: limit})
			}
			if err != nil {
				return err
			}
			if asCSV {
				return writeCSV(c, p)
			}
			return c.Tell(p, func() { drawRetention(c, p, len(c.Args) > 0) })
		},
	}
}

// writeCSV writes what goes, a thing a line.
func writeCSV(c *site.Call, p api.RetentionPreview) error {
	w := csv.NewWriter(c.T.Out)
	if err := w.Write([]string{"day", "date", "repository", "tag", "digest", "with_image", "size", "new", "why"}); err != nil {
		return err
	}
	for _, i := range p.Items {
		if err := w.Write([]string{
			strconv.Itoa(i.Day), p.Days[i.Day].At.UTC().Format(time.DateOnly), string(i.Repository), string(i.Tag), i.Digest.String(), strconv.FormatBool(i.WithImage),
			strconv.FormatInt(i.Size, 10), strconv.FormatBool(i.New), i.Why,
		}); err != nil {
			return err
		}
	}
	w.Flush()
	if p.More || p.Count > len(p.Items) {
		return errors.Join(w.Error(), fmt.Errorf("there is more than these %d lines; ask for a smaller place", len(p.Items)))
	}
	return w.Error()
}

// dayName says which day it is.
func dayName(d api.RetentionDay) string {
	if d.Day == 0 {
		return "now"
	}
	return d.At.Local().Format("Mon 2 Jan")
}

func drawRetention(c *site.Call, p api.RetentionPreview, draft bool) {
	if p.Reaches == 0 {
		c.T.Warn("The rules speak of no repository that is there now.")
	}
	if len(p.Items) > 0 {
		w := c.T.Table("When", "Repository", "Tag", "Image", "Size", "Why")
		w.Right("Size")
		for _, i := range p.Items {
			tag := "(no tag)"
			if i.Tag != "" {
				tag = string(i.Tag)
			}
			image := "stays"
			if i.WithImage {
				image = term.Short(i.Digest)
			}
			why := i.Why
			if draft && i.New {
				why = "new: " + why
			}
			w.Row(dayName(p.Days[i.Day]), i.Repository, tag, image, term.Size(i.Size), why)
		}
		w.Draw()
		if p.Count > len(p.Items) {
			c.T.Hint("%d more go; list them with --limit or --csv", p.Count-len(p.Items))
		}
		c.T.Say("")
	}
	days := c.T.Table("When", "Tags", "Images", "Free once restore windows are over")
	days.Right("Tags", "Images", "Free once restore windows are over")
	some := false
	for _, d := range p.Days {
		if d.Tags+d.Images > 0 || d.Day == 0 {
			days.Row(dayName(d), d.Tags, d.Images, term.Size(d.Bytes))
			some = some || d.Day > 0
		}
	}
	days.Draw()
	if !some {
		c.T.Say("Nothing else goes within 14 days.")
	}
	if len(p.Rules) > 0 {
		c.T.Say("")
		w := c.T.Table("Rule", "Of", "Says", "Lets go", "Keeps")
		w.Right("Rule", "Lets go", "Keeps")
		for _, r := range p.Rules {
			w.Row(r.Number, r.Of, r.Words, r.Goes, r.Keeps)
		}
		w.Draw()
	}
	c.T.Say("\nOf %s and %s in %s: no rule speaks of %d, %d stay that are sealed, %d that were touched just now.", term.Count(int64(p.Tags), "tag", "tags"),
		term.Count(int64(p.Images), "image", "images"), term.Count(int64(p.Repositories), "repository", "repositories"), p.Undecided, p.Sealed, p.InGrace)
	for _, w := range p.Waits {
		c.T.Warn("In %s the rules of %s would take %d of %d things, and wait once more, until about %s.", w.Repository, w.Of, w.Takes, w.OutOf, when(w.Until))
	}
	for _, name := range p.StaleInUse {
		c.T.Warn("Nobody refreshed the list %s of what is in use, or there is none: rules that keep by it keep all of their pattern.", name)
	}
	if draft && len(p.Spared) > 0 {
		c.T.Say("%s would stay that the rules as they are set let go: %s", term.Count(int64(len(p.Spared)), "tag", "tags"), firstOf(p.Spared))
	}
	if p.More {
		c.T.Warn("There is more than was looked at; ask for a smaller place.")
	}
	if p.NextRun != nil {
		c.T.Hint("Retention rules act next about %s.", when(*p.NextRun))
	}
}

// firstOf names the first few of things.
func firstOf(items []api.RetentionItem) string {
	const most = 5
	var said []string
	for _, i := range items[:min(most, len(items))] {
		said = append(said, fmt.Sprintf("%s:%s", i.Repository, i.Tag))
	}
	if len(items) > most {
		said = append(said, "…")
	}
	return strings.Join(said, ", ")
}

func explainRetention() site.Command {
	return site.Command{
		Name: "explain", Short: "Tell which rule decides of a tag or an image, and when it goes",
		Long:    "Tells which retention rule decides of a tag, or of an image without one by its digest, why each of the others does not, and when it goes. The tag\nneed not be there.",
		Example: "  warthesis retention explain localhost:7070/timetable/planner:1.4.0",
		On:      site.OnImage, Facts: api.RetentionExplanation{},
		Run: func(ctx context.Context, c *site.Call) error {
			var e api.RetentionExplanation
			query := url.Values{"repository": {string(c.Image.Name)}, "target": {c.Image.Target()}}
			if err := c.Do(ctx, http.MethodGet, "/api/v1/retention/explain", query, nil, &e); err != nil {
				return err
			}
			return c.Tell(e, func() {
				if !e.There {
					c.T.Say("There is no such tag; this is told of one that came just now.")
				}
				c.T.Say("%s: %s", c.Image, e.Says)
				drawAnswers(c, e.Answers, e.Hidden)
			})
		},
	}
}

func runRetention() site.Command {
	var detach bool
	return site.Command{
		Name: "run", Short: "Let retention rules act now", On: site.OnWhere, Facts: api.Run{}, Asks: true,
		Long:    "Lets the rules act now that act each night: what they let go is removed, and can be brought back until its restore window is over. What it takes is\ntold first by: retention preview.",
		Example: "  warthesis retention run localhost:7070/timetable",
		Flags:   func(f *pflag.FlagSet) { f.BoolVar(&detach, "no-wait", false, "do not wait for its end") },
		Run: func(ctx context.Context, c *site.Call) error {
			where := c.Place.String()
			if err := c.Confirm(ctx, fmt.Sprintf("Let the retention rules of %s act now? What goes can be brought back until its restore window is over.", where)); err != nil {
				return err
			}
			var asked api.Asked
			if err := c.Do(ctx, http.MethodPost, "/api/v1/retention/run", nil, api.AskRetention{Place: string(c.Place.Name)}, &asked); err != nil {
				return err
			}
			run := asked.Run
			if !detach {
				var err error
				if run, err = await(ctx, c, run); err != nil {
					return err
				}
			}
			if err := c.Tell(run, func() { drawRetentionRun(c, run) }); err != nil {
				return err
			}
			if run.State == "failed" {
				return errors.New(run.Error)
			}
			return nil
		},
	}
}

func drawRetentionRun(c *site.Call, run api.Run) {
	r := run.Retention
	if r == nil {
		c.T.Say("Run %d: %s", run.ID, run.State)
		return
	}
	if len(r.Rules) > 0 {
		w := c.T.Table("Rule", "Of", "Says", "Tags", "Images")
		w.Right("Rule", "Tags", "Images")
		for _, s := range r.Rules {
			w.Row(s.Number, s.Of, s.Words, s.Tags, s.Images)
		}
		w.Draw()
	}
	c.T.Say("Run %d: %s", run.ID, term.OrDash(run.Report))
	for _, w := range r.Waits {
		c.T.Warn("In %s the rules of %s would take %d of %d things, and wait once more.", w.Repository, w.Of, w.Takes, w.OutOf)
	}
	if r.Tags+r.Images > 0 {
		c.T.Hint("What went, and how to bring it back:  %s", c.Self("removal", "list", c.Place.String(), "--run", strconv.FormatInt(run.ID, 10)))
	}
}

func changeRetention() site.Command {
	at := where{kind: retaining.name}
	var reason string
	var atOnce bool
	return site.Command{
		Name: "change", Short: "Let a list that waits act at once", On: site.OnPlace, Facts: api.RuleList{}, Asks: true,
		Long:    "Ends the wait of a list, in all repositories where it waits. It acts with the next run.",
		Example: "  warthesis retention change localhost:7070/timetable --at-once --reason \"looked at the preview with the team\"",
		Flags: func(f *pflag.FlagSet) {
			at.addTo(f)
			f.BoolVar(&atOnce, "at-once", false, "let the list act with the next run, without waiting longer")
			f.StringVar(&reason, "reason", "", "why, for the audit log")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			query, is, err := at.query(c)
			if err != nil {
				return err
			}
			if !atOnce {
				return term.Usage("say what is to change: --at-once lets the list act without waiting longer; other rules are set by  %s", c.Self("retention", "set"))
			}
			if err := needsReason(reason); err != nil {
				return err
			}
			if err := c.Confirm(ctx, fmt.Sprintf("Let the retention rules of %s act at once? What they let go can be brought back until its restore window is over.", is)); err != nil {
				return err
			}
			if err := c.Do(ctx, http.MethodPost, "/api/v1/rules/act", query, api.ActRules{Reason: reason}, nil); err != nil {
				return err
			}
			list, err := c.Rules(ctx, query)
			if err != nil {
				return err
			}
			return c.Tell(list, func() {
				c.T.Say("The retention rules of %s wait no more", is)
				drawWaits(c, list)
			})
		},
	}
}
