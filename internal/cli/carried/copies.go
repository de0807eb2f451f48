package carried

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/flow/carry"
	"warthesis/internal/flow/packing"
	"warthesis/internal/given"
	"warthesis/internal/login"
	"warthesis/internal/rule"
)

// keptCopy is a copy that is kept under a name, on this machine.
type keptCopy struct {
	Name        string            `json:"name"`
	List        string            `json:"list"`
	Destination string            `json:"destination"`
	Set         map[string]string `json:"set,omitempty"`
	// LoginFile has the logins of both sides, "" for the usual one.
	LoginFile         string    `json:"login_file,omitempty"`
	Authority         string    `json:"ca,omitempty"`
	ClientCertificate string    `json:"client_certificate,omitempty"`
	ClientKey         string    `json:"client_key,omitempty"`
	Unencrypted       bool      `json:"unencrypted,omitempty"`
	NoReferrers       bool      `json:"no_referrers,omitempty"`
	WithoutMissing    bool      `json:"without_missing,omitempty"`
	AtOnce            int       `json:"at_once,omitempty"`
	Rate              string    `json:"rate,omitempty"`
	Patience          string    `json:"patience,omitempty"`
	Journal           string    `json:"journal,omitempty"`
	Kept              time.Time `json:"kept"`
}

// mostKept is the largest file of a kept copy in bytes.
const mostKept = 64 << 10

// copiesFolder is where copies are kept.
func copiesFolder() (string, error) {
	hosts, err := login.OpenHosts(os.Getenv)
	if err != nil {
		return "", err
	}
	return filepath.Join(hosts.Folder(), "copies"), nil
}

func checkCopyName(name string) error {
	if rule.CheckListName(name) != nil {
		return term.Usage("%q is no name for a copy; a name has lower-case letters, digits and dashes, 64 at most", name)
	}
	return nil
}

// keepCopy keeps a call of copy. Names of files are kept so that they mean the same from
// anywhere.
func keepCopy(c *site.Call, k copying, list, destination string) error {
	if err := checkCopyName(k.keep); err != nil {
		return err
	}
	if list == site.StandardStream {
		return term.Usage("a list that comes on standard input cannot be kept; write it to a file")
	}
	values, err := packing.Values(k.sets)
	if err != nil {
		return term.Usage("--set: %w", err)
	}
	kept := keptCopy{
		Name: k.keep, List: list, Destination: destination, Set: values, LoginFile: c.R.LoginFile, Authority: c.R.Authority,
		ClientCertificate: c.R.ClientCertificate, ClientKey: c.R.ClientKey, Unencrypted: c.R.Unencrypted, NoReferrers: k.bare,
		WithoutMissing: k.without, AtOnce: k.atOnce, Rate: k.rate, Journal: k.journal, Kept: time.Now().UTC().Truncate(time.Second),
	}
	if k.patience != 0 {
		kept.Patience = k.patience.String()
	}
	for _, file := range []*string{&kept.List, &kept.LoginFile, &kept.Authority, &kept.ClientCertificate, &kept.ClientKey, &kept.Journal} {
		if *file != "" {
			if *file, err = filepath.Abs(*file); err != nil {
				return err
			}
		}
	}
	folder, err := copiesFolder()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	raw, err := json.MarshalIndent(kept, "", "  ")
	if err != nil {
		return err
	}
	if err := replaceWhole(filepath.Join(folder, k.keep+".json"), append(raw, '\n')); err != nil {
		return fmt.Errorf("keep the copy: %w", err)
	}
	if !c.JSON() {
		c.T.Say("The copy is kept as %s", k.keep)
	}
	return nil
}

func readKept(name string) (kept keptCopy, err error) {
	if err := checkCopyName(name); err != nil {
		return kept, err
	}
	folder, err := copiesFolder()
	if err != nil {
		return kept, err
	}
	raw, err := given.Read(filepath.Join(folder, name+".json"), mostKept)
	if errors.Is(err, fs.ErrNotExist) {
		return kept, term.Usage("no copy is kept as %s; list them with  %s copies list", name, term.ProgramName())
	}
	if err == nil {
		err = json.Unmarshal(raw, &kept)
	}
	if err != nil {
		return kept, fmt.Errorf("the copy that is kept as %s cannot be read: %w", name, err)
	}
	return kept, nil
}

// keptNames lists the copies that are kept.
func keptNames() ([]string, error) {
	folder, err := copiesFolder()
	if err != nil {
		return nil, err
	}
	entries, err := os.ReadDir(folder)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	var names []string
	for _, e := range entries {
		if name, is := strings.CutSuffix(e.Name(), ".json"); is && checkCopyName(name) == nil {
			names = append(names, name)
		}
	}
	return names, nil
}

var copyArg = site.Arg{Name: "NAME"}

func copiesCommands() site.Command {
	return site.Command{
		Name: "copies", Group: term.GroupFlow, Short: "Run copies again that are kept under a name",
		Long: "A copy is kept with copy --keep NAME: its list, its destination, its logins and its options, on this machine. Run again, it moves what is new since,\n" +
			"with other values for the variables of its list where they are given.",
		Under: []site.Command{runKept(), listKept(), showKept(), removeKept()},
	}
}

func runKept() site.Command {
	var k copying
	return site.Command{
		Name: "run", Short: "Run a copy again that is kept", On: site.OnAny, Args: []site.Arg{copyArg}, Facts: carry.Report{}, Checks: true,
		Example: "  warthesis copies run release --set version=2.5.0\n  warthesis copies run release --preview",
		Flags:   k.flags,
		Run: func(ctx context.Context, c *site.Call) error {
			kept, err := readKept(c.Args[0])
			if err != nil {
				return err
			}
			given, err := packing.Values(k.sets)
			if err != nil {
				return term.Usage("--set: %w", err)
			}
			again, err := kept.copying(c, k, given)
			if err != nil {
				return err
			}
			return again.run(ctx, c, kept.List, kept.Destination)
		},
	}
}

// copying is the call that is kept, with what is said otherwise now.
func (kept keptCopy) copying(c *site.Call, k copying, given map[string]string) (copying, error) {
	values := maps.Clone(kept.Set)
	if values == nil {
		values = map[string]string{}
	}
	maps.Copy(values, given)
	k.sets = nil
	for _, name := range slices.Sorted(maps.Keys(values)) {
		k.sets = append(k.sets, name+"="+values[name])
	}
	k.bare, k.without = k.bare || kept.NoReferrers, k.without || kept.WithoutMissing
	if !c.Given("at-once") && kept.AtOnce > 0 {
		k.atOnce = kept.AtOnce
	}
	if !c.Given("rate") {
		k.rate = kept.Rate
	}
	if !c.Given("journal") {
		k.journal = kept.Journal
	}
	if !c.Given("patience") && kept.Patience != "" {
		span, err := rule.ParseSpan(kept.Patience)
		if err != nil {
			return k, fmt.Errorf("the copy that is kept as %s: %w", kept.Name, err)
		}
		k.patience = span
	}
	for flag, pair := range map[string]struct{ to, was *string }{
		"login-file": {&c.R.LoginFile, &kept.LoginFile}, "ca": {&c.R.Authority, &kept.Authority},
		"client-certificate": {&c.R.ClientCertificate, &kept.ClientCertificate}, "client-key": {&c.R.ClientKey, &kept.ClientKey},
	} {
		if !c.Given(flag) {
			*pair.to = *pair.was
		}
	}
	c.R.Unencrypted = c.R.Unencrypted || kept.Unencrypted
	return k, nil
}

func listKept() site.Command {
	return site.Command{
		Name: "list", Short: "List the copies that are kept", On: site.OnNothing, Facts: []keptCopy{},
		Run: func(_ context.Context, c *site.Call) error {
			names, err := keptNames()
			if err != nil {
				return err
			}
			all := []keptCopy{}
			for _, name := range names {
				kept, err := readKept(name)
				if err != nil {
					c.T.Warn("%s", term.OneLine(err.Error()))
					continue
				}
				all = append(all, kept)
			}
			return c.Tell(all, func() {
				if len(all) == 0 {
					c.T.Say("No copy is kept")
					c.T.Hint("To keep one:  %s", c.Self("copy", "LIST", "REGISTRY", "--keep", "NAME"))
					return
				}
				w := c.T.Table("Name", "List", "Destination", "Kept")
				for _, one := range all {
					w.Row(one.Name, one.List, one.Destination, term.When(&one.Kept))
				}
				w.Draw()
			})
		},
	}
}

func showKept() site.Command {
	return site.Command{
		Name: "show", Short: "Show a copy that is kept", On: site.OnNothing, Args: []site.Arg{copyArg}, Facts: keptCopy{},
		Run: func(_ context.Context, c *site.Call) error {
			kept, err := readKept(c.Args[0])
			if err != nil {
				return err
			}
			return c.Tell(kept, func() {
				var sets []string
				for _, name := range slices.Sorted(maps.Keys(kept.Set)) {
					sets = append(sets, name+"="+kept.Set[name])
				}
				c.T.Fields("Copy", kept.Name,
					[2]string{"List", kept.List}, [2]string{"Destination", kept.Destination}, [2]string{"Variables", strings.Join(sets, ", ")},
					[2]string{"Logins", kept.LoginFile}, [2]string{"Certificates", kept.Authority}, [2]string{"Rate", kept.Rate}, [2]string{"Kept", term.When(&kept.Kept)})
				c.T.Hint("To run it again:  %s", c.Self("copies", "run", kept.Name))
			})
		},
	}
}

func removeKept() site.Command {
	return site.Command{
		Name: "remove", Short: "Keep a copy no longer", On: site.OnNothing, Args: []site.Arg{copyArg}, Facts: keptCopy{}, Asks: true,
		Run: func(ctx context.Context, c *site.Call) error {
			kept, err := readKept(c.Args[0])
			if err != nil {
				return err
			}
			if err := c.Confirm(ctx, fmt.Sprintf("Keep the copy %s no longer? What it copied stays; it can be kept again with copy --keep.", kept.Name)); err != nil {
				return err
			}
			folder, err := copiesFolder()
			if err == nil {
				err = os.Remove(filepath.Join(folder, kept.Name+".json"))
			}
			if err != nil {
				return err
			}
			return c.Tell(kept, func() { c.T.Say("The copy %s is not kept any more", kept.Name) })
		},
	}
}
