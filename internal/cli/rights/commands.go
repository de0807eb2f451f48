// Package rights holds the commands about who may do what: logins, tokens, accounts,
// groups, roles, and the audit log.
package rights

import (
	"github.com/spf13/cobra"

	"warthesis/internal/cli/site"
)

// Add adds the commands of this room.
func Add(root *cobra.Command, r *site.Remote) {
	addLogin(root, r.T, r)
	addLogout(root, r.T, r)
	addWhoami(root, r.T, r)
	addTokens(root, r.T, r)
	addPullSecret(root, r.T, r)
	addHelper(root, r.T, r)
	addLogins(root, r.T, r)
	addGrant(root, r.T, r)
	addTeam(root, r.T, r)
	addAccounts(root, r.T, r)
	addGroups(root, r.T, r)
	addIdentityRules(root, r.T, r)
	addAudit(root, r.T, r)
}
