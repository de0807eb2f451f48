package service

import (
	"context"
	"net/http"

	"github.com/spf13/pflag"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/rule"
)

const settingsPath = "/api/v1/settings"

func settingsCommands() site.Command {
	return site.Command{
		Name: "settings", Group: term.GroupRun, Short: "Show or change the settings that a registry keeps itself", Under: []site.Command{showSettings(), changeSettings()},
	}
}

func showSettings() site.Command {
	return site.Command{
		Name: "show", Short: "Show who makes namespaces, and for how long removals can be undone", On: site.OnRegistry, Facts: api.Settings{},
		Run: func(ctx context.Context, c *site.Call) error {
			var settings api.Settings
			if err := c.Do(ctx, http.MethodGet, settingsPath, nil, nil, &settings); err != nil {
				return err
			}
			return c.Tell(settings, func() { saySettings(c.T, settings) })
		},
	}
}

func changeSettings() site.Command {
	var accounts, pushes bool
	var window rule.Span
	return site.Command{
		Name: "change", Short: "Change who makes namespaces, or for how long removals can be undone", Example: "  warthesis settings change --accounts-make-namespaces --push-makes-namespaces=false",
		On: site.OnRegistry, Facts: api.Settings{},
		Flags: func(f *pflag.FlagSet) {
			f.BoolVar(&accounts, "accounts-make-namespaces", false, "whether every person may make namespaces, and not registry admins alone")
			term.Span(f, &window, "restore-window", "for how long removals can be undone, as in 14d")
			f.BoolVar(&pushes, "push-makes-namespaces", false, "whether a push by somebody who may make a namespace makes it")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			if !c.Given("accounts-make-namespaces") && !c.Given("push-makes-namespaces") && !c.Given("restore-window") {
				return term.Usage("say what is to be changed: --accounts-make-namespaces, --push-makes-namespaces or --restore-window")
			}
			var settings api.Settings
			if err := c.Do(ctx, http.MethodGet, settingsPath, nil, nil, &settings); err != nil {
				return err
			}
			if c.Given("accounts-make-namespaces") {
				settings.AccountsMakeNamespaces = accounts
			}
			if c.Given("push-makes-namespaces") {
				settings.PushMakesNamespaces = pushes
			}
			if c.Given("restore-window") {
				settings.RestoreWindow = window.String()
			}
			if err := c.Do(ctx, http.MethodPut, settingsPath, nil, settings, nil); err != nil {
				return err
			}
			return c.Tell(settings, func() { saySettings(c.T, settings) })
		},
	}
}

func saySettings(t term.Terminal, settings api.Settings) {
	makers := "registry admins alone"
	if settings.AccountsMakeNamespaces {
		makers = "every person, who then owns them"
	}
	byPush := "no push makes one"
	if settings.PushMakesNamespaces {
		byPush = "a push by one of them makes the namespace that it needs"
	}
	t.Say("Namespaces are made by %s; %s", makers, byPush)
	t.Say("Removals can be undone for %s, while the service runs", settings.RestoreWindow)
}
