package desk

import (
	"fmt"
	"regexp"
	"strings"

	"github.com/danielgtaylor/huma/v2"
)

// sentence is what is said in place of a message of the API library.
type sentence struct {
	message *regexp.Regexp
	says    string
}

// sentences are what the library finds wrong with a request, in our words; $1 is what
// the message names.
var sentences = []sentence{
	{regexp.MustCompile(`^expected value to be one of "(.*)"$`), "it is one of $1"},
	{regexp.MustCompile(`^expected number >= (.*)$`), "it is at least $1"},
	{regexp.MustCompile(`^expected number <= (.*)$`), "it is at most $1"},
	{regexp.MustCompile(`^expected length >= 1$`), "it must not be empty"},
	{regexp.MustCompile(`^expected length >= (.*)$`), "it has at least $1 characters"},
	{regexp.MustCompile(`^expected length <= (.*)$`), "it has at most $1 characters"},
	{regexp.MustCompile(`^expected array length >= (.*)$`), "it has at least $1 entries"},
	{regexp.MustCompile(`^expected array length <= (.*)$`), "it has at most $1 entries"},
	{regexp.MustCompile(`^expected required property (.*) to be present$`), "$1 is missing"},
	{regexp.MustCompile(`^unexpected property$`), "there is nothing of this name"},
	{regexp.MustCompile(`^(expected integer|expected number|invalid integer|invalid float).*$`), "it is a whole number"},
	{regexp.MustCompile(`^(expected|invalid) boolean.*$`), "it is true or false"},
	{regexp.MustCompile(`^expected string$`), "it is a text"},
	{regexp.MustCompile(`^expected array$`), "it is a list"},
	{regexp.MustCompile(`^expected object$`), "it is an object"},
	{regexp.MustCompile(`^(invalid date/time|expected string to be RFC 3339).*$`), "it is a time as in RFC 3339, 2026-01-31T12:00:00Z"},
	{regexp.MustCompile(`^required \w+ parameter is missing$`), "it is missing"},
	{regexp.MustCompile(`^request body is required$`), "the request needs a body"},
	{regexp.MustCompile(`^request body is too large.*$`), "the request is too large"},
}

// mostShown is how much of a wrong value is repeated, in characters.
const mostShown = 60

// Sentences puts the library's findings about a request into sentences of ours.
func Sentences(_ huma.Context, _ string, v any) (any, error) {
	problem, is := v.(*huma.ErrorModel)
	if !is {
		return v, nil
	}
	if len(problem.Errors) == 0 {
		problem.Detail = reworded(problem.Detail)
		return problem, nil
	}
	var all []string
	for _, e := range problem.Errors {
		e.Message = about(e)
		all = append(all, e.Message)
	}
	problem.Detail = strings.Join(all, "; ")
	return problem, nil
}

// reworded returns what is said in place of a message.
func reworded(message string) string {
	for _, s := range sentences {
		if s.message.MatchString(message) {
			return s.message.ReplaceAllString(message, s.says)
		}
	}
	return message
}

// about says what is wrong with which part of a request.
func about(e *huma.ErrorDetail) string {
	says := reworded(e.Message)
	_, name, _ := strings.Cut(e.Location, ".")
	switch {
	case strings.HasPrefix(e.Location, "body") && says == e.Message:
		// The message is that of who reads JSON.
		return "what was sent cannot be read as JSON: " + e.Message
	case name == "":
		return says
	case says == "it is missing" || strings.HasSuffix(says, " is missing"):
		return strings.Replace(says, "it is", name+" is", 1)
	}
	if value, text := e.Value.(string); text && value != "" {
		shown := []rune(value)
		return fmt.Sprintf("%s is %q: %s", name, string(shown[:min(mostShown, len(shown))]), says)
	}
	return name + ": " + says
}
