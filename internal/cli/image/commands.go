// Package image holds the commands that move images and look at them.
package image

import (
	"github.com/spf13/cobra"

	"warthesis/internal/cli/site"
)

// Add adds the commands of this room.
func Add(root *cobra.Command, r *site.Remote) {
	r.Add(root, pushCommand(), pullCommand(), listCommand(), showCommand(), identifyCommand(), waitCommand(), nextCommand(), tagCommands(), reservationCommands(), removeCommand(), pinCommand(), findCommand())
}
