package flow

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/spf13/pflag"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/given"
	"warthesis/internal/rule"
)

func replicationCommands() site.Command {
	return site.Command{
		Name: "replication", Group: term.GroupFlow, Short: "Say what is copied to peers and from them, and see how far behind they are",
		Long: "A replication rule copies what its patterns mean to a peer, or from one: as it is pushed, at times, or by hand. What is there already is not sent again,\n" +
			"and no tag is overwritten that somebody else moved at the other side: that is a conflict, and is told.",
		Under: []site.Command{makeReplication(), showReplication(), listReplications(), changeReplication(), setReplications(), runReplication(), pauseReplication(), driftReplication(), removeReplication()},
	}
}

const replicationsPath = "/api/v1/replications"

var ruleArg = site.Arg{Name: "RULE", Ask: ruleNames}

// ruleNames completes the name of a rule.
func ruleNames(ctx context.Context, at site.Site) ([]string, error) {
	var list api.ReplicationList
	err := at.Do(ctx, http.MethodGet, replicationsPath, nil, nil, &list)
	names := make([]string, len(list.Replications))
	for i, r := range list.Replications {
		names[i] = r.Name
	}
	return names, err
}

func rulePath(name string, more ...string) string {
	return replicationsPath + "/" + strings.Join(append([]string{url.PathEscape(name)}, more...), "/")
}

// saidRule is what the flags say of a rule.
type saidRule struct {
	rule        api.ReplicationRule
	noReferrers bool
}

func (s *saidRule) addTo(f *pflag.FlagSet) {
	term.Texts(f, &s.rule.Copy, "copy", "pattern of what is copied, by the names where it comes from, as in \"signals/*:<version>\"; may be given several times")
	term.Texts(f, &s.rule.Except, "except", "pattern of what is not copied; may be given several times")
	f.StringVar(&s.rule.To, "to", "", "the peer to which it is copied")
	f.StringVar(&s.rule.From, "from", "", "the peer from which it is copied")
	f.StringVar(&s.rule.As, "as", "", "how it is called on the other side, with {namespace}, {repository} and {tag}, as in copies/{repository}:hq-{tag}")
	f.StringVar(&s.rule.When, "when", "", "pushed, \"by hand\", an interval such as 6h, or a cron expression in UTC")
	f.StringVar(&s.rule.Hours, "hours", "", "part of the day in which it is copied, in UTC, as in 22:00-05:00; \"\" for all of it")
	f.StringVar(&s.rule.Rate, "rate", "", "how much is copied in a second at most, as in 4MiB; \"\" for as much as goes")
	term.Texts(f, &s.rule.ArtifactTypes, "artifact-type", "copy only this artifact type, image for container images; may be given several times")
	f.BoolVar(&s.noReferrers, "no-referrers", false, "leave signatures and all else that refers to an image where it is")
	term.Choice(f, &s.rule.Removals, "removals", "", "what happens on the other side to what is removed", rule.KeepRemoved, rule.TakeRemoved)
	term.Choice(f, &s.rule.Conflicts, "conflicts", "", "what happens where both sides moved a tag", rule.ReportConflicts, rule.Ours, rule.Theirs)
	f.StringVar(&s.rule.Because, "because", "", "why there is the rule")
}

// over lays what the flags say over what a rule said.
func (s *saidRule) over(c *site.Call, was api.ReplicationRule) api.ReplicationRule {
	for flag, of := range map[string]struct{ from, to *[]string }{
		"copy": {&s.rule.Copy, &was.Copy}, "except": {&s.rule.Except, &was.Except}, "artifact-type": {&s.rule.ArtifactTypes, &was.ArtifactTypes},
	} {
		if c.Given(flag) {
			*of.to = *of.from
		}
	}
	for flag, of := range map[string]struct{ from, to *string }{
		"to": {&s.rule.To, &was.To}, "from": {&s.rule.From, &was.From}, "as": {&s.rule.As, &was.As}, "when": {&s.rule.When, &was.When}, "hours": {&s.rule.Hours, &was.Hours},
		"rate": {&s.rule.Rate, &was.Rate}, "removals": {&s.rule.Removals, &was.Removals}, "conflicts": {&s.rule.Conflicts, &was.Conflicts}, "because": {&s.rule.Because, &was.Because},
	} {
		if c.Given(flag) {
			*of.to = *of.from
		}
	}
	// A rule has one peer: the other way round is said by naming it.
	if c.Given("to") && !c.Given("from") {
		was.From = ""
	}
	if c.Given("from") && !c.Given("to") {
		was.To = ""
	}
	if c.Given("no-referrers") {
		with := !s.noReferrers
		was.Referrers = &with
	}
	return was
}

func makeReplication() site.Command {
	var s saidRule
	return site.Command{
		Name: "make", Short: "Make a replication rule", On: site.OnRegistry, Args: []site.Arg{{Name: "RULE"}}, Facts: api.Replication{},
		Long: "Makes a rule that copies to a peer or from one. To a peer it copies as things are pushed, unless --when says otherwise; what is there already is copied\n" +
			"first. From a peer it copies at intervals, or by hand.",
		Example: "  warthesis replication make localhost:7070 depot --copy \"signals/*:<version>\" --copy \"base/*\" --to tarn --rate 4MiB\n" +
			"  warthesis replication make localhost:7070 nightly --copy tickets/printer --from partner --as outside/{repository} --when \"30 3 * * *\"",
		Flags: s.addTo,
		Run: func(ctx context.Context, c *site.Call) error {
			body := s.over(c, api.ReplicationRule{Name: c.Args[0]})
			if len(body.Copy) == 0 || (body.To == "") == (body.From == "") {
				return term.Usage("say what is copied with --copy, and where with --to PEER or --from PEER")
			}
			var made api.Replication
			if err := c.Do(ctx, http.MethodPost, replicationsPath, nil, body, &made); err != nil {
				return err
			}
			return c.Tell(made, func() {
				drawReplication(c, made)
				c.T.Hint("\nTo see how far it is:  %s", c.Self("replication", "show", c.Registry, made.Name))
			})
		},
	}
}

func changeReplication() site.Command {
	var s saidRule
	return site.Command{
		Name: "change", Short: "Change what a replication rule says", On: site.OnRegistry, Args: []site.Arg{ruleArg}, Facts: api.Replication{}, Flags: s.addTo,
		Long:    "Changes what is given and leaves the rest. What the rule means from then on is compared with the other side.",
		Example: "  warthesis replication change localhost:7070 depot --hours 22:00-05:00 --rate 1MiB",
		Run: func(ctx context.Context, c *site.Call) error {
			var was, now api.Replication
			if err := c.Do(ctx, http.MethodGet, rulePath(c.Args[0]), nil, nil, &was); err != nil {
				return err
			}
			body := api.ChangeReplication{ReplicationRule: s.over(c, was.ReplicationRule), Version: was.Version}
			if err := c.Do(ctx, http.MethodPut, rulePath(c.Args[0]), nil, body, &now); err != nil {
				return err
			}
			return c.Tell(now, func() { drawReplication(c, now) })
		},
	}
}

func listReplications() site.Command {
	var asYAML bool
	return site.Command{
		Name: "list", Short: "List replication rules, and how far behind they are", On: site.OnRegistry, Facts: []api.Replication{},
		Flags: func(f *pflag.FlagSet) {
			f.BoolVar(&asYAML, "yaml", false, "print the rules as YAML, as replication set reads them")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			if asYAML {
				var doc api.ReplicationDocument
				if err := c.Do(ctx, http.MethodGet, "/api/v1/replication-rules", nil, nil, &doc); err != nil {
					return err
				}
				return c.Tell(doc, func() { c.T.Say("%s", strings.TrimSuffix(doc.Text, "\n")) })
			}
			var list api.ReplicationList
			if err := c.Do(ctx, http.MethodGet, replicationsPath, nil, nil, &list); err != nil {
				return err
			}
			return c.Tell(list.Replications, func() {
				if len(list.Replications) == 0 {
					c.T.Say("%s has no replication rules", c.Registry)
					c.T.Hint("To make one:  %s", c.Self("replication", "make", c.Registry, "depot", "--copy", "signals/*", "--to", "PEER"))
					return
				}
				w := c.T.Table("Rule", "Copies", "Where", "State", "Lag", "Due", "Left", "Conflicts", "Copies made")
				w.Right("Lag", "Due", "Left", "Conflicts", "Copies made")
				for _, r := range list.Replications {
					w.Row(r.Name, strings.Join(r.Copy, ", "), whereOf(r.ReplicationRule), r.State, lagOf(r), r.Due+r.Places, leftOf(r), r.Conflicting, r.Copies)
				}
				w.Draw()
			})
		},
	}
}

func whereOf(r api.ReplicationRule) string {
	if r.To != "" {
		return "to " + r.To
	}
	return "from " + r.From
}

// replicationFacts is what show prints for scripts.
type replicationFacts struct {
	Replication api.Replication `json:"replication"`
	Items       []api.DueItem   `json:"items"`
}

func showReplication() site.Command {
	limit := 20
	return site.Command{
		Name: "show", Short: "Show a replication rule, how far it is, and why not further", On: site.OnRegistry, Args: []site.Arg{ruleArg}, Facts: replicationFacts{},
		Flags: func(f *pflag.FlagSet) {
			term.Number(f, &limit, "limit", limit, 0, 1000, "how much of what is due, in conflict or waiting is listed at most")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			facts := replicationFacts{Items: []api.DueItem{}}
			if err := c.Do(ctx, http.MethodGet, rulePath(c.Args[0]), nil, nil, &facts.Replication); err != nil {
				return err
			}
			var due api.DueList
			if limit > 0 {
				if err := c.Do(ctx, http.MethodGet, rulePath(c.Args[0], "due"), url.Values{"limit": {fmt.Sprint(limit)}}, nil, &due); err != nil {
					return err
				}
				facts.Items = due.Items
			}
			return c.Tell(facts, func() {
				drawReplication(c, facts.Replication)
				drawDue(c, facts.Replication.Name, due)
			})
		},
	}
}

func setReplications() site.Command {
	var only bool
	return site.Command{
		Name: "set", Short: "Make the rules of a YAML file those that there are", On: site.OnRegistry, Args: []site.Arg{{Name: "FILE"}}, Facts: api.ReplicationsSet{}, Asks: true,
		Long: "Reads replication rules from a file (- for standard input), as replication list --yaml prints them: what is not there yet is made, what says something\n" +
			"else is changed, and what the file has not is removed. What was copied stays.",
		Example: "  warthesis replication list localhost:7070 --yaml > replication.yaml\n  warthesis replication set localhost:7070 replication.yaml --try",
		Flags:   func(f *pflag.FlagSet) { f.BoolVar(&only, "try", false, "only tell what would change") },
		Run: func(ctx context.Context, c *site.Call) error {
			raw, err := given.Read(c.Args[0], rule.MostListBytes)
			if err != nil {
				return err
			}
			set := func(try bool) (set api.ReplicationsSet, err error) {
				return set, c.Do(ctx, http.MethodPut, "/api/v1/replication-rules", nil, api.SetReplications{ReplicationDocument: api.ReplicationDocument{Text: string(raw)}, Try: try}, &set)
			}
			found, err := set(true)
			if err != nil {
				return err
			}
			if !only {
				if len(found.Removed) > 0 {
					if err := c.Confirm(ctx, fmt.Sprintf("Remove the replication rules %s? What they copied stays; setting them again compares it.", strings.Join(found.Removed, ", "))); err != nil {
						return err
					}
				}
				if found, err = set(false); err != nil {
					return err
				}
			}
			return c.Tell(found, func() {
				would := ""
				if only {
					would = "would be "
				}
				for _, part := range []struct {
					word  string
					names []string
				}{{"made", found.Made}, {"changed", found.Changed}, {"removed", found.Removed}, {"left as they are", found.Same}} {
					if len(part.names) > 0 {
						c.T.Say("%s%s: %s", would, part.word, strings.Join(part.names, ", "))
					}
				}
			})
		},
	}
}

func removeReplication() site.Command {
	return site.Command{
		Name: "remove", Short: "Remove a replication rule; what it copied stays", On: site.OnRegistry, Args: []site.Arg{ruleArg}, Facts: api.Replication{}, Asks: true,
		Run: func(ctx context.Context, c *site.Call) error {
			var r api.Replication
			if err := c.Do(ctx, http.MethodGet, rulePath(c.Args[0]), nil, nil, &r); err != nil {
				return err
			}
			if err := c.Confirm(ctx, fmt.Sprintf("Remove the replication rule %s? What it copied stays on both sides. To get it back, make it again: both sides are compared then.", r.Name)); err != nil {
				return err
			}
			if err := c.Do(ctx, http.MethodDelete, rulePath(c.Args[0]), nil, nil, nil); err != nil {
				return err
			}
			return c.Tell(r, func() { c.T.Say("The replication rule %s is removed", r.Name) })
		},
	}
}
