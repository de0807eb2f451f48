package api

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"warthesis/internal/oci"
)

// answerLimit is the longest answer in bytes that the client reads, and answerWithin
// how long one question takes at most, answer included.
const (
	answerLimit  = 64 << 20
	answerWithin = 5 * time.Minute
)

// Client asks the management API of one registry. It is safe for concurrent use.
type Client struct {
	// Base is the registry's address with its scheme, such as http://localhost:7070.
	Base string
	HTTP *http.Client
	// Account and Secret are the login; without a secret there is none.
	Account, Secret string
	// Identity tells that the secret is a token, and no password of the account.
	Identity bool
	// NotLoggedIn, where set, is what is said of a request that takes a login.
	NotLoggedIn error
}

// List asks for a page of a list. Zero fields take the service's defaults.
type List struct {
	// Contains keeps what has this text in its name.
	Contains string
	// Prefix keeps what begins with it, of tags.
	Prefix string
	// Pattern keeps what a pattern in the tag's place means, of tags.
	Pattern string
	// Sort is name or change, of tags also version.
	Sort string
	// After is the Next of the page before.
	After string
	Limit int
}

// Given returns the query of what is given: empty values are left out.
func Given(values map[string]string) url.Values {
	q := url.Values{}
	for key, value := range values {
		if value != "" {
			q.Set(key, value)
		}
	}
	return q
}

// Query returns the list's part of an address.
func (l List) Query() url.Values {
	q := Given(map[string]string{"contains": l.Contains, "prefix": l.Prefix, "pattern": l.Pattern, "sort": l.Sort, "after": l.After})
	if l.Limit > 0 {
		q.Set("limit", strconv.Itoa(l.Limit))
	}
	return q
}

// Me returns who the caller is, and what it may do.
func (c *Client) Me(ctx context.Context) (Me, error) {
	var me Me
	return me, c.get(ctx, "/api/v1/me", nil, &me)
}

// Repositories returns a page of the repositories.
func (c *Client) Repositories(ctx context.Context, l List) (RepositoryList, error) {
	var list RepositoryList
	return list, c.get(ctx, "/api/v1/repositories", l.Query(), &list)
}

// Tags returns a page of the tags of a repository. It fails with CodeNameUnknown
// where there is no such repository.
func (c *Client) Tags(ctx context.Context, name oci.Name, l List) (TagList, error) {
	q := l.Query()
	q.Set("repository", string(name))
	var list TagList
	return list, c.get(ctx, "/api/v1/tags", q, &list)
}

func (c *Client) get(ctx context.Context, path string, query url.Values, into any) error {
	return c.Do(ctx, http.MethodGet, path, query, nil, into)
}

// Do sends a request to the API and reads its answer. body and into may be nil. It
// fails with the codes of package oci where the API refuses.
func (c *Client) Do(ctx context.Context, method, path string, query url.Values, body, into any) error {
	ctx, cancel := context.WithTimeout(ctx, answerWithin)
	defer cancel()
	answer, err := c.Send(ctx, method, path, query, body)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if into == nil || answer.StatusCode == http.StatusNoContent {
		return nil
	}
	if !strings.HasPrefix(answer.Header.Get("Content-Type"), "application/json") {
		return otherMake{oci.Errorf(oci.CodeUnsupported, "%s answers, but not as a Warthesis registry; is the address right?", c.Base)}
	}
	if err := json.NewDecoder(io.LimitReader(answer.Body, answerLimit)).Decode(into); err != nil {
		return fmt.Errorf("read the answer of %s: %w", c.Base, err)
	}
	return nil
}

// Send sends a request to the API and returns its answer, whose body the caller
// closes, where it is no refusal.
func (c *Client) Send(ctx context.Context, method, path string, query url.Values, body any) (*http.Response, error) {
	target := c.Base + path
	if len(query) > 0 {
		target += "?" + query.Encode()
	}
	var raw []byte
	if body != nil {
		var err error
		if raw, err = json.Marshal(body); err != nil {
			return nil, err
		}
	}
	request, err := http.NewRequestWithContext(ctx, method, target, bytes.NewReader(raw))
	if err != nil {
		return nil, err
	}
	if body != nil {
		request.Header.Set("Content-Type", "application/json")
	}
	switch {
	case c.Identity:
		request.Header.Set("Authorization", "Bearer "+c.Secret)
	case c.Secret != "":
		request.SetBasicAuth(c.Account, c.Secret)
	}
	answer, err := c.HTTP.Do(request)
	if err != nil {
		var cause *url.Error
		if errors.As(err, &cause) {
			err = cause.Err
		}
		if errors.Is(err, oci.CodeDistrusted) {
			return nil, err
		}
		return nil, fmt.Errorf("%s does not answer: %w", c.Base, err)
	}
	if answer.StatusCode >= http.StatusMultipleChoices {
		defer answer.Body.Close()
		return nil, c.problem(answer, io.LimitReader(answer.Body, answerLimit))
	}
	return answer, nil
}

// ErrOtherMake: what answers has no management API: a registry of another make.
var ErrOtherMake = errors.New("it is no Warthesis registry")

// otherMake is a refusal that is ErrOtherMake as well.
type otherMake struct{ said *oci.Error }

func (o otherMake) Error() string { return o.said.Message }

func (o otherMake) Unwrap() error { return o.said }

func (o otherMake) Is(target error) bool { return target == ErrOtherMake }

// codes gives refusals of the API their kinds.
var codes = map[int]oci.Code{
	http.StatusUnauthorized: oci.CodeUnauthorized, http.StatusForbidden: oci.CodeDenied, http.StatusNotFound: oci.CodeNameUnknown,
	http.StatusPreconditionFailed: oci.CodeTagMoved, http.StatusConflict: oci.CodeInUse, http.StatusTooManyRequests: oci.CodeTooManyRequests, http.StatusUnprocessableEntity: oci.CodeQueryInvalid, http.StatusBadRequest: oci.CodeQueryInvalid,
}

// problem makes an error of a refusal.
func (c *Client) problem(answer *http.Response, body io.Reader) error {
	var p Problem
	if json.NewDecoder(body).Decode(&p) != nil || p.Detail == "" {
		err := oci.Errorf(oci.CodeUnsupported, "%s answers %s; is it a Warthesis registry?", c.Base, answer.Status)
		switch answer.StatusCode {
		case http.StatusMovedPermanently, http.StatusFound, http.StatusSeeOther, http.StatusTemporaryRedirect, http.StatusPermanentRedirect,
			http.StatusNotFound, http.StatusMethodNotAllowed, http.StatusNotImplemented, http.StatusUnauthorized, http.StatusForbidden:
			// Some registries want a login for whatever is not there. Ours says why.
			return otherMake{err}
		}
		// What fails for a while says nothing about what it is.
		return err
	}
	// One line, which passes for none of the client's own.
	sentence := strings.Join(strings.Fields(p.Detail), " ")
	code, known := codes[answer.StatusCode]
	switch {
	case code == oci.CodeUnauthorized && c.Secret == "" && c.NotLoggedIn != nil:
		return c.NotLoggedIn
	case code == oci.CodeNameUnknown:
		return oci.Errorf(code, "%s", sentence)
	case known:
		return oci.Errorf(code, "%s refuses: %s", c.Base, sentence)
	}
	return fmt.Errorf("%s refuses: %s", c.Base, sentence)
}
