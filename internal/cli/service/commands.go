// Package service holds the commands that run a registry and look whether it does well.
package service

import (
	"github.com/spf13/cobra"

	"warthesis/internal/cli/site"
)

// Add adds the commands of this room.
func Add(root *cobra.Command, r *site.Remote) {
	r.Add(root, serveCommand(r.Version), demoCommand(r.Version), adminPasswordCommand(), doctorCommand(), settingsCommands())
}
