package rule

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// MostReplications is how many rules one document has.
const MostReplications = 200

var replicationKind = Kind[TagFacts]{Name: "replication", Example: "name: depot\n  copy: \"signals/*:<version>\"\n  to: depot"}

// ReadReplications reads replication rules from YAML, each with its name; the error is a
// *Fault.
func ReadReplications(raw []byte) ([]Replication, error) {
	items, err := replicationKind.sequence(raw)
	if err != nil {
		return nil, err
	}
	if len(items) > MostReplications {
		return nil, &Fault{Message: fmt.Sprintf("a document has at most %d rules, and this one %d", MostReplications, len(items))}
	}
	var all []Replication
	for i, item := range items {
		fault := func(err error) error {
			var f *Fault
			if !errors.As(err, &f) {
				f = &Fault{Line: lineOf(item), Message: err.Error()}
			}
			f.Rule = i + 1
			return f
		}
		pairs, err := pairsOf(item)
		if err != nil {
			return nil, fault(err)
		}
		var text ReplicationText
		seen := map[string]bool{}
		for _, pair := range pairs {
			key, v, err := entry(pair)
			if err == nil && seen[key] {
				err = v.fault("%s stands there twice", key)
			}
			if err == nil {
				err = text.take(key, v)
			}
			if err != nil {
				return nil, fault(err)
			}
			seen[key] = true
		}
		r, err := ReadReplication(text)
		if err == nil && r.Name == "" {
			err = errors.New("give the rule a name")
		}
		if err == nil && slices.ContainsFunc(all, func(other Replication) bool { return other.Name == r.Name }) {
			err = fmt.Errorf("there are two rules of the name %s", r.Name)
		}
		if err != nil {
			return nil, fault(err)
		}
		all = append(all, r)
	}
	return all, nil
}

// take puts one key of a rule where it belongs.
func (t *ReplicationText) take(key string, v Value) (err error) {
	many := map[string]*[]string{"copy": &t.Copy, "except": &t.Except, "artifact_types": &t.ArtifactTypes}
	if to, is := many[key]; is {
		*to, err = v.All()
		return err
	}
	if key == "referrers" {
		is, err := v.Truth()
		t.Referrers = &is
		return err
	}
	one := map[string]*string{
		"name": &t.Name, "to": &t.To, "from": &t.From, "as": &t.As, "when": &t.When, "hours": &t.Hours, "rate": &t.Rate,
		"removals": &t.Removals, "conflicts": &t.Conflicts, "because": &t.Because,
	}
	to, is := one[key]
	if !is {
		return v.fault("%q is nothing that replication rules know; possible are name, copy, except, to, from, as, when, hours, rate, referrers, artifact_types, removals, conflicts and because", key)
	}
	if *to, err = v.one(); err != nil {
		return v.fault("%s: %s", key, err)
	}
	return nil
}

// YAML writes rules as ReadReplications reads them.
func YAML(all []ReplicationText) string {
	var b strings.Builder
	b.WriteString("replication:\n")
	for _, t := range all {
		first := true
		line := func(key, value string) {
			dash := "    "
			if first {
				dash, first = "  - ", false
			}
			fmt.Fprintf(&b, "%s%s: %s\n", dash, key, value)
		}
		text := func(key, value string) {
			if value != "" {
				line(key, quoted(value))
			}
		}
		list := func(key string, values []string) {
			if len(values) == 0 {
				return
			}
			words := make([]string, len(values))
			for i, v := range values {
				words[i] = quoted(v)
			}
			line(key, "["+strings.Join(words, ", ")+"]")
		}
		text("name", t.Name)
		list("copy", t.Copy)
		list("except", t.Except)
		text("to", t.To)
		text("from", t.From)
		text("as", t.As)
		text("when", t.When)
		text("hours", t.Hours)
		text("rate", t.Rate)
		list("artifact_types", t.ArtifactTypes)
		if t.Referrers != nil {
			line("referrers", fmt.Sprint(*t.Referrers))
		}
		text("removals", t.Removals)
		text("conflicts", t.Conflicts)
		text("because", t.Because)
	}
	return b.String()
}

// quoted writes a text as YAML, in quotes where it is more than a plain word.
func quoted(s string) string {
	if strings.ContainsFunc(s, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r == '-' || r == '_' || r == '/')
	}) || strings.HasPrefix(s, "-") || s == "true" || s == "false" || s == "null" {
		return fmt.Sprintf("%q", s)
	}
	return s
}
