package serve

import (
	"fmt"
	"net"
	"net/url"
	"path/filepath"

	"warthesis/internal/clock"
	"warthesis/internal/config"
	"warthesis/internal/flow"
	"warthesis/internal/outward"
	"warthesis/internal/record"
	"warthesis/internal/secret"
)

// reachOf reads where the service may connect to by itself.
func reachOf(c config.Config) (outward.Reach, error) {
	reach := outward.Reach{Proxied: c.OutwardProxy}
	for _, s := range c.InsideNetworks {
		n, err := outward.ParseNetwork(s)
		if err != nil {
			return reach, fmt.Errorf("inside_networks: %w", err)
		}
		reach.Inside = append(reach.Inside, n)
	}
	return reach, nil
}

// issuersReach is reachOf for issuers of identities: the company's own, which the settings
// name, may be anywhere.
func issuersReach(c config.Config) (outward.Reach, error) {
	reach, err := reachOf(c)
	if u, wrong := url.Parse(c.CompanyIssuer); wrong == nil && u.Host != "" {
		port := u.Port()
		if port == "" {
			port = map[string]string{"http": "80"}[u.Scheme]
		}
		if port == "" {
			port = "443"
		}
		reach.Named = append(reach.Named, net.JoinHostPort(u.Hostname(), port))
	}
	return reach, err
}

// openPeers reads by what other registries are reached.
func openPeers(c config.Config, records *record.Store, clk clock.Clock) (*flow.Peers, error) {
	reach, err := reachOf(c)
	if err != nil {
		return nil, err
	}
	box, err := secret.Open(filepath.Join(c.Data, keysFolder, "secrets.key"))
	if err != nil {
		return nil, err
	}
	return flow.NewPeers(records, clk, box, reach, "warthesis", c.ManifestBytes), nil
}
