package protocol

import (
	"context"
	"errors"
	"log/slog"
	"net/http"

	"github.com/gin-gonic/gin"

	"warthesis/internal/oci"
)

// statuses translates kinds of refusals to status codes, here and nowhere else
// (distribution-spec, "Error Codes").
var statuses = map[oci.Code]int{
	oci.CodeBlobUnknown:         http.StatusNotFound,
	oci.CodeBlobUploadInvalid:   http.StatusBadRequest,
	oci.CodeBlobUploadUnknown:   http.StatusNotFound,
	oci.CodeDigestInvalid:       http.StatusBadRequest,
	oci.CodeManifestBlobUnknown: http.StatusNotFound,
	oci.CodeManifestInvalid:     http.StatusBadRequest,
	oci.CodeManifestUnknown:     http.StatusNotFound,
	oci.CodeNameInvalid:         http.StatusBadRequest,
	oci.CodeNameUnknown:         http.StatusNotFound,
	oci.CodeSizeInvalid:         http.StatusBadRequest,
	oci.CodeUnauthorized:        http.StatusUnauthorized,
	oci.CodeDenied:              http.StatusForbidden,
	oci.CodeUnsupported:         http.StatusMethodNotAllowed,
	oci.CodeTooManyRequests:     http.StatusTooManyRequests,
	oci.CodeTagInvalid:          http.StatusBadRequest,
	oci.CodeQueryInvalid:        http.StatusBadRequest,
	oci.CodeRangeInvalid:        http.StatusRequestedRangeNotSatisfiable,
	oci.CodeManifestTooLarge:    http.StatusRequestEntityTooLarge,
	oci.CodeInUse:               http.StatusConflict,
	oci.CodeTagMoved:            http.StatusPreconditionFailed,
	oci.CodeBlobTooLarge:        http.StatusRequestEntityTooLarge,
	oci.CodeUnavailable:         http.StatusServiceUnavailable,
	oci.CodeLoop:                http.StatusLoopDetected,
	oci.CodeStorageFull:         http.StatusInsufficientStorage,
	oci.CodeStorageFault:        http.StatusInternalServerError,
}

type errorBody struct {
	Errors []errorEntry `json:"errors"`
}

type errorEntry struct {
	Code    oci.Code `json:"code"`
	Message string   `json:"message"`
	Detail  any      `json:"detail,omitempty"`
}

// refuse answers with an error in the form of the standard. An error without a
// kind is the registry's own: it is logged, and the caller gets its request ID.
func refuse(c *gin.Context, requestID string, err error) {
	var known *oci.Error
	if !errors.As(err, &known) {
		if !errors.Is(err, context.Canceled) {
			slog.Error("a request failed", "request", requestID, "method", c.Request.Method, "path", c.Request.URL.Path, "error", err)
		}
		c.JSON(http.StatusInternalServerError, errorBody{[]errorEntry{{
			Code:    "INTERNAL_ERROR",
			Message: "the registry failed; whoever runs it finds the reason in its log under request " + requestID,
		}}})
		return
	}
	status, ok := statuses[known.Code]
	if !ok {
		status = http.StatusInternalServerError
	}
	c.JSON(status, errorBody{[]errorEntry{{known.Code, known.Message, known.Detail}}})
}
