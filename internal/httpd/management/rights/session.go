package rights

import (
	"context"
	"net/http"
	"time"

	"warthesis/internal/access"
	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/record"
)

// sessionLife is how long a sign-in to the console lasts.
const sessionLife = 12 * time.Hour

type sessionReply struct {
	Cookie http.Cookie `header:"Set-Cookie"`
	Body   api.Me
}

func (d *door) signIn(ctx context.Context, in *struct{ Body api.SignIn }) (*sessionReply, error) {
	before := callers.From(ctx)
	caller, err := d.Access.Password(ctx, in.Body.Account, in.Body.Password, before.Address)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	caller.Request = before.Request
	return d.newSession(ctx, caller)
}

// newSession signs an account in to the console.
func (d *door) newSession(ctx context.Context, caller access.Caller) (*sessionReply, error) {
	session, secret, err := d.Access.MakeToken(ctx, caller, access.NewToken{Kind: record.TokenSession, Name: "console", Life: sessionLife})
	if err != nil {
		return nil, desk.Refusal(err)
	}
	me, err := d.meOf(ctx, caller)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	// It ends with what was given in place of a password, where that is sooner.
	life := time.Duration(session.EndsAt - session.CreatedAt)
	return &sessionReply{sessionCookie(ctx, secret, max(1, int(life.Seconds()))), me}, nil
}

func sessionCookie(ctx context.Context, secret string, seconds int) http.Cookie {
	return http.Cookie{
		Name: callers.SessionCookie, Value: secret, Path: "/api/", MaxAge: seconds, HttpOnly: true,
		SameSite: http.SameSiteLaxMode, Secure: callers.BaseOf(ctx).Scheme == "https",
	}
}

type cookieReply struct {
	Cookie http.Cookie `header:"Set-Cookie"`
}

func (d *door) signOut(ctx context.Context, _ *struct{}) (*cookieReply, error) {
	if err := d.Access.SignOut(ctx, callers.From(ctx)); err != nil {
		return nil, desk.Refusal(err)
	}
	return &cookieReply{sessionCookie(ctx, "", -1)}, nil
}
