package term

import (
	"errors"
	"fmt"

	"warthesis/internal/oci"
)

// Exit codes.
const (
	ExitDone     = 0
	ExitFailed   = 1
	exitUsage    = 2
	exitRefused  = 3
	exitNotFound = 4
	exitNotRight = 5
)

// ExitCodes says what the exit codes mean, in their order.
var ExitCodes = []string{
	ExitDone: "done", ExitFailed: "failed", exitUsage: "wrong use", exitRefused: "refused by a right or a rule",
	exitNotFound: "not there", exitNotRight: "checked, and not as it should be",
}

// UsageError is a command line that cannot be meant.
type UsageError struct{ error }

// Unwrap returns what is wrong with it.
func (e UsageError) Unwrap() error { return e.error }

// Usage returns an error that says how the command is to be used.
func Usage(format string, args ...any) error { return UsageError{fmt.Errorf(format, args...)} }

// notRight is a check that found something wrong.
type notRight struct{ error }

// Unwrap returns what is wrong.
func (e notRight) Unwrap() error { return e.error }

// NotRight returns an error of a check: what was checked is not as it should be.
func NotRight(format string, args ...any) error { return notRight{fmt.Errorf(format, args...)} }

// ExitCode says by number what went wrong, for scripts.
func ExitCode(err error) int {
	var wrongUse UsageError
	var wrong notRight
	switch {
	case errors.As(err, &wrongUse):
		return exitUsage
	case errors.As(err, &wrong), errors.Is(err, oci.CodeTagMoved):
		return exitNotRight
	case errors.Is(err, oci.CodeUnauthorized), errors.Is(err, oci.CodeDenied):
		return exitRefused
	case errors.Is(err, oci.CodeNameUnknown), errors.Is(err, oci.CodeManifestUnknown), errors.Is(err, oci.CodeBlobUnknown):
		return exitNotFound
	case errors.Is(err, oci.CodeQueryInvalid), errors.Is(err, oci.CodeNameInvalid), errors.Is(err, oci.CodeTagInvalid):
		return exitUsage
	}
	return ExitFailed
}
