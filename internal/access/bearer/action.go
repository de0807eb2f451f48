package bearer

// Action is what somebody wants to do with a repository or a namespace.
type Action string

// The actions, as scopes have them.
const (
	Pull   Action = "pull"
	Push   Action = "push"
	Delete Action = "delete"
	// Manage is to change members and settings.
	Manage Action = "manage"
)
