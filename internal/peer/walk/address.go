package walk

import (
	"net"
	"strings"
)

// HostOf returns the host of a registry's address, without its port.
func HostOf(registry string) string {
	host, _, err := net.SplitHostPort(registry)
	if err != nil {
		return strings.Trim(registry, "[]")
	}
	return host
}

// The ports that are meant where none is named.
const (
	portPlain = "80"
	portTLS   = "443"
)

// PortOf returns the port that a scheme means.
func PortOf(scheme string) string {
	if scheme == "https" {
		return portTLS
	}
	return portPlain
}

// WithPort adds a port where none is named.
func WithPort(registry, port string) string {
	if _, _, err := net.SplitHostPort(registry); err != nil {
		return net.JoinHostPort(HostOf(registry), port)
	}
	return registry
}
