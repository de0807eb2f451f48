package rights

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"

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

// helperCommands are the credential helper: programs call it, over standard input and
// output.
func helperCommands() site.Command {
	step := func(name, short string, do func(context.Context, *site.Call, string) error) site.Command {
		return site.Command{Name: name, Short: short, On: site.OnAny, Run: func(ctx context.Context, c *site.Call) error {
			raw, err := io.ReadAll(io.LimitReader(bufio.NewReader(os.Stdin), 1<<20))
			if err != nil {
				return err
			}
			return do(ctx, c, strings.TrimSpace(string(raw)))
		}}
	}
	return site.Command{
		Name: "credentials", Group: term.GroupRights, Short: "Hand out short-lived logins to container engines, as a credential helper",
		Long: "Container engines call this over standard input and output, when the program is in the path under the name " + helperName + "\n" +
			"and their login file has the line  \"credHelpers\": {\"REGISTRY\": \"warthesis\"}. What they get is good for a quarter of an hour.\n" +
			"The words, and the JSON on both streams, are those of engines.",
		Under: []site.Command{
			step("get", "Print a short-lived login for the registry named on standard input", helperGet),
			step("store", "Keep the login on standard input", helperStore),
			step("erase", "Forget the login for the registry named on standard input", func(ctx context.Context, _ *site.Call, key string) error {
				file, err := ownLogins()
				if err != nil {
					return err
				}
				_, err = file.Forget(ctx, login.HostOf(key))
				return err
			}),
			{Name: "list", Short: "Print the registries with a login, and whose", On: site.OnNothing, Run: helperList},
		},
	}
}

func helperStore(ctx context.Context, _ *site.Call, input string) error {
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
}

func helperList(ctx context.Context, c *site.Call) error {
	file, err := ownLogins()
	if err != nil {
		return err
	}
	all := map[string]string{}
	for _, key := range file.Keys() {
		if found, err := file.Find(ctx, login.HostOf(key)); err == nil {
			all[key] = found.Account
		}
	}
	return json.NewEncoder(c.T.Out).Encode(all)
}

// notFoundSays is what engines look for where a helper knows nothing.
const notFoundSays = "credentials not found in native keychain"

func helperGet(ctx context.Context, c *site.Call, key string) error {
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
		c.T.Say(notFoundSays)
		return site.NotLoggedIn(registry)
	}
	client, err := c.R.APIAs(registry, found)
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
	return json.NewEncoder(c.T.Out).Encode(map[string]string{"ServerURL": key, "Username": short.Account, "Secret": short.Secret})
}
