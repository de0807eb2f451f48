// Package desk is what the areas of the management API share: what they know, how they
// answer and refuse, and how lists page.
package desk

import (
	"github.com/danielgtaylor/huma/v2"

	"warthesis/internal/access"
	"warthesis/internal/access/company"
	"warthesis/internal/access/upkeep"
	"warthesis/internal/flow"
	"warthesis/internal/flow/follow"
	"warthesis/internal/flow/replicate"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/record"
	"warthesis/internal/registry"
	"warthesis/internal/sweep"
	"warthesis/internal/work"
)

// Desk is what the areas need to know.
type Desk struct {
	Registry *registry.Registry
	Records  *record.Store
	Access   *access.Access
	Work     *work.Works
	Sweeper  *sweep.Sweeper
	Upkeep   *upkeep.Upkeep
	Peers    *flow.Peers
	Follower *follow.Follower
	// Replicator copies to peers and from them.
	Replicator *replicate.Replicator
	Callers    *callers.Callers
	// Company is the company's login, nil where there is none; CompanyName is what
	// its button says.
	Company     *company.Company
	CompanyName string
	Version     string
	// Prices are what things cost; zero for no prices.
	Prices Prices
	// Trial tells that everybody may do everything, without a login.
	Trial bool
	// Stopping is closed when the service stops: open streams end then.
	Stopping <-chan struct{}
}

// Prices are what a GiB costs: held for a month, and going out.
type Prices struct {
	GiBMonth, GiBOut float64
	Currency         string
}

// At describes a route of the API: its path is behind /api/v1.
func At(method, path, id, summary string) huma.Operation {
	return huma.Operation{Method: method, Path: "/api/v1" + path, OperationID: id, Summary: summary}
}
