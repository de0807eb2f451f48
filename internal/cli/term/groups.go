package term

// Groups of commands in the help.
const (
	GroupImages = "images"
	GroupLook   = "look"
	GroupRights = "rights"
	GroupRun    = "run"
)
