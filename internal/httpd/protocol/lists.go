package protocol

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"

	"github.com/gin-gonic/gin"
	"github.com/opencontainers/image-spec/specs-go"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"warthesis/internal/access/bearer"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/oci"
	"warthesis/internal/record/taglist"
)

// mostNames is the longest list of names that one answer holds.
const mostNames = 10000

// pageOf reads how much of a list is asked for: n entries behind last.
func pageOf(c *gin.Context) (last string, limit int, err error) {
	limit = mostNames
	if given := c.Query("n"); given != "" {
		n, valid := parseOffset(given)
		if !valid {
			return "", 0, oci.Errorf(oci.CodeQueryInvalid, "n is %q: it must be a whole number", given)
		}
		limit = int(min(n, mostNames))
	}
	return c.Query("last"), limit, nil
}

// linkNext says where the next page is (RFC 8288).
func linkNext(c *gin.Context, path string, next url.Values) {
	c.Header("Link", fmt.Sprintf(`<%s?%s>; rel="next"`, path, next.Encode()))
}

// listTags answers the tags of a repository, page by page (distribution-spec,
// "Listing Tags").
func (d *Door) listTags(c *gin.Context, name oci.Name, _ string) error {
	last, limit, err := pageOf(c)
	if err != nil {
		return err
	}
	tags, more, err := d.registry.TagNames(c.Request.Context(), name, last, limit)
	if err != nil {
		return err
	}
	if more && len(tags) > 0 {
		linkNext(c, fmt.Sprintf("/v2/%s/tags/list", name), url.Values{"n": {strconv.Itoa(limit)}, "last": {string(tags[len(tags)-1])}})
	}
	if tags == nil {
		tags = []oci.Tag{}
	}
	c.JSON(http.StatusOK, struct {
		Name oci.Name  `json:"name"`
		Tags []oci.Tag `json:"tags"`
	}{name, tags})
	return nil
}

// listRepositories answers the names of the repositories that the caller may see,
// page by page.
func (d *Door) listRepositories(c *gin.Context, _ oci.Name, _ string) error {
	last, limit, err := pageOf(c)
	if err != nil {
		return err
	}
	caller := callerOf(c)
	if caller.Nobody() || !caller.MayCatalogue() {
		return d.challenge(c, "listing the repositories takes a login", bearer.CatalogueScope)
	}
	names, more, err := d.registry.RepositoryNames(c.Request.Context(), last, limit, d.access.Seen(caller))
	if err != nil {
		return err
	}
	if more && len(names) > 0 {
		linkNext(c, "/v2/_catalog", url.Values{"n": {strconv.Itoa(limit)}, "last": {string(names[len(names)-1])}})
	}
	if names == nil {
		names = []oci.Name{}
	}
	c.JSON(http.StatusOK, struct {
		Repositories []oci.Name `json:"repositories"`
	}{names})
	return nil
}

// extension is the name of what this registry answers besides the standard.
const extension = "_warthesis"

// listExtensions tells what is answered besides the standard (distribution-spec,
// "Extensions").
func (d *Door) listExtensions(c *gin.Context, _ oci.Name, _ string) error {
	if !callers.Came(c) && d.callers.Trial == nil {
		return d.challenge(c, "not logged in to this registry")
	}
	type listed struct {
		Name        string   `json:"name"`
		Description string   `json:"description"`
		URL         string   `json:"url"`
		Endpoints   []string `json:"endpoints"`
	}
	c.JSON(http.StatusOK, map[string][]listed{"extensions": {
		{"_oci", "which extensions there are", "", []string{"_oci/ext/discover"}},
		{extension, "the tags of a repository with their digests; pushes and deletes of tags under the conditions If-Match and If-None-Match", "", []string{extension + "/tags/digests"}},
	}})
	return nil
}

// listDigests lists tags with the digests that they point to, in pages as those of tags.
func (d *Door) listDigests(c *gin.Context, name oci.Name, _ string) error {
	last, limit, err := pageOf(c)
	if err != nil {
		return err
	}
	tags, more, err := d.registry.TagDigests(c.Request.Context(), name, last, limit)
	if err != nil {
		return err
	}
	if more && len(tags) > 0 {
		linkNext(c, fmt.Sprintf("/v2/%s/%s/tags/digests", name, extension), url.Values{"n": {strconv.Itoa(limit)}, "last": {string(tags[len(tags)-1].Name)}})
	}
	c.JSON(http.StatusOK, map[string]any{"name": name, "tags": append([]taglist.Digest{}, tags...)})
	return nil
}

// listReferrers answers what refers to a manifest, as an index (distribution-spec,
// "Listing Referrers"). What nobody refers to, and what is not here, has none.
func (d *Door) listReferrers(c *gin.Context, name oci.Name, item string) error {
	digest, err := oci.ParseDigest(item)
	if err != nil {
		return err
	}
	if d.follower != nil && d.follower.Follows(name) {
		by := d.asker(c)
		if err := errors.Join(d.follower.Loop(by.Via), d.follower.Referrers(c.Request.Context(), name, digest, by)); err != nil {
			return err
		}
	}
	artifactType := c.Query("artifactType")
	referrers, more, err := d.registry.Referrers(c.Request.Context(), name, digest, artifactType, oci.Digest(c.Query("last")))
	if err != nil {
		return err
	}
	if artifactType != "" {
		c.Header("OCI-Filters-Applied", "artifactType")
	}
	if more {
		next := url.Values{"last": {referrers[len(referrers)-1].Digest.String()}}
		if artifactType != "" {
			next.Set("artifactType", artifactType)
		}
		linkNext(c, fmt.Sprintf("/v2/%s/referrers/%s", name, digest), next)
	}
	// The header is set first: the answer's own would name plain JSON.
	c.Header("Content-Type", oci.MediaTypeIndex)
	c.JSON(http.StatusOK, v1.Index{
		Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: oci.MediaTypeIndex, Manifests: referrers,
	})
	return nil
}
