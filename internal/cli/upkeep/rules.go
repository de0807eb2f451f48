package upkeep

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strings"

	"github.com/spf13/pflag"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/given"
	"warthesis/internal/oci"
	"warthesis/internal/rule"
)

func rulesCommands() site.Command {
	return site.Command{
		Name: "rules", Group: term.GroupNames, Short: "Say which tags are sealed, by rules",
		Long: "Rules stand in lists, as YAML: of a repository, of its namespace, and of the registry, asked in that order; the first rule that speaks of a tag\n" +
			"decides. A list with a name stands wherever another one says use: NAME.",
		Under: []site.Command{showRules(sealing), listRules(sealing), setRules(sealing), previewRules(), explainRules(), removeRules(sealing)},
	}
}

// ruleKind is what commands say of a kind of rules.
type ruleKind struct {
	// name is that of the kind, command the word of its commands.
	name, command string
	// first is a first rule, and what it does.
	first, does string
	// because is a reason to set it, gone what is so once a list is removed.
	because, gone string
}

var (
	sealing = ruleKind{
		"immutability", "rules", "- seal: \"*:<version>\"", "seal all versions there", "signal boxes run what is tagged", "What they seal can move from then on.",
	}
	retaining = ruleKind{
		"retention", "retention", "- drop: \"*:<commit>\"\n  older_than: 6w", "let builds of commits go after six weeks there", "builds of commits fill the disk",
		"What they let go stays from then on; what they keep goes where a wider list lets it.",
	}
)

// where says at which place, or under which name, a list of a kind stands.
type where struct{ kind, list string }

func (w *where) addTo(f *pflag.FlagSet) {
	f.StringVar(&w.list, "list", "", "the list of this name, which others use, instead of a place's")
}

func (w *where) query(c *site.Call) (url.Values, string, error) {
	if w.list == "" {
		if c.Place.Name == "" {
			return url.Values{"kind": {w.kind}}, "the registry " + c.Registry, nil
		}
		return url.Values{"kind": {w.kind}, "place": {string(c.Place.Name)}}, c.Place.String(), nil
	}
	if c.Place.Name != "" {
		return nil, "", term.Usage("--list has no effect here: a list with a name stands at no place; name the registry alone")
	}
	if err := rule.CheckListName(w.list); err != nil {
		return nil, "", term.Usage("--list: %w", err)
	}
	return url.Values{"kind": {w.kind}, "list": {w.list}}, "the list " + w.list, nil
}

func showRules(kind ruleKind) site.Command {
	at := where{kind: kind.name}
	return site.Command{
		Name: "show", Short: "Show the list of rules of a place, as it was set", Example: "  warthesis " + kind.command + " show localhost:7070/signals\n  warthesis " + kind.command + " show localhost:7070 --list signal-boxes",
		On: site.OnWhere, Facts: api.RuleList{}, Flags: at.addTo,
		Run: func(ctx context.Context, c *site.Call) error {
			query, is, err := at.query(c)
			if err != nil {
				return err
			}
			list, err := c.Rules(ctx, query)
			if err != nil {
				return err
			}
			return c.Tell(list, func() {
				if len(list.Rules) == 0 {
					c.T.Say("%s has no %s rules of its own", is, kind.name)
					drawWaits(c, list)
					c.T.Hint("To %s, put this into a file, and set it with  %s\n%s", kind.does, c.Self(kind.command, "set", term.OrDash(c.Place.String()), "FILE", "--reason", "…"), kind.first)
					return
				}
				c.T.Say("%s", strings.TrimRight(list.Words, "\n"))
				drawWaits(c, list)
				c.T.Hint("\nSet %s by %s: %s", term.When(list.ChangedAt), term.OrDash(list.ChangedBy), list.Reason)
				if at.list != "" {
					c.T.Hint("Used by: %s", term.OrDash(strings.Join(list.UsedBy, ", ")))
				}
			})
		},
	}
}

func listRules(kind ruleKind) site.Command {
	return site.Command{
		Name: "list", Short: "List the lists that have names, and where they are used", On: site.OnRegistry, Facts: []api.RuleList{},
		Run: func(ctx context.Context, c *site.Call) error {
			var lists api.RuleLists
			if err := c.Do(ctx, http.MethodGet, "/api/v1/rule-lists", url.Values{"kind": {kind.name}}, nil, &lists); err != nil {
				return err
			}
			return c.Tell(lists.Lists, func() {
				if len(lists.Lists) == 0 {
					c.T.Say("No list of %s rules of %s has a name", kind.name, c.Registry)
					return
				}
				w := c.T.Table("List", "Rules", "Set", "By", "Used by", "Why")
				w.Right("Rules")
				for _, l := range lists.Lists {
					w.Row(l.List, len(l.Rules), term.When(l.ChangedAt), term.OrDash(l.ChangedBy), term.OrDash(strings.Join(l.UsedBy, ", ")), l.Reason)
				}
				w.Draw()
			})
		},
	}
}

// readWords reads a list from a file, or with - from standard input.
func readWords(name string, kind ruleKind) (string, error) {
	if name != "-" {
		raw, err := given.Read(name, rule.MostListBytes)
		if errors.Is(err, os.ErrNotExist) {
			return "", term.Usage("there is no file %s; a list of rules is YAML, as in\n%s", name, kind.first)
		}
		return string(raw), err
	}
	raw, err := io.ReadAll(io.LimitReader(os.Stdin, rule.MostListBytes+1))
	if err == nil && len(raw) > rule.MostListBytes {
		err = term.Usage("standard input has more than the %d KiB that a list may have", rule.MostListBytes>>10)
	}
	return string(raw), err
}

func setRules(kind ruleKind) site.Command {
	at := where{kind: kind.name}
	var reason string
	return site.Command{
		Name: "set", Short: "Set the list of rules of a place, from a file", Args: []site.Arg{{Name: "FILE", File: true}},
		Long: "Sets the whole list of rules of a place, from a file or with - from standard input; it takes an owner, and a reason. It is checked whole\n" +
			"before it counts. What it would do is told by: " + kind.command + " preview.",
		Example: "  warthesis " + kind.command + " set localhost:7070/signals rules.yaml --reason \"" + kind.because + "\"",
		On:      site.OnPlace, Facts: api.RuleList{},
		Flags: func(f *pflag.FlagSet) {
			at.addTo(f)
			f.StringVar(&reason, "reason", "", "why, for the audit log")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			query, is, err := at.query(c)
			if err != nil {
				return err
			}
			if err := needsReason(reason); err != nil {
				return err
			}
			words, err := readWords(c.Args[0], kind)
			if err != nil {
				return err
			}
			if err := c.SetRules(ctx, query, api.SetRules{Words: words, Reason: reason}); err != nil {
				return err
			}
			list, err := c.Rules(ctx, query)
			if err != nil {
				return err
			}
			return c.Tell(list, func() {
				c.T.Say("Set %s of %s", term.Count(int64(len(list.Rules)), "rule", "rules"), is)
				drawWaits(c, list)
			})
		},
	}
}

func needsReason(reason string) error {
	if strings.TrimSpace(reason) == "" {
		return term.Usage("say why with --reason; it stands in the audit log")
	}
	return nil
}

func previewRules() site.Command {
	at := where{kind: sealing.name}
	return site.Command{
		Name: "preview", Short: "Tell what a list would do, before it is set", Args: []site.Arg{{Name: "FILE", File: true}},
		Long:    "Tells which tags a list would seal or free now, and which moves and removals of the last 30 days it would have refused. Nothing is changed.",
		Example: "  warthesis rules preview localhost:7070/timetable seals.yaml",
		On:      site.OnPlace, Facts: api.RulePreview{}, Flags: at.addTo,
		Run: func(ctx context.Context, c *site.Call) error {
			query, _, err := at.query(c)
			if err != nil {
				return err
			}
			words, err := readWords(c.Args[0], sealing)
			if err != nil {
				return err
			}
			p, err := c.TryRules(ctx, query, words)
			if err != nil {
				return err
			}
			return c.Tell(p, func() { drawPreview(c, p) })
		},
	}
}

func drawPreview(c *site.Call, p api.RulePreview) {
	if p.Reaches == 0 {
		c.T.Warn("The rules speak of no repository that is there now.")
	} else {
		c.T.Say("Its rules speak of %s.", term.Count(int64(p.Reaches), "repository", "repositories"))
	}
	c.T.Say("Of %s it would seal %d: %d that are not sealed now. It would free %d that are.", term.Count(int64(p.Tags), "tag", "tags"), p.Sealed, p.NewlySealed, p.Freed)
	c.T.Say("Of what was done to tags in the last 30 days it would have refused %d.", p.Refused)
	if p.More {
		c.T.Warn("There is more than was looked at; preview the list at a smaller place.")
	}
	if len(p.Seals)+len(p.Frees) > 0 {
		c.T.Say("")
		w := c.T.Table("Now", "Repository", "Tag", "Why")
		for _, s := range p.Seals {
			w.Row("would be sealed", s.Repository, s.Tag, s.Why)
		}
		for _, s := range p.Frees {
			w.Row("would be free", s.Repository, s.Tag, "now "+s.Why)
		}
		w.Draw()
	}
	if len(p.Refusals) > 0 {
		c.T.Say("")
		w := c.T.Table("When", "Would have been refused", "By", "Why")
		for _, r := range p.Refusals {
			w.Row(term.When(&r.At), fmt.Sprintf("to %s %s:%s", r.Act, r.Repository, r.Tag), term.OrDash(r.By), r.Why)
		}
		w.Draw()
	}
}

func explainRules() site.Command {
	return site.Command{
		Name: "explain", Short: "Tell which rule decides of a tag, and why the others do not",
		Long:    "Tells which rule decides whether a tag is sealed, and why each of the others does not. The tag need not be there.",
		Example: "  warthesis rules explain localhost:7070/signals/relay:2.0.1",
		On:      site.OnImage, Facts: api.RuleExplanation{},
		Run: func(ctx context.Context, c *site.Call) error {
			if c.Image.Tag == "" {
				return term.Usage("%s names no tag, and rules speak of tags", c.Image)
			}
			e, err := c.ExplainRules(ctx, c.Place.Name, c.Image.Tag)
			if err != nil {
				return err
			}
			return c.Tell(e, func() { drawExplanation(c, e) })
		},
	}
}

func drawExplanation(c *site.Call, e api.RuleExplanation) {
	switch {
	case e.Seal != nil:
		c.T.Say("%s is sealed and stays at %s: %s", c.Image, e.Digest, e.Seal.Why)
	case e.There:
		c.T.Say("%s is not sealed: it may be moved, renamed and removed", c.Image)
	default:
		c.T.Say("There is no tag %s; one can be made. What rules say of one that was made just now:", c.Image)
	}
	drawAnswers(c, e.Answers, e.Hidden)
}

// drawAnswers draws rules as they were asked.
func drawAnswers(c *site.Call, answers []api.RuleAnswer, hidden int) {
	if len(answers) > 0 {
		c.T.Say("")
		w := c.T.Table("Rule", "Of", "Says", "")
		w.Right("Rule")
		for _, a := range answers {
			why := a.WhyNot
			if a.Decides {
				why = "decides"
				if a.Because != "" {
					why += " (" + a.Because + ")"
				}
			}
			w.Row(a.Number, a.Of, a.Words, why)
		}
		w.Draw()
	}
	if hidden > 0 {
		c.T.Hint("%s of lists that you may not see do not decide.", term.Count(int64(hidden), "more rule", "more rules"))
	}
}

func removeRules(kind ruleKind) site.Command {
	at := where{kind: kind.name}
	var reason string
	return site.Command{
		Name: "remove", Short: "Remove the list of rules of a place", On: site.OnPlace, Facts: api.RuleList{}, Asks: true,
		Flags: func(f *pflag.FlagSet) {
			at.addTo(f)
			f.StringVar(&reason, "reason", "", "why, for the audit log")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			query, is, err := at.query(c)
			if err != nil {
				return err
			}
			if err := needsReason(reason); err != nil {
				return err
			}
			was, err := c.Rules(ctx, query)
			if err != nil {
				return err
			}
			if len(was.Rules) == 0 {
				return oci.Errorf(oci.CodeNameUnknown, "%s has no %s rules of its own", is, kind.name)
			}
			if err := c.Confirm(ctx, fmt.Sprintf("Remove the %s of %s? %s Set them again to get them back.", term.Count(int64(len(was.Rules)), "rule", "rules"), is, kind.gone)); err != nil {
				return err
			}
			query.Set("reason", reason)
			if err := c.Do(ctx, http.MethodDelete, "/api/v1/rules", query, nil, nil); err != nil {
				return err
			}
			return c.Tell(was, func() { c.T.Say("Removed the rules of %s", is) })
		},
	}
}
