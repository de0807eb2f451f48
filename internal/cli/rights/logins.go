package rights

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

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

func addLogins(root *cobra.Command, t term.Terminal, r *site.Remote) {
	parent := &cobra.Command{Use: "logins", GroupID: term.GroupRights, Short: "Check a login file, or merge several"}
	var registry string
	check := &cobra.Command{
		Use: "check [FILE]", Short: "Try each entry of a login file, and say what it may do", Args: cobra.MaximumNArgs(1),
		Example: "  warthesis logins check pull-secret.json --registry registry.larkspur.example:7070",
		RunE: func(c *cobra.Command, args []string) error {
			path := r.Place()
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
			return checkLogins(c.Context(), r, t, file, registry)
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

func checkLogins(ctx context.Context, r *site.Remote, t term.Terminal, file *login.File, wanted string) error {
	keys := file.Keys()
	if len(keys) == 0 {
		fmt.Fprintf(t.Out, "%s has no entries\n", file.Path)
	}
	bad := 0
	there := false
	for _, key := range keys {
		registry := login.HostOf(key)
		there = there || registry == wanted
		said, err := tryLogin(ctx, r, file, registry)
		if err != nil {
			bad++
			said = "does not work: " + err.Error()
		}
		fmt.Fprintf(t.Out, "%s  %s\n", key, said)
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
func tryLogin(ctx context.Context, r *site.Remote, file *login.File, registry string) (string, error) {
	found, err := file.Find(ctx, registry)
	if err != nil {
		return "", err
	}
	if found.Empty() {
		return "has no login in it", nil
	}
	client, err := r.APIAs(registry, found)
	if err != nil {
		return "", err
	}
	var me api.Me
	err = client.Do(ctx, "GET", "/api/v1/me", nil, nil, &me)
	if errors.Is(err, oci.CodeUnsupported) || errors.Is(err, oci.CodeNameUnknown) {
		return fmt.Sprintf("works, as %s", found.Account), checkElsewhere(ctx, r, registry, found)
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

func mergeLogins(t term.Terminal, paths []string, into string) error {
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
			fmt.Fprintf(t.Err, "%s: the entry %s differs from the one before, which stays\n", path, kept)
		}
	}
	raw, err := merged.Marshal()
	if err != nil {
		return err
	}
	if into != "" {
		return login.WriteSecret(into, raw)
	}
	_, err = t.Out.Write(raw)
	return err
}
