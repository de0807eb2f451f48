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

// IsNamespace reports whether the place is a namespace.
func (p Place) IsNamespace() bool { return p.Name != "" && !strings.Contains(string(p.Name), "/") }

// String writes the place as it is read.
func (p Place) String() string {
	if p.Name == "" {
		return p.Registry
	}
	return p.Registry + "/" + string(p.Name)
}

// ReadPlace reads REGISTRY, REGISTRY/NAMESPACE or REGISTRY/NAMESPACE/REPOSITORY.
func (r *Remote) ReadPlace(s string) (Place, error) {
	plain, err := r.bare(s)
	if err != nil {
		return Place{}, err
	}
	if registry, err := oci.ParseRegistry(plain); err == nil {
		registry, err = r.withItsPort(registry)
		return Place{Registry: registry}, err
	}
	ref, err := r.Reference(s)
	if err != nil {
		return Place{}, err
	}
	if ref.Target() != "" {
		return Place{}, term.Usage("%s names an image; name the repository or the namespace alone, as in %s", s, ref.Repository())
	}
	return Place{ref.Registry, ref.Name}, nil
}

// readAs reads a place of a kind.
func (r *Remote) readAs(on On, s string) (Place, error) {
	p, err := r.ReadPlace(s)
	switch {
	case err != nil:
	case on == OnNamespace && !p.IsNamespace():
		err = term.Usage("%s is no namespace; name one as REGISTRY/NAMESPACE", s)
	case on == OnRepository && p.Name == "":
		err = term.Usage("%s is no repository; name one as REGISTRY/NAMESPACE/REPOSITORY", s)
	case on == OnRegistry && p.Name != "":
		err = term.Usage("%s names more than a registry; name the registry alone, as in %s", s, p.Registry)
	}
	return p, err
}

// Reference reads an argument that names something in a registry: in the default
// one where the argument names none.
func (r *Remote) Reference(s string) (oci.Reference, error) {
	plain, err := r.bare(s)
	if err != nil {
		return oci.Reference{}, err
	}
	ref, err := oci.ParseReference(plain)
	if err != nil {
		if registry := r.DefaultRegistry(); registry != "" && plain == s {
			if within, again := oci.ParseReference(registry + "/" + s); again == nil {
				return within, nil
			}
		}
		return ref, term.Usage("%w", err)
	}
	ref.Registry, err = r.withItsPort(ref.Registry)
	return ref, err
}

// Target reads an argument that must name a tag or a digest.
func (r *Remote) Target(s string) (oci.Reference, error) {
	ref, err := r.Reference(s)
	if err == nil && ref.Target() == "" {
		return ref, term.Usage("%s names no tag and no digest; say which one, as in %s:1.0.0", s, s)
	}
	return ref, err
}

// repositoryOrTag reads an argument that names a repository, or a tag of one.
func (r *Remote) repositoryOrTag(s string) (oci.Reference, error) {
	if p, err := r.ReadPlace(s); err == nil && p.Name == "" {
		_, err := r.readAs(OnRepository, s)
		return oci.Reference{}, err
	}
	return r.Reference(s)
}
