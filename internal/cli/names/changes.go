package names

import (
	"strings"

	"github.com/spf13/cobra"

	"warthesis/internal/api"
	"warthesis/internal/cli/term"
)

// readLabels reads name=value.
func readLabels(given []string) (*api.Labels, error) {
	if given == nil {
		return nil, nil
	}
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

// changes are the flags by which places are made and changed.
type changes struct {
	description    string
	labels         []string
	open, closed   bool
	inherited      bool
	pushMakes      string
	newDescription string
	newLabels      []string
	logPulls       bool
}

func (ch *changes) addTo(c *cobra.Command, namespace bool) {
	f := c.Flags()
	f.StringVar(&ch.description, "description", "", "what is in it")
	f.StringArrayVar(&ch.labels, "label", nil, "a label, name=value; the labels given replace those there were")
	f.BoolVar(&ch.open, "open", false, "let anybody pull")
	f.BoolVar(&ch.closed, "closed", false, "let only members pull")
	if !namespace {
		f.BoolVar(&ch.inherited, "as-namespace", false, "open or closed as the namespace is")
		c.MarkFlagsMutuallyExclusive("open", "closed", "as-namespace")
		return
	}
	c.MarkFlagsMutuallyExclusive("open", "closed")
	f.StringVar(&ch.pushMakes, "push-makes", "", "whose pushes make repositories: those of a writer, curator, owner, or nobody")
	f.StringVar(&ch.newDescription, "new-description", "", "description of repositories that a push makes")
	f.StringArrayVar(&ch.newLabels, "new-label", nil, "label of repositories that a push makes")
	f.BoolVar(&ch.logPulls, "log-pulls", false, "write each pull into the audit log")
}

// read returns what the flags that were given change.
func (ch *changes) read(c *cobra.Command, namespace bool) (api.PlaceChange, error) {
	var p api.PlaceChange
	given := func(name string) bool { return c.Flags().Changed(name) }
	var err error
	if given("label") {
		if p.Labels, err = readLabels(ch.labels); err != nil {
			return p, err
		}
	}
	if given("description") {
		p.Description = &ch.description
	}
	if !namespace {
		for flag, visibility := range map[string]string{"open": "open", "closed": "closed", "as-namespace": "inherited"} {
			if given(flag) {
				p.Visibility = &visibility
			}
		}
		return p, nil
	}
	if given("open") || given("closed") {
		open := ch.open && !ch.closed
		p.Open = &open
	}
	if given("push-makes") {
		p.PushMakes = &ch.pushMakes
	}
	if given("new-description") {
		p.NewDescription = &ch.newDescription
	}
	if given("new-label") {
		if p.NewLabels, err = readLabels(ch.newLabels); err != nil {
			return p, err
		}
	}
	if given("log-pulls") {
		p.LogPulls = &ch.logPulls
	}
	return p, nil
}
