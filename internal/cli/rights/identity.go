package rights

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"github.com/spf13/pflag"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/oci"
)

const identityPath = "/api/v1/identity-rules"

func identityCommands() site.Command {
	return site.Command{
		Name: "identity", Group: term.GroupRights, Short: "Let build machines log in by an identity of their own, without a stored secret",
		Under: []site.Command{makeIdentity(), showIdentity(), listIdentities(), removeIdentity()},
	}
}

func identityRules(ctx context.Context, at site.Site) ([]api.IdentityRule, error) {
	var all api.IdentityRuleList
	return all.Rules, at.Do(ctx, http.MethodGet, identityPath, nil, nil, &all)
}

func identityNames(ctx context.Context, at site.Site) ([]string, error) {
	rules, err := identityRules(ctx, at)
	names := make([]string, len(rules))
	for i, one := range rules {
		names[i] = one.Name
	}
	return names, err
}

func identityRule(ctx context.Context, c *site.Call, name string) (api.IdentityRule, error) {
	rules, err := identityRules(ctx, c.Site)
	for _, one := range rules {
		if one.Name == name {
			return one, nil
		}
	}
	if err == nil {
		err = oci.Errorf(oci.CodeNameUnknown, "there is no identity rule %s at %s", name, c.Registry)
	}
	return api.IdentityRule{}, err
}

var identityArg = site.Arg{Name: "RULE", Ask: identityNames}

func makeIdentity() site.Command {
	var rule api.IdentityRule
	return site.Command{
		Name: "make", Short: "Make an identity rule: who comes with such an identity is that machine account",
		Example: "  warthesis identity make seatmap --issuer https://builds.larkspur.example --audience warthesis --subject 'project:berths/seatmap:*' --account ci-berths",
		On:      site.OnRegistry, Args: []site.Arg{{Name: "RULE"}}, Facts: api.IdentityRule{},
		Flags: func(f *pflag.FlagSet) {
			f.StringVar(&rule.Issuer, "issuer", "", "address of the issuer that signs the identities, which is asked for its keys")
			f.StringVar(&rule.Audience, "audience", "", "for whom the identities are made out")
			f.StringVar(&rule.Subject, "subject", "", "pattern of the subject, where * stands for any text")
			f.StringVar(&rule.Account, "account", "", "the machine account")
		},
		Values: ofAccounts,
		Run: func(ctx context.Context, c *site.Call) error {
			for _, flag := range []string{"issuer", "audience", "subject", "account"} {
				if !c.Given(flag) {
					return term.Usage("--%s is missing: an identity rule needs issuer, audience, subject and account", flag)
				}
			}
			rule.Name = c.Args[0]
			if err := c.Do(ctx, http.MethodPost, identityPath, nil, rule, nil); err != nil {
				return err
			}
			return c.Tell(rule, func() {
				c.T.Say("Made the identity rule %s", rule.Name)
				c.T.Hint("The build machine logs in with:  warthesis login %s --identity FILE", c.Registry)
			})
		},
	}
}

func showIdentity() site.Command {
	return site.Command{
		Name: "show", Short: "Show an identity rule", On: site.OnRegistry, Args: []site.Arg{identityArg}, Facts: api.IdentityRule{},
		Run: func(ctx context.Context, c *site.Call) error {
			one, err := identityRule(ctx, c, c.Args[0])
			if err != nil {
				return err
			}
			return c.Tell(one, func() {
				c.T.Fields("Identity rule", one.Name, [2]string{"Issuer", one.Issuer}, [2]string{"Audience", one.Audience}, [2]string{"Subject", one.Subject}, [2]string{"Account", one.Account})
			})
		},
	}
}

func listIdentities() site.Command {
	return site.Command{
		Name: "list", Short: "List identity rules", On: site.OnRegistry, Facts: []api.IdentityRule{},
		Run: func(ctx context.Context, c *site.Call) error {
			rules, err := identityRules(ctx, c.Site)
			if err != nil {
				return err
			}
			return c.Tell(rules, func() {
				if len(rules) == 0 {
					c.T.Say("No identity rules")
					return
				}
				w := c.T.Table("Rule", "Issuer", "Audience", "Subject", "Account")
				for _, one := range rules {
					w.Row(one.Name, one.Issuer, one.Audience, one.Subject, one.Account)
				}
				w.Draw()
			})
		},
	}
}

func removeIdentity() site.Command {
	return site.Command{
		Name: "remove", Short: "Remove an identity rule; what was got by it stops at once", On: site.OnRegistry, Args: []site.Arg{identityArg}, Facts: api.IdentityRule{}, Asks: true,
		Run: func(ctx context.Context, c *site.Call) error {
			one, err := identityRule(ctx, c, c.Args[0])
			if err != nil {
				return err
			}
			if err := c.Confirm(ctx, fmt.Sprintf("Remove the identity rule %s, by which builds log in as %s? What they got by it stops at once. This cannot be undone, but the rule can be made again.", one.Name, one.Account)); err != nil {
				return err
			}
			if err := c.Do(ctx, http.MethodDelete, identityPath+"/"+url.PathEscape(one.Name), nil, nil, nil); err != nil {
				return err
			}
			return c.Tell(one, func() { c.T.Say("Removed the identity rule %s", one.Name) })
		},
	}
}

// keysCommands change the keys by which the registry signs bearer tokens.
func keysCommands() site.Command {
	return site.Command{
		Name: "keys", Group: term.GroupRights, Short: "Change the keys by which the registry signs short-lived tokens",
		Under: []site.Command{{
			Name: "rotate", Short: "Sign new short-lived tokens by a new key; those that are out end within minutes, logins and tokens stay", On: site.OnRegistry,
			Run: func(ctx context.Context, c *site.Call) error {
				if err := c.Do(ctx, http.MethodPost, "/api/v1/keys/rotate", nil, nil, nil); err != nil {
					return err
				}
				c.T.Say("New short-lived tokens are signed by a new key; those that are out are good until they end")
				return nil
			},
		}},
	}
}
