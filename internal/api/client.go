package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"warthesis/internal/oci"
)

// answerLimit is the longest answer in bytes that the client reads.
const answerLimit = 64 << 20

// Client asks the management API of one registry. It is safe for concurrent use.
type Client struct {
	// Base is the registry's address with its scheme, such as http://localhost:7070.
	Base string
	HTTP *http.Client
}

// List asks for a page of a list. Zero fields take the service's defaults.
type List struct {
	// Contains keeps what has this text in its name.
	Contains string
	// Sort is name or change.
	Sort string
	// After is the Next of the page before.
	After string
	Limit int
}

func (l List) query() url.Values {
	q := url.Values{}
	for key, value := range map[string]string{"contains": l.Contains, "sort": l.Sort, "after": l.After} {
		if value != "" {
			q.Set(key, value)
		}
	}
	if l.Limit > 0 {
		q.Set("limit", strconv.Itoa(l.Limit))
	}
	return q
}

// Repositories returns a page of the repositories.
func (c *Client) Repositories(ctx context.Context, l List) (RepositoryList, error) {
	var list RepositoryList
	return list, c.get(ctx, "/api/v1/repositories", l.query(), &list)
}

// Tags returns a page of the tags of a repository. It fails with CodeNameUnknown
// where there is no such repository.
func (c *Client) Tags(ctx context.Context, name oci.Name, l List) (TagList, error) {
	q := l.query()
	q.Set("repository", string(name))
	var list TagList
	return list, c.get(ctx, "/api/v1/tags", q, &list)
}

func (c *Client) get(ctx context.Context, path string, query url.Values, into any) error {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, c.Base+path+"?"+query.Encode(), nil)
	if err != nil {
		return err
	}
	request.Header.Set("Accept", "application/json")
	answer, err := c.HTTP.Do(request)
	if err != nil {
		var cause *url.Error
		if errors.As(err, &cause) {
			err = cause.Err
		}
		return fmt.Errorf("%s does not answer: %w", c.Base, err)
	}
	defer answer.Body.Close()
	body := io.LimitReader(answer.Body, answerLimit)
	if answer.StatusCode != http.StatusOK {
		return problem(c.Base, answer, body)
	}
	if !strings.HasPrefix(answer.Header.Get("Content-Type"), "application/json") {
		return fmt.Errorf("%s answers, but not as a Warthesis registry; is the address right?", c.Base)
	}
	if err := json.NewDecoder(body).Decode(into); err != nil {
		return fmt.Errorf("read the answer of %s: %w", c.Base, err)
	}
	return nil
}

// problem makes an error of a refusal.
func problem(base string, answer *http.Response, body io.Reader) error {
	var p Problem
	if json.NewDecoder(body).Decode(&p) != nil || p.Detail == "" {
		return fmt.Errorf("%s answers %s; is it a Warthesis registry?", base, answer.Status)
	}
	sentence := p.Detail
	for _, e := range p.Errors {
		sentence += "; " + e.Location + ": " + e.Message
	}
	if answer.StatusCode == http.StatusNotFound {
		return oci.Errorf(oci.CodeNameUnknown, "%s", sentence)
	}
	return fmt.Errorf("%s refuses: %s", base, sentence)
}
