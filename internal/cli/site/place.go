package site

import (
	"strings"

	"warthesis/internal/cli/term"
	"warthesis/internal/oci"
)

// Place is a registry, a namespace or a repository, as commands name it.
type Place struct {
	Registry string
	// Name is "" for the registry.
	Name oci.Name
}

// ReadPlace reads REGISTRY, REGISTRY/NAMESPACE or REGISTRY/NAMESPACE/REPOSITORY.
func ReadPlace(s string) (Place, error) {
	if registry, err := oci.ParseRegistry(s); err == nil {
		return Place{Registry: registry}, nil
	}
	ref, err := Reference(s)
	if err != nil {
		return Place{}, err
	}
	if ref.Target() != "" {
		return Place{}, term.Usage("%s names an image; name the repository or the namespace alone", s)
	}
	return Place{ref.Registry, ref.Name}, nil
}

// NamespacePlace reads an argument that must name a namespace.
func NamespacePlace(s string) (Place, error) {
	p, err := ReadPlace(s)
	if err == nil && (p.Name == "" || strings.Contains(string(p.Name), "/")) {
		err = term.Usage("%s is no namespace; name one as REGISTRY/NAMESPACE", s)
	}
	return p, err
}

// RepositoryPlace reads an argument that must name a repository.
func RepositoryPlace(s string) (Place, error) {
	p, err := ReadPlace(s)
	if err == nil && p.Name == "" {
		err = term.Usage("%s is no repository; name one as REGISTRY/NAMESPACE/REPOSITORY", s)
	}
	return p, err
}

// String writes the place as it is read.
func (p Place) String() string {
	if p.Name == "" {
		return p.Registry
	}
	return p.Registry + "/" + string(p.Name)
}
