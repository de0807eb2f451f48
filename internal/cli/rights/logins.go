package rights

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/pflag"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/login"
	"warthesis/internal/oci"
)

// ownLogins is the file of the logins that the helper keeps: apart from the shared
// one, which names the helper.
func ownLogins() (*login.File, error) {
	hosts, err := login.OpenHosts(os.Getenv)
	if err != nil {
		return nil, err
	}
	return login.Open(filepath.Join(hosts.Folder(), "logins.json"))
}

func loginsCommands() site.Command {
	return site.Command{
		Name: "logins", Group: term.GroupRights, Short: "Check a login file, or merge several", Under: []site.Command{checkLogins(), mergeLogins()},
	}
}

// checkedLogin is what was found out about an entry of a login file.
type checkedLogin struct {
	Entry   string `json:"entry"`
	Works   bool   `json:"works"`
	Account string `json:"account,omitempty"`
	Says    string `json:"says"`
	// Missing tells that there is no such entry, and that one was expected.
	Missing bool `json:"missing,omitempty"`
}

func checkLogins() site.Command {
	var expected []string
	return site.Command{
		Name: "check", Short: "Try each entry of a login file, and say what it may do; it fails where one does not work, or one that is expected is not there",
		Example: "  warthesis logins check pull-secret.json --expect registry.larkspur.example:7070 --expect tarn.larkspur.example",
		On:      site.OnAny, Args: []site.Arg{{Name: "FILE", Optional: true, File: true}}, Facts: []checkedLogin{}, Checks: true,
		Flags: func(f *pflag.FlagSet) {
			term.Texts(f, &expected, "expect", "a registry that the file must have an entry for")
		},
		Run: func(ctx context.Context, c *site.Call) error {
			path := c.R.Place()
			if len(c.Args) > 0 {
				path = c.Args[0]
			}
			if _, err := os.Stat(path); err != nil && (len(c.Args) > 0 || c.Given("login-file")) {
				return noFile(path, err)
			}
			file, err := login.Open(path)
			if err != nil {
				return err
			}
			return reportLogins(ctx, c, file, expected)
		},
	}
}

// noFile says of a file that it cannot be had.
func noFile(path string, err error) error {
	if errors.Is(err, os.ErrNotExist) {
		return term.Usage("there is no file %s", path)
	}
	return err
}

func reportLogins(ctx context.Context, c *site.Call, file *login.File, expected []string) error {
	all := []checkedLogin{}
	bad := 0
	for _, key := range file.Keys() {
		found := checkedLogin{Entry: key, Works: true}
		var err error
		if found.Account, found.Says, err = tryLogin(ctx, c.R, file, login.HostOf(key)); err != nil {
			bad++
			found.Works, found.Says = false, err.Error()
		}
		all = append(all, found)
	}
	for _, s := range expected {
		registry, err := c.R.ExactRegistry(s)
		if err != nil {
			return err
		}
		if slices.ContainsFunc(file.Keys(), func(key string) bool { return login.HostOf(key) == registry }) {
			continue
		}
		bad++
		near := strings.Join(file.NearMisses(registry), "; ")
		if near == "" {
			near = "there is nothing like it"
		}
		all = append(all, checkedLogin{Entry: registry, Missing: true, Says: "is expected and has no entry; " + near})
	}
	err := c.Tell(all, func() {
		if len(all) == 0 {
			c.T.Say("%s has no entries", file.Path)
		}
		for _, one := range all {
			says := one.Says
			switch {
			case one.Missing:
			case one.Works:
				says = "works, as " + one.Account + "; " + says
			default:
				says = "does not work: " + says
			}
			c.T.Say("%s  %s", one.Entry, says)
		}
	})
	if err == nil && bad > 0 {
		err = term.NotRight("%d of %d entries of %s are not as they should be", bad, len(all), file.Path)
	}
	return err
}

// tryLogin logs in by one entry and says as whom, and what it may do.
func tryLogin(ctx context.Context, r *site.Remote, file *login.File, registry string) (account, says string, err error) {
	found, err := file.Find(ctx, registry)
	if err != nil {
		return "", "", err
	}
	if found.Empty() {
		return "", "", errors.New("it has no login in it")
	}
	client, err := r.APIAs(registry, found)
	if err != nil {
		return "", "", err
	}
	me, err := client.Me(ctx)
	if errors.Is(err, oci.CodeUnsupported) || errors.Is(err, oci.CodeNameUnknown) {
		return found.Account, "what it may do only a Warthesis registry tells", checkElsewhere(ctx, r, registry, found)
	}
	if err != nil {
		return "", "", err
	}
	return me.Account, sayRights(me), nil
}

// sayRights says in a line what somebody may do: what roles and the login's own bounds
// both allow.
func sayRights(me api.Me) string {
	if me.Admin && len(me.Scopes) == 0 {
		return "registry admin"
	}
	var parts []string
	for _, s := range me.May {
		parts = append(parts, strings.Join(s.Actions, ", ")+" in "+s.Pattern)
	}
	switch {
	case len(parts) > 0:
		return "may " + strings.Join(parts, "; ")
	case len(me.Scopes) > 0:
		return "may pull what anybody may, and nothing else: its scopes and the account's roles have nothing in common"
	}
	return "may pull what anybody may, and nothing else"
}

func mergeLogins() site.Command {
	var into string
	return site.Command{
		Name: "merge", Short: "Print one login file with the entries of several; the first file wins where two differ",
		On: site.OnNothing, Args: []site.Arg{{Name: "FILE", File: true}, {Name: "FILE", File: true, Many: true}},
		Flags: func(f *pflag.FlagSet) { f.StringVar(&into, "into", "", "write it to this file instead") },
		Run: func(_ context.Context, c *site.Call) error {
			var merged *login.File
			for i, path := range c.Args {
				if _, err := os.Stat(path); err != nil {
					return noFile(path, err)
				}
				file, err := login.Open(path)
				if err != nil {
					return err
				}
				if i == 0 {
					merged = file
					continue
				}
				for _, kept := range merged.Merge(file) {
					c.T.Warn("%s: the entry %s differs from the one before, which stays", path, kept)
				}
			}
			raw, err := merged.Marshal()
			if err != nil {
				return err
			}
			if into == "" {
				_, err = c.T.Out.Write(raw)
				return err
			}
			if err := login.WriteSecret(into, raw); err != nil {
				return fmt.Errorf("write the login file: %w", err)
			}
			c.T.Say("Wrote %s", into)
			return nil
		},
	}
}
