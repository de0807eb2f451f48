package outward

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"warthesis/internal/oci"
)

// Network is a network, or one address of it, with one port or, with 0, all.
type Network struct {
	netip.Prefix
	Port uint16
}

// ParseNetwork reads a network: 10.20.0.0/16, 10.20.0.7, fd00::/8, each with a port behind
// it where only that is meant, as in 10.20.0.0/16:443 and [fd00::/8]:443.
func ParseNetwork(s string) (Network, error) {
	wrong := fmt.Errorf("%q is no network: write one such as 10.20.0.0/16, 10.20.0.7:443 or [fd00::/8]:443", s)
	text, port := s, uint64(0)
	if inside, bracketed := strings.CutPrefix(s, "["); bracketed || strings.Count(s, ":") == 1 {
		behind := ""
		if bracketed {
			text, behind, _ = strings.Cut(inside, "]")
			behind = strings.TrimPrefix(behind, ":")
		} else {
			text, behind, _ = strings.Cut(s, ":")
		}
		var err error
		if port, err = strconv.ParseUint(behind, 10, 16); err != nil || port == 0 {
			return Network{}, wrong
		}
	}
	prefix, err := netip.ParsePrefix(text)
	if addr, single := netip.ParseAddr(text); single == nil {
		prefix, err = netip.PrefixFrom(addr.Unmap(), addr.Unmap().BitLen()), nil
	}
	if err != nil {
		return Network{}, wrong
	}
	return Network{prefix.Masked(), uint16(port)}, nil
}

// String writes the network as it is read.
func (n Network) String() string {
	switch {
	case n.Port == 0:
		return n.Prefix.String()
	case n.Addr().Is6():
		return fmt.Sprintf("[%s]:%d", n.Prefix, n.Port)
	}
	return fmt.Sprintf("%s:%d", n.Prefix, n.Port)
}

// Reach says what may be connected to. The zero value is the public addresses of the
// internet, directly.
type Reach struct {
	// Inside are the networks that may be connected to besides.
	Inside []Network
	// Named are addresses, host:port, that whoever runs the service named in its settings:
	// they are not checked.
	Named []string
	// Proxied lets connections go through the proxy of the environment, which then decides.
	Proxied bool
}

// special are the networks that are not public (the IANA registries of special-purpose
// addresses), in which services stand that rely on who can reach them.
var special = func() (all []netip.Prefix) {
	for _, s := range []string{
		"0.0.0.0/8", "10.0.0.0/8", "100.64.0.0/10", "127.0.0.0/8", "169.254.0.0/16", "172.16.0.0/12", "192.0.0.0/24", "192.0.2.0/24", "192.31.196.0/24", "192.52.193.0/24",
		"192.88.99.0/24", "192.168.0.0/16", "192.175.48.0/24", "198.18.0.0/15", "198.51.100.0/24", "203.0.113.0/24", "224.0.0.0/4", "240.0.0.0/4",
		"::/128", "::1/128", "::ffff:0:0/96", "64:ff9b::/96", "64:ff9b:1::/48", "100::/64", "2001::/23", "2001:db8::/32", "2002::/16", "3fff::/20", "5f00::/16", "fc00::/7", "fe80::/10", "fec0::/10", "ff00::/8",
	} {
		all = append(all, netip.MustParsePrefix(s))
	}
	return all
}()

// Check fails, with oci.CodeDenied, where an address is not to be connected to.
func (r Reach) Check(at netip.AddrPort) error {
	addr := at.Addr().Unmap().WithZone("")
	if slices.ContainsFunc(r.Inside, func(n Network) bool { return n.Contains(addr) && (n.Port == 0 || n.Port == at.Port()) }) {
		return nil
	}
	inside := "an address that is not public"
	if !slices.ContainsFunc(special, func(p netip.Prefix) bool { return p.Contains(addr) }) {
		if !isOwn(addr) {
			return nil
		}
		inside = "one of this machine's own addresses"
	}
	return oci.Errorf(oci.CodeDenied, "%s is %s, to which this registry connects only where its setting inside_networks lists it; whoever runs it can add %s", at, inside, Network{netip.PrefixFrom(addr, addr.BitLen()), at.Port()})
}

// isOwn reports whether an address is one of this machine's.
func isOwn(addr netip.Addr) bool {
	own, err := net.InterfaceAddrs()
	if err != nil {
		return true
	}
	return slices.ContainsFunc(own, func(a net.Addr) bool {
		prefix, err := netip.ParsePrefix(a.String())
		return err == nil && prefix.Addr().Unmap() == addr
	})
}

// dialPatience is how long one connection may take to come about.
const dialPatience = 10 * time.Second

// Dialer returns how connections are made: each address is checked once it was resolved.
func (r Reach) Dialer() func(ctx context.Context, network, address string) (net.Conn, error) {
	proxies := r.proxies()
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		dialer := net.Dialer{Timeout: dialPatience, KeepAlive: 30 * time.Second}
		if !slices.Contains(proxies, address) && !slices.Contains(r.Named, address) {
			dialer.ControlContext = func(_ context.Context, _, resolved string, _ syscall.RawConn) error {
				at, err := netip.ParseAddrPort(resolved)
				if err != nil {
					return err
				}
				return r.Check(at)
			}
		}
		return dialer.DialContext(ctx, network, address)
	}
}

// Proxy returns the proxy for a request, nil for none.
func (r Reach) Proxy(call *http.Request) (*url.URL, error) {
	if !r.Proxied {
		return nil, nil
	}
	return http.ProxyFromEnvironment(call)
}

// proxies are the addresses of the environment's proxies: whoever started the service
// gave them.
func (r Reach) proxies() (all []string) {
	if !r.Proxied {
		return nil
	}
	for _, name := range []string{"HTTP_PROXY", "http_proxy", "HTTPS_PROXY", "https_proxy"} {
		text := os.Getenv(name)
		if text != "" && !strings.Contains(text, "://") {
			text = "http://" + text
		}
		u, err := url.Parse(text)
		if err != nil || u.Host == "" {
			continue
		}
		port := u.Port()
		if port == "" {
			port = map[string]string{"https": "443", "socks5": "1080"}[u.Scheme]
		}
		if port == "" {
			port = "80"
		}
		all = append(all, net.JoinHostPort(u.Hostname(), port))
	}
	return all
}
