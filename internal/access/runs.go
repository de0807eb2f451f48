package access

import "warthesis/internal/record"

// MaySeeRuns refuses whoever may not see the work beside requests: those with a role
// on the registry may, by a token that covers pulling everywhere.
func (a *Access) MaySeeRuns(c Caller) error { return a.watcher(c, "runs", "the work beside requests") }

// MaySeePeers refuses whoever may not see the other registries that this one talks to: those
// with a role on the registry may.
func (a *Access) MaySeePeers(c Caller) error {
	return a.watcher(c, "peers", "the other registries that this one talks to")
}

// SeesRuns is MaySeeRuns where nothing is refused, and nothing logged.
func (a *Access) SeesRuns(c Caller) bool {
	return c.covers("", Pull) && (!c.Limited || inScopes(c.Token.Scopes, "*", Pull)) && RegistryRole(a.records.Rights(), c.Account) != record.NoRole
}
