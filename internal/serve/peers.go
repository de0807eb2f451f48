package serve

import (
	"fmt"
	"path/filepath"

	"warthesis/internal/clock"
	"warthesis/internal/config"
	"warthesis/internal/flow"
	"warthesis/internal/outward"
	"warthesis/internal/record"
	"warthesis/internal/secret"
)

// openPeers reads by what other registries are reached.
func openPeers(c config.Config, records *record.Store, clk clock.Clock) (*flow.Peers, error) {
	reach := outward.Reach{Proxied: c.OutwardProxy}
	for _, s := range c.InsideNetworks {
		n, err := outward.ParseNetwork(s)
		if err != nil {
			return nil, fmt.Errorf("inside_networks: %w", err)
		}
		reach.Inside = append(reach.Inside, n)
	}
	box, err := secret.Open(filepath.Join(c.Data, keysFolder, "secrets.key"))
	if err != nil {
		return nil, err
	}
	return flow.NewPeers(records, clk, box, reach, "warthesis", c.ManifestBytes), nil
}
