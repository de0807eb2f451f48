package desk

import (
	"context"
	"errors"
	"log/slog"
	"math"
	"net/http"
	"strconv"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"warthesis/internal/access"
	"warthesis/internal/access/passwords"
	"warthesis/internal/api"
	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// tooSoon is the refusal of a try that came too soon.
func tooSoon(slow *passwords.SlowDown) error {
	header := http.Header{"Retry-After": {strconv.Itoa(int(math.Ceil(slow.After.Seconds())))}}
	return huma.ErrorWithHeaders(huma.Error429TooManyRequests(slow.Error()), header)
}

// Reply is an answer with a body.
type Reply[T any] struct {
	Body T
}

// OK answers with a body, or with the refusal.
func OK[T any](body T, err error) (*Reply[T], error) {
	if err != nil {
		return nil, Refusal(err)
	}
	return &Reply[T]{body}, nil
}

// Refusal translates kinds of errors to problem details.
func Refusal(err error) error {
	var known *oci.Error
	var slow *passwords.SlowDown
	if errors.As(err, &slow) {
		return tooSoon(slow)
	}
	if errors.Is(err, record.ErrNotFound) {
		return huma.Error404NotFound("there is nothing of that name here")
	}
	if errors.Is(err, access.ErrIssuer) {
		return huma.Error502BadGateway(err.Error())
	}
	if errors.Is(err, context.Canceled) {
		return huma.Error503ServiceUnavailable("the request was broken off")
	}
	if !errors.As(err, &known) {
		slog.Error("a request of the management API failed", "error", err)
		return huma.Error500InternalServerError("the registry failed; whoever runs it finds the reason in its log")
	}
	switch known.Code {
	case oci.CodeUnauthorized:
		return huma.Error401Unauthorized(known.Message)
	case oci.CodeDenied:
		return huma.Error403Forbidden(known.Message)
	case oci.CodeInUse:
		return huma.Error409Conflict(known.Message)
	case oci.CodeTagMoved:
		return huma.Error412PreconditionFailed(known.Message)
	case oci.CodeNameUnknown, oci.CodeManifestUnknown, oci.CodeBlobUnknown:
		return huma.Error404NotFound(known.Message)
	case oci.CodeStorageFull:
		return huma.NewError(http.StatusInsufficientStorage, known.Message)
	case oci.CodeUnavailable:
		return huma.Error503ServiceUnavailable(known.Message)
	case oci.CodeTooManyRequests:
		return huma.ErrorWithHeaders(huma.Error429TooManyRequests(known.Message), http.Header{"Retry-After": {"5"}})
	case oci.CodeNameInvalid, oci.CodeTagInvalid, oci.CodeDigestInvalid, oci.CodeQueryInvalid:
		return huma.Error422UnprocessableEntity(known.Message)
	}
	slog.Error("a request of the management API failed", "error", err)
	return huma.Error500InternalServerError(known.Message)
}

// None is an answer without a body.
type None struct{}

// Done answers what has no body.
func Done(err error) (*None, error) {
	if err != nil {
		return nil, Refusal(err)
	}
	return &None{}, nil
}

// Problem answers before the API library has the request.
func Problem(c *gin.Context, err error) {
	err = Refusal(err)
	var said huma.StatusError
	errors.As(err, &said)
	var headed huma.HeadersError
	if errors.As(err, &headed) {
		for name, values := range headed.GetHeaders() {
			c.Writer.Header()[name] = values
		}
	}
	c.Header("Content-Type", "application/problem+json")
	c.AbortWithStatusJSON(said.GetStatus(), api.Problem{Title: http.StatusText(said.GetStatus()), Status: said.GetStatus(), Detail: said.Error()})
}
