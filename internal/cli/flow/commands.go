// Package flow holds the commands about what travels between registries.
package flow

import (
	"github.com/spf13/cobra"

	"warthesis/internal/cli/site"
)

// Add adds the commands of this room.
func Add(root *cobra.Command, r *site.Remote) {
	r.Add(root, peerCommands(), followCommands(), replicationCommands(), importCommand(), importsCommands())
}
