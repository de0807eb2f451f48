// Package carried holds the commands about what is carried over by list: packing lists, copies
// and parcels.
package carried

import (
	"github.com/spf13/cobra"

	"warthesis/internal/cli/site"
)

// Add adds the commands of this room.
func Add(root *cobra.Command, r *site.Remote) {
	r.Add(root, packingCommands(), copyCommand(), copiesCommands(), parcelCommands(), arrivalCommands(), tellClientsCommand())
}
