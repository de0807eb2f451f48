package term

import (
	"fmt"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// once is a flag's value that is given once; given twice, one of the two would go
// without a word. Values that are lists gather.
type once struct {
	pflag.Value
	name  string
	given bool
}

// Set takes the value.
func (o *once) Set(s string) error {
	if !o.given {
		o.given = true
		return o.Value.Set(s)
	}
	if o.Type() == "list" {
		return o.Value.Set(o.String() + "," + s)
	}
	return fmt.Errorf("--%s is given twice", o.name)
}

// onlyOnce lets each flag that is no list be given once.
func onlyOnce(flags *pflag.FlagSet) {
	flags.VisitAll(func(f *pflag.Flag) {
		_, gathers := f.Value.(pflag.SliceValue)
		if _, already := f.Value.(*once); !already && !gathers && f.Value.Type() != "bool" {
			f.Value = &once{Value: f.Value, name: f.Name}
		}
	})
}

// CheckArguments makes wrong numbers of arguments wrong use, on every command; one
// that only holds others says which it has.
func CheckArguments(parent *cobra.Command) {
	onlyOnce(parent.PersistentFlags())
	for _, c := range parent.Commands() {
		onlyOnce(c.Flags())
		if c.HasSubCommands() {
			CheckArguments(c)
		}
		if c.HasSubCommands() && c.RunE == nil {
			c.Args = func(c *cobra.Command, args []string) error {
				if len(args) > 0 {
					return Usage("there is no command %q; %s --help lists them", c.Name()+" "+args[0], c.CommandPath())
				}
				return nil
			}
			c.RunE = func(c *cobra.Command, _ []string) error { return c.Help() }
			continue
		}
		c.Args = asUsage(c.Args)
	}
}

// asUsage makes wrong numbers of arguments wrong use.
func asUsage(check cobra.PositionalArgs) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if check == nil {
			check = cobra.NoArgs
		}
		if err := check(c, args); err != nil {
			return Usage("%w; it is used as: %s", err, c.UseLine())
		}
		return nil
	}
}
