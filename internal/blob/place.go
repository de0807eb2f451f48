package blob

import (
	"crypto/rand"
	"strings"

	"warthesis/internal/oci"
)

// Place is where content lies: a file of its own for each time that it was placed, so
// that whatever takes one place late hits nothing else.
type Place struct {
	Digest oci.Digest
	// Suffix is what the file's name has behind the digest. It is random, and empty for
	// files of before there were places.
	Suffix string
}

// newPlace returns a place that nothing has.
func newPlace(d oci.Digest) Place { return Place{d, strings.ToLower(rand.Text()[:suffixLength])} }

// suffixLength makes it certain enough that no two places of one digest meet: five
// bits a character.
const suffixLength = 16

// path returns where the content of a checked digest lies.
func (s *Store) path(p Place) string {
	// The parts are clean already: it is asked for each request.
	hex := p.Digest.Encoded()
	at := s.root + "/blobs/" + p.Digest.Algorithm().String() + "/" + hex[:2] + "/" + hex
	if p.Suffix == "" {
		return at
	}
	return at + "." + p.Suffix
}
