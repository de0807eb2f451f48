package access

// MaySeeRuns refuses whoever may not see the work beside requests: those with a role
// on the registry may, by a token of any scope.
func (a *Access) MaySeeRuns(c Caller) error { return a.watcher(c, "runs", "the work beside requests") }
