// Package upkeep holds the commands about what keeps a registry in order.
package upkeep

import (
	"github.com/spf13/cobra"

	"warthesis/internal/cli/site"
)

// Add adds the commands of this room.
func Add(root *cobra.Command, r *site.Remote) {
	r.Add(root, rulesCommands(), retentionCommands(), inUseCommands(), usageCommands(), growthCommands(), trafficCommands(), quotaCommands(), removalCommands(), runsCommands(), sweepCommands(), scrubCommand(), hurtCommands(), explainCommand(), eraseCommand(), banCommands())
}
