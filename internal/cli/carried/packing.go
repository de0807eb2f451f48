package carried

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/pflag"

	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/flow/packing"
	"warthesis/internal/given"
)

func packingCommands() site.Command {
	return site.Command{
		Name: "packing", Group: term.GroupFlow, Short: "Make packing lists: which images are to be copied or carried",
		Long: "A packing list is text: a reference a line, # before comments, and -> NAME:TAG behind a reference that is called otherwise at the destination. It may have\n" +
			"variables, as in signals/relay:${version}, whose values are given when it is used. A list in which each reference has its digest is locked.",
		Under: []site.Command{makePacking(), joinPacking(), subtractPacking(), sortPacking(), lockPacking()},
	}
}

// packingFacts is what a command about lists says to scripts.
type packingFacts struct {
	// List is the text of the list.
	List       string `json:"list"`
	References int    `json:"references"`
	// Written is the file that has it now, "" for none.
	Written string `json:"written,omitempty"`
}

// outFlag adds the flag by which a list goes to a file.
func outFlag(f *pflag.FlagSet, to *string) {
	f.StringVar(to, "out", "", "the file that the list is written to; standard output where it is left out")
}

// readList reads a packing list, from a file or from standard input.
func readList(name string) (packing.List, error) {
	raw, err := site.ReadInput(name, packing.MostBytes)
	if err != nil {
		return packing.List{}, err
	}
	list, err := packing.Read(raw)
	if err != nil {
		return list, fmt.Errorf("%s: %w", name, err)
	}
	return list, nil
}

// readLists reads several.
func readLists(names []string) (all []packing.List, err error) {
	for _, name := range names {
		list, err := readList(name)
		if err != nil {
			return nil, err
		}
		all = append(all, list)
	}
	return all, nil
}

// tellList gives a list out: to a file, or to standard output.
func tellList(c *site.Call, list packing.List, out string) error {
	raw := list.Bytes()
	facts := packingFacts{List: string(raw), References: list.Len(), Written: out}
	if out != "" {
		if err := replaceWhole(out, raw); err != nil {
			return fmt.Errorf("write %s: %w", out, err)
		}
	}
	return c.Tell(facts, func() {
		if out != "" {
			c.T.Say("%s has %s now", out, term.Count(list.Len(), "reference", "references"))
			c.T.Hint("To see what is where, before anything moves:  %s", c.Self("copy", out, "REGISTRY", "--preview"))
			return
		}
		// A failed write is remembered by the terminal.
		_, _ = c.T.Out.Write(raw)
	})
}

// replaceWhole writes a file so that it is the old or the new one at every moment.
func replaceWhole(name string, raw []byte) error {
	if there, err := given.Read(name, int64(len(raw))); err == nil && bytes.Equal(there, raw) {
		return nil
	}
	mode := fs.FileMode(0o644)
	if to, err := filepath.EvalSymlinks(name); err == nil {
		name = to
		info, err := os.Stat(name)
		if err == nil && !info.Mode().IsRegular() {
			return given.ErrNotPlain
		}
		if err == nil {
			mode = info.Mode().Perm()
		}
	}
	f, err := os.CreateTemp(filepath.Dir(name), ".warthesis-*")
	if err != nil {
		return err
	}
	_, err = f.Write(raw)
	err = errors.Join(err, f.Chmod(mode), f.Sync(), f.Close())
	if err == nil {
		err = os.Rename(f.Name(), name)
	}
	if err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	return nil
}

var (
	listArg  = site.Arg{Name: "LIST", File: true}
	listArgs = site.Arg{Name: "LIST", File: true, Many: true}
)

func joinPacking() site.Command {
	var out string
	return site.Command{
		Name: "join", Short: "Make one packing list of several, each reference once", On: site.OnNothing, Args: []site.Arg{listArgs}, Facts: packingFacts{},
		Example: "  warthesis packing join november.list hotfixes.list --out all.list",
		Flags:   func(f *pflag.FlagSet) { outFlag(f, &out) },
		Run: func(_ context.Context, c *site.Call) error {
			all, err := readLists(c.Args)
			if err != nil {
				return err
			}
			return tellList(c, packing.Join(all...), out)
		},
	}
}

func subtractPacking() site.Command {
	var out string
	return site.Command{
		Name: "subtract", Short: "Take out of a packing list what other lists name", On: site.OnNothing, Args: []site.Arg{listArg, {Name: "WITHOUT", File: true, Many: true}}, Facts: packingFacts{},
		Long: "Writes the first list without the references that the others name: the same repository with the same digest or, where one of both has no digest, with\n" +
			"the same tag.",
		Example: "  warthesis packing subtract november.list october.list --out new.list",
		Flags:   func(f *pflag.FlagSet) { outFlag(f, &out) },
		Run: func(_ context.Context, c *site.Call) error {
			all, err := readLists(c.Args)
			if err != nil {
				return err
			}
			return tellList(c, all[0].Subtract(all[1:]...), out)
		},
	}
}

func sortPacking() site.Command {
	var out string
	return site.Command{
		Name: "sort", Short: "Sort a packing list by repository and version", On: site.OnNothing, Args: []site.Arg{listArg}, Facts: packingFacts{},
		Long: "Sorts by repository, and within one by version, the newest first. Comments stay above the reference that they stand above; those at the beginning, before\n" +
			"an empty line, stay there.",
		Example: "  warthesis packing sort november.list --out november.list",
		Flags:   func(f *pflag.FlagSet) { outFlag(f, &out) },
		Run: func(_ context.Context, c *site.Call) error {
			list, err := readList(c.Args[0])
			if err != nil {
				return err
			}
			return tellList(c, list.Sort(), out)
		},
	}
}

// readItems reads a list with the values of its variables, and what it names then.
func readItems(name string, pairs []string) (list packing.List, values map[string]string, items []packing.Item, err error) {
	if list, err = readList(name); err != nil {
		return list, nil, nil, err
	}
	if values, err = valuesFor(list, name, pairs); err != nil {
		return list, nil, nil, err
	}
	if items, err = list.Items(values); err != nil {
		return list, nil, nil, fmt.Errorf("%s: %w", name, err)
	}
	return list, values, items, nil
}

// setFlag adds the flag by which variables get their values.
func setFlag(f *pflag.FlagSet, to *[]string) {
	term.Texts(f, to, "set", "the value of a variable of the list, as NAME=VALUE")
}

// valuesFor reads the values of a list's variables. One that the list does not have is a
// slip of the pen.
func valuesFor(list packing.List, name string, pairs []string) (map[string]string, error) {
	values, err := packing.Values(pairs)
	if err != nil {
		return nil, term.Usage("--set: %w", err)
	}
	if unknown := list.Unknown(values); unknown != "" {
		has := "it has none"
		if all := list.Variables(); len(all) > 0 {
			has = "it has " + strings.Join(all, ", ")
		}
		return nil, term.Usage("%s has no variable %s; %s", name, unknown, has)
	}
	return values, nil
}
