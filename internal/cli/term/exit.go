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
)

// UsageError is a command line that cannot be meant.
type UsageError struct{ error }

// Unwrap returns what is wrong with it.
func (e UsageError) Unwrap() error { return e.error }

// Usage returns an error that says how the command is to be used.
func Usage(format string, args ...any) error { return UsageError{fmt.Errorf(format, args...)} }

// ExitCode says by number what went wrong, for scripts.
func ExitCode(err error) int {
	var wrongUse UsageError
	switch {
	case errors.As(err, &wrongUse):
		return exitUsage
	case errors.Is(err, oci.CodeUnauthorized), errors.Is(err, oci.CodeDenied):
		return exitRefused
	case errors.Is(err, oci.CodeNameUnknown), errors.Is(err, oci.CodeManifestUnknown), errors.Is(err, oci.CodeBlobUnknown):
		return exitNotFound
	}
	return ExitFailed
}
