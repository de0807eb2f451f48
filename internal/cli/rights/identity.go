package rights

import (
	"fmt"
	"net/url"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
)

func addIdentityRules(root *cobra.Command, t term.Terminal, r *site.Remote) {
	parent := &cobra.Command{Use: "identity", GroupID: term.GroupRights, Short: "Let build machines log in by an identity of their own, without a stored secret"}
	var rule api.IdentityRule
	makes := &cobra.Command{
		Use: "make REGISTRY NAME", Short: "Make an identity rule: who comes with such an identity is that machine account", Args: cobra.ExactArgs(2),
		Example: "  warthesis identity make localhost:7070 seatmap --issuer https://builds.larkspur.example --audience warthesis --subject 'project:berths/seatmap:*' --account ci-berths",
		RunE: r.At(func(c *cobra.Command, at site.Site, rest []string) error {
			rule.Name = rest[0]
			if err := at.Do(c.Context(), "POST", "/api/v1/identity-rules", nil, rule, nil); err != nil {
				return err
			}
			fmt.Fprintf(t.Out, "Made the identity rule %s. The build machine logs in with:  warthesis login %s --identity FILE\n", rule.Name, at.Registry)
			return nil
		}),
	}
	f := makes.Flags()
	f.StringVar(&rule.Issuer, "issuer", "", "address of the issuer that signs the identities")
	f.StringVar(&rule.Audience, "audience", "", "for whom the identities are made out")
	f.StringVar(&rule.Subject, "subject", "", "pattern of the subject, where * stands for any text")
	f.StringVar(&rule.Account, "account", "", "the machine account")
	list := &cobra.Command{
		Use: "list [REGISTRY]", Short: "List identity rules", Args: cobra.MaximumNArgs(1),
		RunE: r.At(func(c *cobra.Command, at site.Site, rest []string) error {
			var all api.IdentityRuleList
			if err := at.Do(c.Context(), "GET", "/api/v1/identity-rules", nil, nil, &all); err != nil {
				return err
			}
			w := term.NewTable(t, "Rule", "Issuer", "Audience", "Subject", "Is")
			for _, one := range all.Rules {
				w.AppendRow(table.Row{one.Name, one.Issuer, one.Audience, one.Subject, one.Account})
			}
			w.Render()
			return nil
		}),
	}
	remove := &cobra.Command{
		Use: "remove REGISTRY NAME", Short: "Remove an identity rule; what was got by it stops at once", Args: cobra.ExactArgs(2),
		RunE: r.At(func(c *cobra.Command, at site.Site, rest []string) error {
			if err := at.Do(c.Context(), "DELETE", "/api/v1/identity-rules/"+url.PathEscape(rest[0]), nil, nil, nil); err != nil {
				return err
			}
			fmt.Fprintf(t.Out, "Removed the identity rule %s\n", rest[0])
			return nil
		}),
	}
	parent.AddCommand(makes, list, remove)
	root.AddCommand(parent)
}
