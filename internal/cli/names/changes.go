package names

import (
	"strings"

	"github.com/spf13/pflag"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/rule"
)

// readLabels reads name=value.
func readLabels(given []string) (*api.Labels, error) {
	labels := api.Labels{}
	for _, one := range given {
		name, value, found := strings.Cut(one, "=")
		if one == "" {
			continue
		}
		if !found || name == "" {
			return nil, term.Usage("%q is no label; write name=value", one)
		}
		labels[name] = value
	}
	return &labels, nil
}

// changes are the flags by which places are made and changed, named as the API names
// what they change.
type changes struct {
	description    string
	labels         []string
	open           bool
	visibility     string
	pushMakes      string
	newDescription string
	newLabels      []string
	logPulls       bool
	window         rule.Span
}

func (ch *changes) addTo(f *pflag.FlagSet, namespace bool) {
	f.StringVar(&ch.description, "description", "", "what is in it")
	term.Texts(f, &ch.labels, "label", "a label, name=value; the labels given replace those there were; an empty one takes all away")
	if !namespace {
		term.Choice(f, &ch.visibility, "visibility", "inherited", "who may pull: anybody (open), members (closed), or whoever may in the namespace (inherited)", "open", "closed", "inherited")
		return
	}
	f.BoolVar(&ch.open, "open", false, "whether anybody may pull, and not members alone")
	term.Choice(f, &ch.pushMakes, "push-makes", "writer", "whose pushes make repositories, at the least", "writer", "curator", "owner", "nobody")
	f.StringVar(&ch.newDescription, "new-description", "", "description of repositories that a push makes")
	term.Texts(f, &ch.newLabels, "new-label", "label of repositories that a push makes, name=value")
	term.Span(f, &ch.window, "restore-window", "for how long removals can be undone, as in 14d; at most as long as the registry has it")
	f.BoolVar(&ch.logPulls, "log-pulls", false, "whether each pull is written into the audit log")
}

// read returns what the flags that were given change, and whether any was.
func (ch *changes) read(c *site.Call) (p api.PlaceChange, any bool, err error) {
	given := func(name string) bool {
		is := c.Given(name)
		any = any || is
		return is
	}
	if given("description") {
		p.Description = &ch.description
	}
	if given("label") {
		if p.Labels, err = readLabels(ch.labels); err != nil {
			return p, any, err
		}
	}
	if given("visibility") {
		p.Visibility = &ch.visibility
	}
	if given("open") {
		p.Open = &ch.open
	}
	if given("push-makes") {
		p.PushMakes = &ch.pushMakes
	}
	if given("new-description") {
		p.NewDescription = &ch.newDescription
	}
	if given("new-label") {
		if p.NewLabels, err = readLabels(ch.newLabels); err != nil {
			return p, any, err
		}
	}
	if given("log-pulls") {
		p.LogPulls = &ch.logPulls
	}
	if given("restore-window") {
		window := ch.window.String()
		p.RestoreWindow = &window
	}
	return p, any, nil
}
