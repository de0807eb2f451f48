// Package trust holds the commands about whom to believe.
package trust

import (
	"github.com/spf13/cobra"

	"warthesis/internal/cli/site"
)

// Add adds the commands of this room.
func Add(root *cobra.Command, r *site.Remote) {
	r.Add(root, trustCommand())
}
