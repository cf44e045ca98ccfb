package registry

import (
	"context"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"syscall"
	"time"

	"dovrak/core/problem"
)

// dial connects. A registry can send its reader anywhere by a redirect or a realm, and the reader stands inside
// somebody's network: so nothing is asked of link-local addresses, where clouds hand out their secrets, and nothing of
// the service's own machine unless the registry itself is there.
func (c *Client) dial(ctx context.Context, network, address string) (net.Conn, error) {
	d := net.Dialer{Timeout: 10 * time.Second, Control: func(_, to string, _ syscall.RawConn) error {
		return c.reachable(address, to)
	}}
	return d.DialContext(ctx, network, address)
}

// reachable judges the address, as IP and port, to which a name led.
func (c *Client) reachable(asked, to string) error {
	at, err := netip.ParseAddrPort(to)
	if err != nil {
		return err
	}
	ip := at.Addr().Unmap()
	trusted := asked == hostPort(c.base) || asked == c.proxy()
	if ip.IsLinkLocalUnicast() || ip.IsMulticast() || ip.IsUnspecified() || ip.IsLoopback() && !trusted && !IsLoopback(c.base.Hostname()) {
		return &problem.Problem{
			Kind:   problem.RegistryError,
			Title:  "The registry points to an address that is not asked",
			Asked:  asked,
			Where:  c.cfg.Name,
			Seen:   ip.String(),
			Rule:   "no link-local address, and none of the service's own machine",
			Remedy: "see where the registry's redirects, its sign-in and its name in the DNS lead",
		}
	}
	return nil
}

// IsLoopback reports whether a host is the machine itself, by its name or address.
func IsLoopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// hostPort is a URL's host with its port, as a dialer is given it.
func hostPort(u *url.URL) string {
	if u.Port() != "" {
		return u.Host
	}
	if u.Scheme == "http" {
		return net.JoinHostPort(u.Hostname(), "80")
	}
	return net.JoinHostPort(u.Hostname(), "443")
}

// proxy is the proxy through which the registry is spoken to, or empty.
func (c *Client) proxy() string {
	u, err := http.ProxyFromEnvironment(&http.Request{URL: c.base})
	if err != nil || u == nil {
		return ""
	}
	return hostPort(u)
}
