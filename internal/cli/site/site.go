package site

import (
	"github.com/spf13/cobra"

	"warthesis/internal/api"
)

// Site is the registry that a command is about, reached with its login.
type Site struct {
	*api.Client
	Registry string
}

// At is the work of a command that is about a registry: the first argument names
// it, or where there is none the default one is meant. What stands behind it is the rest.
func (r *Remote) At(do func(c *cobra.Command, at Site, rest []string) error) func(*cobra.Command, []string) error {
	return func(c *cobra.Command, args []string) error {
		first := min(1, len(args))
		registry, err := RegistryOr(args[:first])
		if err != nil {
			return err
		}
		client, err := r.API(c.Context(), registry)
		if err != nil {
			return err
		}
		return do(c, Site{client, registry}, args[first:])
	}
}

// In is the work of a command that is about a place, which the first argument names.
func (r *Remote) In(read func(string) (Place, error), do func(c *cobra.Command, at Site, p Place, rest []string) error) func(*cobra.Command, []string) error {
	return func(c *cobra.Command, args []string) error {
		p, err := read(args[0])
		if err != nil {
			return err
		}
		client, err := r.API(c.Context(), p.Registry)
		if err != nil {
			return err
		}
		return do(c, Site{client, p.Registry}, p, args[1:])
	}
}
