// Package rights holds the commands about who may do what: logins, tokens, accounts,
// groups, roles, and the audit log.
package rights

import (
	"github.com/spf13/cobra"

	"warthesis/internal/cli/site"
)

// Add adds the commands of this room.
func Add(root *cobra.Command, r *site.Remote) {
	r.Add(root, loginCommand(), logoutCommand(), whoamiCommand(), tokenCommands(), pullSecretCommand(), loginsCommands(),
		grantCommand(), ungrantCommand(), membersCommand(), teamCommands(), accountCommands(), groupCommands(), identityCommands(),
		auditCommand(), keysCommands(), helperCommands())
}
