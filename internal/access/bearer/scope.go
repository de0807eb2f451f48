package bearer

import "strings"

// AskedScope is what somebody asks a bearer token for.
type AskedScope struct {
	Type    string
	Name    string
	Actions []Action
}

// String writes the scope as challenges do.
func (s AskedScope) String() string {
	words := make([]string, len(s.Actions))
	for i, a := range s.Actions {
		words[i] = string(a)
	}
	return s.Type + ":" + s.Name + ":" + strings.Join(words, ",")
}

// The types of scopes, and the name of the one that lists repositories.
const (
	ScopeRepository = "repository"
	ScopeRegistry   = "registry"
	CatalogueName   = "catalog"
	// CatalogueKey is how the scope of listing is found among those given: no
	// repository's name has a colon.
	CatalogueKey = ":" + ScopeRegistry + ":" + CatalogueName
)

// ScopeKey is how a scope is found among those given: that of a repository by its
// name, without putting together a text for each request.
func ScopeKey(kind, name string) string {
	if kind == ScopeRepository {
		return name
	}
	return ":" + kind + ":" + name
}

// CatalogueScope is the scope of listing repositories.
var CatalogueScope = AskedScope{ScopeRegistry, CatalogueName, []Action{Everything}}

// Everything is how clients ask for all actions.
const Everything Action = "*"

// ParseScope reads a scope of a challenge, "repository:name:pull,push". Actions
// that nobody knows are passed over.
func ParseScope(s string) (AskedScope, bool) {
	kind, rest, ok := strings.Cut(s, ":")
	colon := strings.LastIndexByte(rest, ':')
	if !ok || colon < 0 || len(s) > 1024 {
		return AskedScope{}, false
	}
	asked := AskedScope{Type: kind, Name: rest[:colon]}
	for word := range strings.SplitSeq(rest[colon+1:], ",") {
		switch a := Action(word); a {
		case Pull, Push, Delete, Everything:
			asked.Actions = append(asked.Actions, a)
		}
	}
	return asked, true
}
