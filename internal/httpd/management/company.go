package management

import (
	"context"
	"net/http"
	"net/url"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"warthesis/internal/access"
	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// Where the company's login begins and ends in a browser. The second is what the
// issuer must know as the registry's redirect address.
const (
	companyBegin = "/api/company/begin"
	companyEnd   = "/api/company/end"
)

// companyCookie binds a login to the browser in which it began.
const companyCookie = "warthesis_company"

// registerCompany registers the company's login and the trade of identities.
func (d *door) registerCompany(router gin.IRouter, a huma.API) {
	router.GET(companyBegin, d.companyBegin)
	router.GET(companyEnd, d.companyEnd)
	at := func(method, path, id, summary string) huma.Operation {
		return huma.Operation{Method: method, Path: "/api/v1" + path, OperationID: id, Summary: summary}
	}
	huma.Register(a, at(http.MethodPost, "/company/device", "begin-device", "Begin a login of a terminal by the company's login"), d.beginDevice)
	huma.Register(a, at(http.MethodPost, "/company/device/{handle}", "end-device", "Ask whether a login of a terminal was confirmed"), d.endDevice)
	huma.Register(a, at(http.MethodPost, "/identity", "trade-identity", "Trade an identity of an issuer for a short token of a machine account"), d.tradeIdentity)
	huma.Register(a, at(http.MethodGet, "/identity-rules", "identity-rules", "List identity rules"), d.identityRules)
	huma.Register(a, at(http.MethodPost, "/identity-rules", "make-identity-rule", "Make an identity rule"), d.makeIdentityRule)
	huma.Register(a, at(http.MethodDelete, "/identity-rules/{name}", "remove-identity-rule", "Remove an identity rule"), d.removeIdentityRule)
}

var errNoCompany = oci.Errorf(oci.CodeNameUnknown, "this registry has no company login")

func (d *door) companyBegin(c *gin.Context) {
	if d.Company == nil {
		problem(c, errNoCompany)
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
		problem(c, errNoCompany)
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
	c.Redirect(http.StatusFound, "/sign-in?refused="+url.QueryEscape(refusal(err).Error()))
}

func (d *door) beginDevice(ctx context.Context, _ *struct{}) (*reply[api.Device], error) {
	if d.Company == nil {
		return nil, refusal(errNoCompany)
	}
	begun, err := d.Company.BeginDevice(ctx, callers.From(ctx).Address)
	return ok(api.Device{
		Handle: begun.Handle, Interval: int(begun.Interval.Seconds()), UserCode: begun.UserCode, Address: begun.Address, Complete: begun.Complete,
	}, err)
}

func (d *door) endDevice(ctx context.Context, in *struct {
	Handle string `path:"handle" maxLength:"4096"`
	Body   struct {
		Name string `json:"name" minLength:"1" maxLength:"100" doc:"Where the login is used"`
	}
}) (*reply[api.DeviceOutcome], error) {
	if d.Company == nil {
		return nil, refusal(errNoCompany)
	}
	before := callers.From(ctx)
	caller, done, err := d.Company.EndDevice(ctx, in.Handle, before.Address)
	if err != nil || !done {
		return ok(api.DeviceOutcome{}, err)
	}
	caller.Address, caller.Request = before.Address, before.Request
	t, secret, err := d.Access.NewLogin(ctx, caller, in.Body.Name, access.CompanyLife)
	return ok(api.DeviceOutcome{Done: true, Token: &api.MadeToken{Token: tokenOf(t, caller.Account.Name), Secret: secret}}, err)
}

func (d *door) tradeIdentity(ctx context.Context, in *struct{ Body api.Identity }) (*reply[api.ShortToken], error) {
	before := callers.From(ctx)
	caller, err := d.Access.Trade(ctx, in.Body.Identity, before.Address)
	if err != nil {
		return nil, refusal(err)
	}
	bearer, err := d.Access.GiveShort(caller)
	return ok(api.ShortToken{Account: caller.Account.Name, Secret: bearer.Token, EndsAt: bearer.Issued.Add(bearer.Life).UTC()}, err)
}

func (d *door) identityRules(ctx context.Context, _ *struct{}) (*reply[api.IdentityRuleList], error) {
	rules, names, err := d.Access.IdentityRules(callers.From(ctx))
	list := api.IdentityRuleList{Rules: []api.IdentityRule{}}
	for _, r := range rules {
		list.Rules = append(list.Rules, api.IdentityRule{Name: r.Name, Issuer: r.Issuer, Audience: r.Audience, Subject: r.Subject, Account: names[r.AccountID]})
	}
	return ok(list, err)
}

func (d *door) makeIdentityRule(ctx context.Context, in *struct{ Body api.IdentityRule }) (*none, error) {
	b := in.Body
	return done(d.Access.MakeIdentityRule(ctx, callers.From(ctx), record.IdentityRule{Name: b.Name, Issuer: b.Issuer, Audience: b.Audience, Subject: b.Subject}, b.Account))
}

func (d *door) removeIdentityRule(ctx context.Context, in *struct{ NameInput }) (*none, error) {
	return done(d.Access.RemoveIdentityRule(ctx, callers.From(ctx), in.Name))
}
