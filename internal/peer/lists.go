package peer

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/url"
	"strings"

	"warthesis/internal/oci"
)

// listLimit is the longest page of a list in bytes that is read.
const listLimit = 16 << 20

// Tags returns a page of the tags of a repository behind one, and the last of the
// page where more follow (distribution-spec, "Listing Tags").
func (c *Client) Tags(ctx context.Context, name oci.Name, after string) (tags []string, next string, err error) {
	var list struct{ Tags []string }
	next, err = c.page(ctx, string(name)+"/tags/list", after, &list)
	return list.Tags, next, err
}

// Repositories returns a page of the repositories behind one, and where more begin. It
// fails with oci.CodeUnsupported where the registry has no catalogue.
func (c *Client) Repositories(ctx context.Context, after string) (names []string, next string, err error) {
	var list struct{ Repositories []string }
	next, err = c.page(ctx, "_catalog", after, &list)
	if errors.Is(err, oci.CodeManifestUnknown) {
		err = oci.Errorf(oci.CodeUnsupported, "%s has no list of its repositories; name one to list its tags", c.registry)
	}
	return list.Repositories, next, err
}

// namesAtOnce is how many names one page is asked for.
const namesAtOnce = "1000"

// page reads one page of a list of names, and from its Link where the next begins.
func (c *Client) page(ctx context.Context, path, after string, into any) (next string, err error) {
	return try(ctx, c, nil, func() (string, error) {
		query := url.Values{"n": {namesAtOnce}}
		if after != "" {
			query.Set("last", after)
		}
		answer, err := c.do(ctx, request{method: http.MethodGet, path: path, query: query}, http.StatusOK)
		if err != nil {
			return "", err
		}
		defer answer.Body.Close()
		if err := json.NewDecoder(io.LimitReader(answer.Body, listLimit)).Decode(into); err != nil {
			return "", oci.Errorf(oci.CodeUnsupported, "the list of %s cannot be read: %v", c.registry, err)
		}
		if at := nextOf(answer.Header); at != nil {
			return at.Query().Get("last"), nil
		}
		return "", nil
	})
}

// nextOf reads where the next page of a list is, nil for nowhere (RFC 8288).
func nextOf(h http.Header) *url.URL {
	link, _, found := strings.Cut(strings.TrimPrefix(strings.TrimSpace(h.Get("Link")), "<"), ">")
	at, err := url.Parse(link)
	if !found || err != nil {
		return nil
	}
	return at
}

// fewTags is how many tags are a sample.
const fewTags = "3"

// SomeTags returns the first few tags of a repository.
func (c *Client) SomeTags(ctx context.Context, name oci.Name) ([]string, error) {
	answer, err := c.do(ctx, request{method: http.MethodGet, path: string(name) + "/tags/list", query: url.Values{"n": {fewTags}}}, http.StatusOK)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	var list struct{ Tags []string }
	err = json.NewDecoder(io.LimitReader(answer.Body, listLimit)).Decode(&list)
	return list.Tags, err
}
