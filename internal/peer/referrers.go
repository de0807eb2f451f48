package peer

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/url"

	"warthesis/internal/oci"
)

// mostReferrers is how many manifests that refer to one are taken from an answer.
const mostReferrers = 1000

// Referrers returns what refers to a manifest (distribution-spec, "Listing Referrers"), the
// first thousand of them. A registry that does not answer that has none.
func (c *Client) Referrers(ctx context.Context, name oci.Name, digest oci.Digest) (all []oci.Descriptor, err error) {
	at := request{method: http.MethodGet, path: string(name) + "/referrers/" + digest.String()}
	for range mostReferrers {
		answer, err := c.do(ctx, at, http.StatusOK, http.StatusNotFound)
		if err != nil {
			return all, err
		}
		var index struct{ Manifests []oci.Descriptor }
		if answer.StatusCode == http.StatusOK {
			err = json.NewDecoder(io.LimitReader(answer.Body, listLimit)).Decode(&index)
		}
		answer.Body.Close()
		if err != nil {
			return all, oci.Errorf(oci.CodeUnsupported, "the list of %s of what refers to %s cannot be read: %v", c.registry, digest, err)
		}
		before := len(all)
		all = append(all, index.Manifests[:min(len(index.Manifests), mostReferrers-before)]...)
		next := nextOf(answer.Header)
		if next == nil || len(all) == before || len(all) == mostReferrers {
			return all, nil
		}
		at.query = url.Values(next.Query())
	}
	return all, nil
}
