package term

// Groups of commands in the help.
const (
	GroupImages = "images"
	GroupLook   = "look"
	GroupNames  = "names"
	GroupRights = "rights"
	GroupFlow   = "flow"
	GroupRun    = "run"
)
