package site

import (
	"context"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"warthesis/internal/cli/term"
	"warthesis/internal/oci"
)

// On is what the first argument of a command names.
type On int

// What commands are about.
const (
	// OnNothing: no registry is reached.
	OnNothing On = iota
	// OnAny: registries are reached, which the command finds in its arguments itself.
	OnAny
	// OnRegistry: a registry, the default one where it is left out.
	OnRegistry
	// OnPlace: a registry, a namespace or a repository.
	OnPlace
	// OnWhere is OnPlace where leaving it out means the default registry.
	OnWhere
	// OnWhat is OnWhere, or an image.
	OnWhat
	OnNamespace
	OnRepository
	// OnImage: a tag or a digest in a repository.
	OnImage
	// OnTags: a tag, or all tags of a repository.
	OnTags
)

// argument is how the help writes what is named.
func (o On) argument() string {
	return map[On]string{
		OnRegistry: "[REGISTRY]", OnPlace: "REGISTRY[/NAMESPACE[/REPOSITORY]]", OnWhere: "[REGISTRY[/NAMESPACE[/REPOSITORY]]]",
		OnWhat:      "[REGISTRY[/NAMESPACE[/REPOSITORY[:TAG]]]]",
		OnNamespace: "REGISTRY/NAMESPACE", OnRepository: "REGISTRY/NAMESPACE/REPOSITORY", OnImage: "REFERENCE",
		OnTags: "REGISTRY/NAMESPACE/REPOSITORY[:TAG]",
	}[o]
}

// Arg is an argument behind the first.
type Arg struct {
	// Name is how the help calls it.
	Name string
	// Optional ones may be left out, Many may be several. Both are last.
	Optional, Many bool
	// Words are what it can be; nil where that is not a few words.
	Words []string
	// Ask asks the registry what it can be.
	Ask Completer
	// Place and Image tell that it is a place or an image; File that it is a file.
	Place, Image, File bool
}

func (a Arg) usage() string {
	s := a.Name
	if a.Many {
		s += "..."
	}
	if a.Optional {
		s = "[" + s + "]"
	}
	return s
}

// Command is one command: what it takes, what it prints and how it ends. What all
// commands have in common is made of it.
type Command struct {
	// Name is its word, Group its part of the help.
	Name, Group, Short, Long, Example string
	On                                On
	Args                              []Arg
	// Facts is a value of what --output json prints, nil where there are no facts.
	Facts any
	// Or is what it prints instead where it is about something else.
	Or any
	// Lines tells that it prints one such value a line.
	Lines bool
	// Asks tells that it asks before it does what it does.
	Asks bool
	// Checks tells that what it checks may not be as it should be.
	Checks bool
	// Flags adds flags of its own.
	Flags func(f *pflag.FlagSet)
	// Values says what flags can be, where the registry knows.
	Values map[string]Completer
	Run    func(ctx context.Context, c *Call) error
	// Under are the commands below it.
	Under []Command
	// Other names that it is called by.
	Other []string
	// Hidden ones are for programs.
	Hidden bool
}

// Keys of what commands tell about themselves.
const (
	AboutExit = "exit"
	AboutJSON = "json"
)

// Add adds commands below another one.
func (r *Remote) Add(parent *cobra.Command, commands ...Command) {
	for i := range commands {
		parent.AddCommand(r.command(&commands[i]))
	}
}

func (r *Remote) command(m *Command) *cobra.Command {
	call := &Call{R: r, T: r.T}
	c := &cobra.Command{
		Use: m.usage(), GroupID: m.Group, Short: m.Short, Long: m.Long, Example: m.Example, Aliases: m.Other, Hidden: m.Hidden,
		DisableFlagsInUseLine: true, Annotations: map[string]string{AboutExit: m.exits(), AboutJSON: describe(m.Facts, m.Or, m.Lines)},
	}
	f := c.Flags()
	f.SortFlags = false
	if m.Flags != nil {
		m.Flags(f)
	}
	output := term.OutputTable
	if m.Facts != nil {
		term.Choice(f, &output, "output", term.OutputTable, "form of the output: table for people, json for scripts", term.OutputTable, term.OutputJSON)
	}
	if m.Asks {
		f.BoolVar(&call.yes, "yes", false, "do it without asking")
	}
	if m.On != OnNothing {
		r.addFlags(f)
	}
	term.OnlyOnce(f)
	r.Add(c, m.Under...)
	if m.Run == nil {
		c.Args = cobra.ArbitraryArgs
		c.RunE = func(c *cobra.Command, args []string) error {
			if len(args) > 0 {
				return term.NoCommand(c, args[0])
			}
			return c.Help()
		}
		return c
	}
	c.Args = cobra.ArbitraryArgs
	r.addCompletion(c, m)
	c.RunE = func(c *cobra.Command, args []string) error {
		call.cobra, call.json = c, output == term.OutputJSON
		if err := r.aim(c, m, call, args); err != nil {
			return err
		}
		return m.Run(c.Context(), call)
	}
	return c
}

// addFlags adds the flags by which registries are reached.
func (r *Remote) addFlags(f *pflag.FlagSet) {
	f.BoolVar(&r.Unencrypted, "unencrypted", false,
		"speak plain HTTP to a registry that is not on this machine; everybody on the way can read and change what passes")
	f.StringVar(&r.Authority, "ca", "", "trust the certificates in this PEM file, besides those of the system")
	f.StringVar(&r.ClientCertificate, "client-certificate", "", "file with the certificate that the registry is shown where it asks for one; with --client-key")
	f.StringVar(&r.ClientKey, "client-key", "", "file with that certificate's key")
	f.StringVar(&r.LoginFile, "login-file", "", "file with the logins, in the form that container engines share")
}

func (m *Command) usage() string {
	words := []string{m.Name}
	if s := m.On.argument(); s != "" {
		words = append(words, s)
	}
	for _, a := range m.Args {
		words = append(words, a.usage())
	}
	return strings.Join(words, " ")
}

// exits lists the exit codes that the command may end with.
func (m *Command) exits() string {
	if m.Run == nil {
		return ""
	}
	codes := "0 1 2"
	if m.On != OnNothing {
		codes += " 3 4"
	}
	if m.Checks {
		codes += " 5"
	}
	return codes
}

// bounds returns how many arguments a command takes, at least and at most, and whether
// the first may be left out; most is -1 for any number.
func (m *Command) bounds() (least, most int, optional bool) {
	switch m.On {
	case OnRegistry, OnWhere, OnWhat:
		most, optional = 1, true
	case OnPlace, OnNamespace, OnRepository, OnImage, OnTags:
		least, most = 1, 1
	}
	for _, a := range m.Args {
		if !a.Optional {
			least++
		}
		switch {
		case a.Many:
			most = -1
		case most >= 0:
			most++
		}
	}
	return least, most, optional
}

// namesFirst reports whether the first of the arguments names what the command is on.
func (m *Command) namesFirst(r *Remote, args []string) bool {
	least, most, optional := m.bounds()
	switch {
	case m.On <= OnAny || len(args) == 0:
		return false
	case m.On == OnWhat && isDigest(args[0]):
		return false
	case !optional:
		return true
	case most < 0:
		return r.isAddress(args[0])
	}
	return len(args) > least
}

func isDigest(s string) bool {
	_, err := oci.ParseDigest(s)
	return err == nil
}

// mayHave refuses numbers of arguments that cannot be meant, and says which is missing.
func (m *Command) mayHave(c *cobra.Command, r *Remote, args []string) error {
	least, most, optional := m.bounds()
	var names []string
	if m.On > OnAny && !optional {
		names = append(names, m.On.argument())
	}
	for _, a := range m.Args {
		names = append(names, a.Name)
	}
	how := "it is used as: " + c.UseLine()
	given := len(args)
	// What names a registry is not what something in it is called.
	if optional && given > 0 && given <= least && r.isAddress(args[0]) {
		given--
	}
	if given < least {
		return term.Usage("%s is missing; %s", names[given], how)
	}
	if most >= 0 && len(args) > most {
		return term.Usage("there is nothing that %q could be; %s", args[most], how)
	}
	return nil
}

// aim finds out what a call is about.
func (r *Remote) aim(c *cobra.Command, m *Command, call *Call, args []string) error {
	if err := m.mayHave(c, r, args); err != nil {
		return err
	}
	call.Args = args
	if m.On <= OnAny {
		return nil
	}
	call.Place.Registry = r.DefaultRegistry()
	if m.namesFirst(r, args) {
		call.Args = args[1:]
		var err error
		switch m.On {
		case OnImage:
			call.Image, err = r.Target(args[0])
		case OnTags:
			call.Image, err = r.repositoryOrTag(args[0])
		case OnWhat:
			if call.Place, err = r.ReadPlace(args[0]); err != nil {
				if call.Image, err = r.Target(args[0]); err == nil {
					call.Place = Place{call.Image.Registry, call.Image.Name}
				}
			}
		default:
			call.Place, err = r.readAs(m.On, args[0])
		}
		if m.On == OnImage || m.On == OnTags {
			call.Place = Place{call.Image.Registry, call.Image.Name}
		}
		if err != nil {
			return err
		}
	}
	if call.Place.Registry == "" {
		return errNoRegistry()
	}
	client, err := r.API(c.Context(), call.Place.Registry)
	call.Site = Site{client, call.Place.Registry}
	return err
}
