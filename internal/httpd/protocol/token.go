package protocol

import (
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"warthesis/internal/access"
	"warthesis/internal/access/bearer"
	"warthesis/internal/oci"
)

// TokenPath is where bearer tokens are given out.
const TokenPath = "/api/token"

// bearerAnswer is what clients expect of a token endpoint: the token under both
// names in use.
type bearerAnswer struct {
	Token       string    `json:"token"`
	AccessToken string    `json:"access_token"`
	ExpiresIn   int       `json:"expires_in"`
	IssuedAt    time.Time `json:"issued_at"`
	Scope       string    `json:"scope,omitempty"`
	TokenType   string    `json:"token_type,omitempty"`
}

// getToken answers the token endpoint by GET: credentials in the header, or none,
// and scopes as parameters.
func (d *Door) getToken(c *gin.Context) error {
	caller, err := d.callers.Of(c)
	if err != nil {
		return tooSoon(c, err)
	}
	return d.giveToken(c, caller, c.QueryArray("scope"))
}

// formLimit bounds a form in bytes.
const formLimit = 64 << 10

// postToken answers the token endpoint by POST: a form with a grant by password or
// by a refresh token, which here is any of the registry's tokens (RFC 6749).
func (d *Door) postToken(c *gin.Context) error {
	c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, formLimit)
	if err := c.Request.ParseForm(); err != nil {
		return oci.Errorf(oci.CodeQueryInvalid, "the form cannot be read")
	}
	form, address := c.Request.PostForm, d.callers.Address(c)
	var caller access.Caller
	var err error
	switch grant := form.Get("grant_type"); grant {
	case "password":
		caller, err = d.access.Password(c.Request.Context(), form.Get("username"), form.Get("password"), address)
	case "refresh_token":
		caller, err = d.access.Session(c.Request.Context(), form.Get("refresh_token"), address)
	case "":
		caller, err = d.callers.Of(c)
	default:
		return oci.Errorf(oci.CodeQueryInvalid, "the grant_type %.40q is not known here; use password or refresh_token", grant)
	}
	if err != nil {
		return tooSoon(c, err)
	}
	caller.Address = address
	return d.giveToken(c, caller, form["scope"])
}

func (d *Door) giveToken(c *gin.Context, caller access.Caller, scopes []string) error {
	var asked []bearer.AskedScope
	for _, several := range scopes {
		for _, one := range strings.Fields(several) {
			if s, ok := bearer.ParseScope(one); ok {
				asked = append(asked, s)
			}
		}
	}
	bearer, err := d.access.Give(c.Request.Context(), caller, asked)
	if err != nil {
		return err
	}
	c.Header("Cache-Control", "no-store")
	c.JSON(http.StatusOK, bearerAnswer{
		Token: bearer.Token, AccessToken: bearer.Token, ExpiresIn: int(bearer.Life.Seconds()), IssuedAt: bearer.Issued.UTC(),
		Scope: strings.Join(scopes, " "), TokenType: "Bearer",
	})
	return nil
}

// serveToken is serve for the token endpoint.
func (d *Door) serveToken(c *gin.Context) {
	answer := d.getToken
	if c.Request.Method == http.MethodPost {
		answer = d.postToken
	}
	if err := answer(c); err != nil {
		refuse(c, d.callers.RequestID(c), err)
	}
}
