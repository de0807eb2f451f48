package flow

import (
	"fmt"
	"strings"
	"time"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/oci"
)

// lagOf says how old the oldest thing due is.
func lagOf(r api.Replication) string {
	if r.Lag == 0 && r.Due+r.Places == 0 {
		return "-"
	}
	return spanOf(r.Lag)
}

// spanOf writes seconds as people say them.
func spanOf(seconds int64) string {
	switch d := time.Duration(seconds) * time.Second; {
	case d < 2*time.Minute:
		return fmt.Sprintf("%d s", seconds)
	case d < 2*time.Hour:
		return fmt.Sprintf("%d min", seconds/60)
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", seconds/3600)
	}
	return fmt.Sprintf("%d days", seconds/86400)
}

func leftOf(r api.Replication) string {
	if r.BytesLeft == 0 {
		return "-"
	}
	return term.Size(r.BytesLeft)
}

func drawReplication(c *site.Call, r api.Replication) {
	row := func(name, value string) {
		if value != "" {
			c.T.Say("%-14s %s", name, term.OneLine(value))
		}
	}
	row("Rule", r.Name)
	row("Because", r.Because)
	row("Copies", strings.Join(r.Copy, ", ")+" "+whereOf(r.ReplicationRule))
	row("Except", strings.Join(r.Except, ", "))
	row("Only", strings.Join(r.ArtifactTypes, ", "))
	row("As", r.As)
	row("When", strings.Join(nonEmpty(r.When, r.Hours, rateOf(r.Rate)), ", "))
	row("Removals", r.Removals)
	row("Conflicts", r.Conflicts)
	if r.Referrers != nil && !*r.Referrers {
		row("Referrers", "stay where they are")
	}
	row("State", stateOf(r))
	row("Lag", lagOf(r))
	row("Due", dueOf(r))
	if r.BytesLeft > 0 {
		left := "at most " + term.Size(r.BytesLeft)
		if r.BytesRate > 0 {
			left += ", at " + term.Size(r.BytesRate) + "/s"
		}
		if r.SecondsLeft != nil {
			left += ", about " + spanOf(*r.SecondsLeft)
		}
		row("Left", left)
	}
	row("Copies made", fmt.Sprint(r.Copies))
	if r.NextIn != nil {
		row("Next", "in "+spanOf(*r.NextIn))
	}
	for _, g := range r.Going {
		row("Going", fmt.Sprintf("%s → %s, %s of %s", nameOf(string(g.Repository), string(g.Tag), g.Digest.String()), g.Target, term.Size(g.Moved), term.Size(g.Bytes)))
	}
	if r.Error != "" {
		again := ""
		if r.AgainIn != nil {
			again = fmt.Sprintf(" (tried again in %s)", spanOf(*r.AgainIn))
		}
		c.T.Warn("%s%s", term.OneLine(r.Error), again)
		c.T.Hint("To try at once:  %s", c.Self("replication", "run", c.Registry, r.Name))
	}
}

func rateOf(rate string) string {
	if rate == "" {
		return ""
	}
	return "at most " + rate + " a second"
}

func nonEmpty(all ...string) (kept []string) {
	for _, s := range all {
		if s != "" {
			kept = append(kept, s)
		}
	}
	return kept
}

var stateWords = map[string]string{
	"well": "both sides have the same", "going": "is copying", "behind": "is behind", "conflicts": "both sides moved a tag", "asks": "removals wait for a word",
	"failing": "something does not travel", "closed": "waits for its hours", "paused": "is paused",
}

func stateOf(r api.Replication) string {
	if r.State == "failing" && r.AgainIn != nil {
		return "the peer does not answer as it should"
	}
	return stateWords[r.State]
}

func dueOf(r api.Replication) string {
	parts := []string{term.Count(r.Due, "tag or digest", "tags and digests")}
	say := func(n int64, words string) {
		if n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, words))
		}
	}
	say(r.Places, "places to be compared")
	say(r.Conflicting, "in conflict")
	say(r.Waits, "removals that can be undone yet")
	say(r.Asks, "removals that wait for a word")
	return strings.Join(parts, ", ")
}

func nameOf(repository, tag, digest string) string {
	switch {
	case tag != "":
		return repository + ":" + tag
	case digest != "":
		return repository + "@" + digest
	}
	return term.OrDash(repository)
}

func drawDue(c *site.Call, name string, due api.DueList) {
	if len(due.Items) == 0 {
		return
	}
	w := c.T.Table("What", "State", "Since", "Here", "There", "Why not")
	conflict := ""
	for _, d := range due.Items {
		what := nameOf(string(d.Repository), string(d.Tag), d.Digest.String())
		if d.Repository == "" {
			what = "all of it"
		}
		if d.State == "conflict" {
			conflict = what
		}
		w.Row(what, d.State, term.When(d.Since), shortOf(d.Here), shortOf(d.There), term.OrDash(term.OneLine(d.Error)))
	}
	w.Draw()
	if due.Next != 0 {
		c.T.Hint("There is more; --limit shows it.")
	}
	if conflict != "" {
		c.T.Hint("To let the other side get what the rule copies:  %s", c.Self("replication", "run", c.Registry, name, "--settle", conflict))
	}
}

// shortOf is a digest for people, a dash for none.
func shortOf(d oci.Digest) string {
	if d == "" {
		return "-"
	}
	return term.Short(d)
}
