package cli

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
	"warthesis/internal/login"
	"warthesis/internal/oci"
)

// helperName is how container engines name this program as a credential helper.
const helperName = login.HelperPrefix + "warthesis"

// asHelper turns a call under the helper's name into one of the command.
func asHelper(program string, args []string) []string {
	if filepath.Base(program) != helperName {
		return args
	}
	return append([]string{"credentials"}, args...)
}

// ownLogins is the file of the logins that the helper keeps: apart from the shared
// one, which names the helper.
func ownLogins() (*login.File, error) {
	hosts, err := login.OpenHosts(os.Getenv)
	if err != nil {
		return nil, err
	}
	return login.Open(filepath.Join(hosts.Folder(), "logins.json"))
}

// addHelper adds the credential helper: programs call it, over standard input and output.
func addHelper(root *cobra.Command, t terminal, r *remote) {
	parent := &cobra.Command{
		Use: "credentials", GroupID: groupRights, Short: "Hand out short-lived logins to container engines, as a credential helper",
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
		return r.helperGet(ctx, t, key)
	})
	step("store", "Keep the login on standard input", func(ctx context.Context, input string) error {
		var given struct{ ServerURL, Username, Secret string }
		if err := json.Unmarshal([]byte(input), &given); err != nil {
			return usage("standard input is not {\"ServerURL\", \"Username\", \"Secret\"}")
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
		return json.NewEncoder(t.out).Encode(all)
	}})
	root.AddCommand(parent)
}

// notFoundSays is what engines look for where a helper knows nothing.
const notFoundSays = "credentials not found in native keychain"

func (r *remote) helperGet(ctx context.Context, t terminal, key string) error {
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
		fmt.Fprintln(t.out, notFoundSays)
		return notLoggedIn(registry)
	}
	client, err := r.apiAs(registry, found)
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
	return json.NewEncoder(t.out).Encode(map[string]string{"ServerURL": key, "Username": short.Account, "Secret": short.Secret})
}

func addLogins(root *cobra.Command, t terminal, r *remote) {
	parent := &cobra.Command{Use: "logins", GroupID: groupRights, Short: "Check a login file, or merge several"}
	var registry string
	check := &cobra.Command{
		Use: "check [FILE]", Short: "Try each entry of a login file, and say what it may do", Args: cobra.MaximumNArgs(1),
		Example: "  warthesis logins check pull-secret.json --registry registry.larkspur.example:7070",
		RunE: func(c *cobra.Command, args []string) error {
			path := r.place()
			if len(args) > 0 {
				path = args[0]
				if _, err := os.Stat(path); err != nil {
					return err
				}
			}
			file, err := login.Open(path)
			if err != nil {
				return err
			}
			return r.checkLogins(c.Context(), t, file, registry)
		},
	}
	check.Flags().StringVar(&registry, "registry", "", "a registry that the file must have an entry for")
	var into string
	merge := &cobra.Command{
		Use: "merge FILE...", Short: "Print one login file with the entries of several; the first file wins where two differ", Args: cobra.MinimumNArgs(2),
		RunE: func(c *cobra.Command, args []string) error { return mergeLogins(t, args, into) },
	}
	merge.Flags().StringVar(&into, "into", "", "write it to this file instead")
	parent.AddCommand(check, merge)
	root.AddCommand(parent)
}

func (r *remote) checkLogins(ctx context.Context, t terminal, file *login.File, wanted string) error {
	keys := file.Keys()
	if len(keys) == 0 {
		fmt.Fprintf(t.out, "%s has no entries\n", file.Path)
	}
	bad := 0
	there := false
	for _, key := range keys {
		registry := login.HostOf(key)
		there = there || registry == wanted
		said, err := r.tryLogin(ctx, file, registry)
		if err != nil {
			bad++
			said = "does not work: " + err.Error()
		}
		fmt.Fprintf(t.out, "%s  %s\n", key, said)
	}
	if wanted != "" && !there {
		misses := file.NearMisses(wanted)
		if len(misses) == 0 {
			misses = []string{"nor anything like it"}
		}
		return oci.Errorf(oci.CodeNameUnknown, "%s has no entry for %s; %s", file.Path, wanted, strings.Join(misses, "; "))
	}
	if bad > 0 {
		return fmt.Errorf("%d of %d entries do not work", bad, len(keys))
	}
	return nil
}

// tryLogin logs in by one entry and says what it may do.
func (r *remote) tryLogin(ctx context.Context, file *login.File, registry string) (string, error) {
	found, err := file.Find(ctx, registry)
	if err != nil {
		return "", err
	}
	if found.Empty() {
		return "has no login in it", nil
	}
	client, err := r.apiAs(registry, found)
	if err != nil {
		return "", err
	}
	var me api.Me
	err = client.Do(ctx, "GET", "/api/v1/me", nil, nil, &me)
	if errors.Is(err, oci.CodeUnsupported) || errors.Is(err, oci.CodeNameUnknown) {
		return fmt.Sprintf("works, as %s", found.Account), r.checkElsewhere(ctx, registry, found)
	}
	if err != nil {
		return "", err
	}
	return "works, as " + me.Account + "; " + sayRights(me), nil
}

// sayRights says in a line what somebody may do.
func sayRights(me api.Me) string {
	var parts []string
	for _, s := range me.Scopes {
		parts = append(parts, strings.Join(s.Actions, " and ")+" in "+s.Pattern)
	}
	within := ""
	if len(parts) > 0 {
		within = "may " + strings.Join(parts, ", ") + " as far as the account may, which is "
	}
	if me.Admin {
		return within + "registry admin"
	}
	var roles []string
	for _, role := range me.Roles {
		roles = append(roles, role.Role+" in "+sayPlace(role.Place))
	}
	if len(roles) == 0 {
		roles = []string{"nothing but to pull what anybody may"}
	}
	return within + strings.Join(roles, ", ")
}

func mergeLogins(t terminal, paths []string, into string) error {
	var merged *login.File
	for i, path := range paths {
		if _, err := os.Stat(path); err != nil {
			return err
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
			fmt.Fprintf(t.err, "%s: the entry %s differs from the one before, which stays\n", path, kept)
		}
	}
	raw, err := merged.Marshal()
	if err != nil {
		return err
	}
	if into != "" {
		return login.WriteSecret(into, raw)
	}
	_, err = t.out.Write(raw)
	return err
}
