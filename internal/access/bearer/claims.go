package bearer

import (
	"strings"

	"github.com/golang-jwt/jwt/v5"

	"warthesis/internal/oci"
)

// GrantedScope is what a bearer token was asked for in one repository, and of that
// was given. What was asked and not given stands there with no actions, so that a
// client is not sent for the same token again.
type GrantedScope struct {
	Type    string   `json:"type"`
	Name    string   `json:"name"`
	Actions []Action `json:"actions"`
}

// BearerClaims is what a bearer token says (RFC 7519).
type BearerClaims struct {
	jwt.RegisteredClaims
	// Credential names what it was got for; it must still be good at each use.
	Credential string         `json:"cred,omitempty"`
	Access     []GrantedScope `json:"access,omitempty"`
	// Whole tells that the token stands for its credential as a whole.
	Whole bool `json:"whole,omitempty"`
}

// LooksLikeBearer tells a token that was signed from a password: all begin so.
func LooksLikeBearer(s string) bool { return strings.HasPrefix(s, "eyJ") && strings.Count(s, ".") == 2 }

// ErrBearer is the refusal of a token that is not good.
var ErrBearer = oci.Errorf(oci.CodeUnauthorized, "the bearer token is not good any more; ask the token endpoint for another")
