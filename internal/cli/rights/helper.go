package rights

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/login"
)

// helperName is how container engines name this program as a credential helper.
const helperName = login.HelperPrefix + "warthesis"

// AsHelper turns a call under the helper's name into one of the command.
func AsHelper(program string, args []string) []string {
	if filepath.Base(program) != helperName {
		return args
	}
	return append([]string{"credentials"}, args...)
}

// addHelper adds the credential helper: programs call it, over standard input and output.
func addHelper(root *cobra.Command, t term.Terminal, r *site.Remote) {
	parent := &cobra.Command{
		Use: "credentials", GroupID: term.GroupRights, Short: "Hand out short-lived logins to container engines, as a credential helper",
		Long: "Container engines call this over standard input and output, when the program is in the path under the name " + helperName + "\n" +
			"and their login file has the line  \"credHelpers\": {\"REGISTRY\": \"warthesis\"}. What they get is good for a quarter of an hour.",
	}
	step := func(use, short string, do func(context.Context, string) error) {
		parent.AddCommand(&cobra.Command{Use: use, Short: short, Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
			raw, err := io.ReadAll(io.LimitReader(bufio.NewReader(os.Stdin), 1<<20))
			if err != nil {
				return err
			}
			return do(c.Context(), strings.TrimSpace(string(raw)))
		}})
	}
	step("get", "Print a short-lived login for the registry named on standard input", func(ctx context.Context, key string) error {
		return helperGet(ctx, r, t, key)
	})
	step("store", "Keep the login on standard input", func(ctx context.Context, input string) error {
		var given struct{ ServerURL, Username, Secret string }
		if err := json.Unmarshal([]byte(input), &given); err != nil {
			return term.Usage("standard input is not {\"ServerURL\", \"Username\", \"Secret\"}")
		}
		file, err := ownLogins()
		if err != nil {
			return err
		}
		_, err = file.Keep(ctx, login.HostOf(given.ServerURL), login.Credentials{Account: given.Username, Secret: given.Secret})
		return err
	})
	step("erase", "Forget the login for the registry named on standard input", func(ctx context.Context, key string) error {
		file, err := ownLogins()
		if err != nil {
			return err
		}
		_, err = file.Forget(ctx, login.HostOf(key))
		return err
	})
	parent.AddCommand(&cobra.Command{Use: "list", Short: "Print the registries with a login, and whose", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		file, err := ownLogins()
		if err != nil {
			return err
		}
		all := map[string]string{}
		for _, key := range file.Keys() {
			if found, err := file.Find(c.Context(), login.HostOf(key)); err == nil {
				all[key] = found.Account
			}
		}
		return json.NewEncoder(t.Out).Encode(all)
	}})
	root.AddCommand(parent)
}

// notFoundSays is what engines look for where a helper knows nothing.
const notFoundSays = "credentials not found in native keychain"

func helperGet(ctx context.Context, r *site.Remote, t term.Terminal, key string) error {
	registry := login.HostOf(key)
	file, err := ownLogins()
	if err != nil {
		return err
	}
	found, err := file.Find(ctx, registry)
	if err != nil {
		return err
	}
	if found.Empty() {
		fmt.Fprintln(t.Out, notFoundSays)
		return site.NotLoggedIn(registry)
	}
	client, err := r.APIAs(registry, found)
	if err != nil {
		return err
	}
	var short api.ShortToken
	err = client.Do(ctx, "POST", "/api/v1/tokens/short", nil, nil, &short)
	if errors.Is(err, api.ErrOtherMake) {
		// Another make of registry has no short-lived ones.
		short, err = api.ShortToken{Account: found.Account, Secret: found.Secret}, nil
	}
	if err != nil {
		return err
	}
	return json.NewEncoder(t.Out).Encode(map[string]string{"ServerURL": key, "Username": short.Account, "Secret": short.Secret})
}
