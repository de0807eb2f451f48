package company

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"golang.org/x/oauth2"

	"warthesis/internal/access"
	"warthesis/internal/oci"
)

// Device is what somebody at a terminal is told.
type Device struct {
	// Handle is asked for the outcome, every Interval.
	Handle   string
	Interval time.Duration
	// UserCode is to be entered at Address; Complete has it in it, where the issuer
	// gives one.
	UserCode, Address, Complete string
}

// waiting is a login of a terminal that waits for somebody to confirm it elsewhere.
type waiting struct {
	Code     string        `json:"c"`
	Interval time.Duration `json:"i"`
	Until    time.Time     `json:"u"`
}

// MaxHandle is the longest handle of a login of a terminal, in bytes.
const MaxHandle = 4096

// BeginDevice starts a login of a terminal (RFC 8628): somebody confirms it in a
// browser, anywhere.
func (k *Company) BeginDevice(ctx context.Context, address string) (Device, error) {
	leave, err := k.asking.Enter(address)
	if err != nil {
		return Device{}, err
	}
	defer leave()
	client, _, err := k.client(ctx, "")
	if err != nil {
		return Device{}, err
	}
	if client.Endpoint.DeviceAuthURL == "" {
		return Device{}, oci.Errorf(oci.CodeUnsupported, "the company's login has no way for terminals; make a token in the console and log in by that")
	}
	given, err := client.DeviceAuth(k.access.Asking(ctx))
	if err != nil {
		slog.Warn("the company's login begins no login of a terminal", "error", err)
		return Device{}, fmt.Errorf("%w: it begins no login of a terminal", access.ErrIssuer)
	}
	w := waiting{given.DeviceCode, time.Duration(max(1, given.Interval)) * time.Second, k.clock.Now().Add(loginPatience)}
	handle, err := k.seal.close(w)
	if err == nil && len(handle) > MaxHandle {
		err = fmt.Errorf("%w: its code is too long", access.ErrIssuer)
	}
	return Device{handle, w.Interval, given.UserCode, given.VerificationURI, given.VerificationURIComplete}, err
}

// deviceGrant is the grant of a login of a terminal (RFC 8628, section 3.4).
const deviceGrant = "urn:ietf:params:oauth:grant-type:device_code"

// EndDevice returns who confirmed a login of a terminal, or that nobody has yet. The
// issuer is asked no more often than it wants to be.
func (k *Company) EndDevice(ctx context.Context, handle, address string) (caller access.Caller, done bool, err error) {
	var w waiting
	if !k.seal.open(handle, &w) || k.clock.Now().After(w.Until) {
		return access.Caller{}, false, oci.Errorf(oci.CodeUnauthorized, "this login took too long or is over; begin again")
	}
	if !k.asked.after(w.Code, w.Interval) {
		return access.Caller{}, false, nil
	}
	leave, err := k.asking.Enter(address)
	if err != nil {
		return access.Caller{}, false, err
	}
	defer leave()
	client, p, err := k.client(ctx, "")
	if err != nil {
		return access.Caller{}, false, err
	}
	token, err := client.Exchange(k.access.Asking(ctx), "", oauth2.SetAuthURLParam("grant_type", deviceGrant), oauth2.SetAuthURLParam("device_code", w.Code))
	var refused *oauth2.RetrieveError
	switch {
	case errors.As(err, &refused) && (refused.ErrorCode == "authorization_pending" || refused.ErrorCode == "slow_down"):
		return access.Caller{}, false, nil
	case err != nil:
		return access.Caller{}, false, oci.Errorf(oci.CodeUnauthorized, "the login was not confirmed; begin again")
	}
	caller, err = k.who(ctx, p, token, "")
	return caller, err == nil, err
}
