// Package service holds the commands that run a registry and look whether it does well.
package service

import (
	"github.com/spf13/cobra"

	"warthesis/internal/cli/site"
)

// Add adds the commands of this room.
func Add(root *cobra.Command, r *site.Remote) {
	addServe(root, r.T, r.Version)
	addAdminPassword(root, r.T)
	addDemo(root, r.T, r.Version)
	addDoctor(root, r.T, r)
	addSettings(root, r.T, r)
}
