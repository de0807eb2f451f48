package rights

import (
	"context"
	"net/http"
	"net/url"
	"strings"

	"github.com/gin-gonic/gin"

	"warthesis/internal/access/company"
	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/oci"
)

// Where the company's login begins and ends in a browser. The second is what the
// issuer must know as the registry's redirect address.
const (
	companyBegin = "/api/company/begin"
	companyEnd   = "/api/company/end"
)

// companyCookie binds a login to the browser in which it began.
const companyCookie = "warthesis_company"

var errNoCompany = oci.Errorf(oci.CodeNameUnknown, "this registry has no company login")

func (d *door) companyBegin(c *gin.Context) {
	if d.Company == nil {
		desk.Problem(c, errNoCompany)
		return
	}
	to := c.Query("to")
	base := d.Callers.Base(c)
	address, sealed, err := d.Company.Begin(c.Request.Context(), base.String()+companyEnd, ownPlace(to), d.Callers.Address(c))
	if err != nil {
		backToSignIn(c, err)
		return
	}
	http.SetCookie(c.Writer, &http.Cookie{
		Name: companyCookie, Value: sealed, Path: companyEnd, MaxAge: 600, HttpOnly: true, SameSite: http.SameSiteLaxMode, Secure: base.Scheme == "https",
	})
	c.Redirect(http.StatusFound, address)
}

func (d *door) companyEnd(c *gin.Context) {
	if d.Company == nil {
		desk.Problem(c, errNoCompany)
		return
	}
	sealed, err := c.Cookie(companyCookie)
	if err != nil || sealed == "" {
		backToSignIn(c, oci.Errorf(oci.CodeUnauthorized, "this login began in another browser, or took too long; begin again"))
		return
	}
	if said := c.Query("error"); said != "" {
		backToSignIn(c, oci.Errorf(oci.CodeUnauthorized, "the company's login says: %.200s %.200s", said, c.Query("error_description")))
		return
	}
	address := d.Callers.Address(c)
	caller, to, err := d.Company.End(c.Request.Context(), sealed, c.Query("state"), c.Query("code"), address)
	if err != nil {
		backToSignIn(c, err)
		return
	}
	caller.Address, caller.Request = address, d.Callers.RequestID(c)
	ctx := callers.WithBase(c.Request.Context(), d.Callers.Base(c))
	made, err := d.newSession(ctx, caller)
	if err != nil {
		backToSignIn(c, err)
		return
	}
	http.SetCookie(c.Writer, &made.Cookie)
	c.Redirect(http.StatusFound, to)
}

// ownPlace returns a place of this console to go to in the end: a path and a query,
// made anew from what they say, and the front page for everything else.
func ownPlace(to string) string {
	u, err := url.Parse(to)
	strange := strings.ContainsFunc(to, func(r rune) bool { return r <= ' ' || r == 0x7f || r == '\\' })
	if err != nil || strange || u.Scheme != "" || u.Host != "" || u.User != nil || u.Opaque != "" || !strings.HasPrefix(u.Path, "/") || strings.HasPrefix(u.Path, "//") {
		return "/"
	}
	own := url.URL{Path: u.Path, RawQuery: u.Query().Encode()}
	return own.String()
}

// backToSignIn shows in the console why a login did not work.
func backToSignIn(c *gin.Context, err error) {
	c.Redirect(http.StatusFound, "/sign-in?refused="+url.QueryEscape(desk.Refusal(err).Error()))
}

func (d *door) beginDevice(ctx context.Context, _ *struct{}) (*desk.Reply[api.Device], error) {
	if d.Company == nil {
		return nil, desk.Refusal(errNoCompany)
	}
	begun, err := d.Company.BeginDevice(ctx, callers.From(ctx).Address)
	return desk.OK(api.Device{
		Handle: begun.Handle, Interval: int(begun.Interval.Seconds()), UserCode: begun.UserCode, Address: begun.Address, Complete: begun.Complete,
	}, err)
}

func (d *door) endDevice(ctx context.Context, in *struct {
	Handle string `path:"handle" maxLength:"4096"`
	Body   struct {
		Name string `json:"name" minLength:"1" maxLength:"100" doc:"Where the login is used"`
	}
}) (*desk.Reply[api.DeviceOutcome], error) {
	if d.Company == nil {
		return nil, desk.Refusal(errNoCompany)
	}
	before := callers.From(ctx)
	caller, done, err := d.Company.EndDevice(ctx, in.Handle, before.Address)
	if err != nil || !done {
		return desk.OK(api.DeviceOutcome{}, err)
	}
	caller.Address, caller.Request = before.Address, before.Request
	t, secret, err := d.Access.NewLogin(ctx, caller, in.Body.Name, company.Life)
	return desk.OK(api.DeviceOutcome{Done: true, Token: &api.MadeToken{Token: tokenOf(t, caller.Account.Name), Secret: secret}}, err)
}
