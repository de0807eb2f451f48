// Package names holds the commands about namespaces and repositories.
package names

import (
	"github.com/spf13/cobra"

	"warthesis/internal/cli/site"
)

// Add adds the commands of this room.
func Add(root *cobra.Command, r *site.Remote) {
	r.Add(root, placeCommands(namespaceKind), placeCommands(repositoryKind))
}
