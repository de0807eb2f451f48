package api

// Problem is an error of the API (RFC 9457).
type Problem struct {
	Title  string          `json:"title,omitempty"`
	Status int             `json:"status"`
	Detail string          `json:"detail,omitempty"`
	Errors []ProblemDetail `json:"errors,omitempty"`
}

// ProblemDetail says what is wrong with one part of a request.
type ProblemDetail struct {
	Message  string `json:"message,omitempty"`
	Location string `json:"location,omitempty"`
}
