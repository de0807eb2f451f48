package oci

import "fmt"

// Code is an error code of the distribution protocol (distribution-spec, "Error
// Codes"). It is itself an error, so that callers test errors with
// errors.Is(err, oci.CodeBlobUnknown).
type Code string

// The codes of the standard, and below them the few that it leaves open: it
// allows a registry codes of its own in capital letters.
const (
	CodeBlobUnknown         Code = "BLOB_UNKNOWN"
	CodeBlobUploadInvalid   Code = "BLOB_UPLOAD_INVALID"
	CodeBlobUploadUnknown   Code = "BLOB_UPLOAD_UNKNOWN"
	CodeDigestInvalid       Code = "DIGEST_INVALID"
	CodeManifestBlobUnknown Code = "MANIFEST_BLOB_UNKNOWN"
	CodeManifestInvalid     Code = "MANIFEST_INVALID"
	CodeManifestUnknown     Code = "MANIFEST_UNKNOWN"
	CodeNameInvalid         Code = "NAME_INVALID"
	CodeNameUnknown         Code = "NAME_UNKNOWN"
	CodeSizeInvalid         Code = "SIZE_INVALID"
	CodeUnauthorized        Code = "UNAUTHORIZED"
	CodeDenied              Code = "DENIED"
	CodeUnsupported         Code = "UNSUPPORTED"
	CodeTooManyRequests     Code = "TOOMANYREQUESTS"

	// CodeTagInvalid: a tag outside the grammar.
	CodeTagInvalid Code = "TAG_INVALID"
	// CodeRangeInvalid: a chunk or a range that does not fit what is there.
	CodeRangeInvalid Code = "RANGE_INVALID"
	// CodeQueryInvalid: a query parameter that cannot be read.
	CodeQueryInvalid Code = "QUERY_INVALID"
	// CodeManifestTooLarge: a manifest above the limit of the registry.
	CodeManifestTooLarge Code = "MANIFEST_TOO_LARGE"
	// CodeInUse: content that something else names and that therefore stays.
	CodeInUse Code = "CONTENT_IN_USE"
	// CodeTagMoved: a tag is not what the caller said that it has to be.
	CodeTagMoved Code = "TAG_MOVED"
	// CodeBlobTooLarge: a blob above the limit of the registry.
	CodeBlobTooLarge Code = "BLOB_TOO_LARGE"
	// CodeUnavailable: it would have to come from another registry, which does not answer.
	CodeUnavailable Code = "UNAVAILABLE"
	// CodeLoop: registries that follow each other ask round in a circle.
	CodeLoop Code = "LOOP"
	// CodeStorageFull: the registry has no room for content.
	CodeStorageFull Code = "STORAGE_FULL"
	// CodeDistrusted: a connection that is not believed, or leads nowhere. It is never
	// sent: a client says it to itself.
	CodeDistrusted Code = "DISTRUSTED"
	// CodeStorageFault: the registry holds the content and cannot read it.
	CodeStorageFault Code = "STORAGE_FAULT"
)

// Error makes a code usable as a target of errors.Is.
func (c Code) Error() string { return string(c) }

// Error is a refusal: a code for programs and a sentence for people, which says
// what was asked, what is wrong and what to do.
type Error struct {
	Code    Code
	Message string
	// Detail is whatever helps a program further, or nil. It must marshal to JSON.
	Detail any
}

// Errorf returns a refusal with the code and the formatted sentence.
func Errorf(code Code, format string, args ...any) *Error {
	return &Error{Code: code, Message: fmt.Sprintf(format, args...)}
}

// Error returns the sentence.
func (e *Error) Error() string { return e.Message }

// Is reports whether target is the code of this refusal.
func (e *Error) Is(target error) bool {
	code, ok := target.(Code)
	return ok && code == e.Code
}
