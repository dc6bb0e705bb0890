package serve

import (
	"fmt"
	"net"
	"net/url"
	"strings"

	"yardbench/internal/api"
)

// Check tells what is wrong with how a service is to be started, without starting it, and
// with what it had better be started otherwise. It reads the certificates' files and
// writes nothing.
func Check(c Config) (warnings []string, err error) {
	if _, _, err := net.SplitHostPort(c.Listen); err != nil {
		return nil, fmt.Errorf("--listen %q is no host and port, like 127.0.0.1:7080", c.Listen)
	}
	for _, l := range []struct{ flag, at string }{{"ssh-listen", c.SSHListen}, {"metrics-listen", c.MetricsListen}} {
		if _, _, err := net.SplitHostPort(l.at); l.at != "" && err != nil {
			return nil, fmt.Errorf("--%s %q is no host and port, like 127.0.0.1:7090", l.flag, l.at)
		}
	}
	if len(c.TLSCertificates)+len(c.TLSKeys) > 0 {
		if _, err := newCertificates(c.TLSCertificates, c.TLSKeys); err != nil {
			return nil, err
		}
	}
	warnings, err = c.settle(c.Listen)
	if err != nil {
		return nil, err
	}
	if _, err := c.trailPhrase(); err != nil {
		return nil, err
	}
	if c.Trail != "" && c.TrailPassphrase == "" {
		warnings = append(warnings, "the trail has no keys, without which nothing that is sealed opens: keep the data directory's keys/ apart, or name --trail-passphrase-file")
	}
	return warnings, nil
}

// scheme is how the HTTP door itself is spoken to.
func (c *Config) scheme() string {
	if len(c.TLSCertificates) > 0 {
		return "https://"
	}
	return "http://"
}

// settle fills in the addresses that nothing was said of, and tells what is wrong with
// those that were given. at is where the door listens, host and port.
func (c *Config) settle(at string) (warnings []string, err error) {
	_, port, err := net.SplitHostPort(at)
	if err != nil {
		return nil, err
	}
	if err := api.CheckProxies(c.Proxies); err != nil {
		return nil, fmt.Errorf("--proxies: %w", err)
	}
	if !strings.HasPrefix(c.Engine, SimulatedYard) && !strings.HasPrefix(c.Engine, "unix://") {
		return nil, fmt.Errorf("--engine %q is no engine on this machine: its folders are mounted into the containers, so it is reached by a unix socket, like unix:///var/run/docker.sock", c.Engine)
	}
	if c.Address == "" {
		c.Address = c.scheme() + at
	}
	if u, err := url.Parse(c.Address); err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || strings.Trim(u.Path, "/") != "" || u.RawQuery != "" {
		return nil, fmt.Errorf("--public-address %q is no address that people reach the console at; write it like https://bench.skerryline.example", c.Address)
	}
	if host, _, err := net.SplitHostPort(strings.TrimPrefix(strings.TrimPrefix(c.Address, "http://"), "https://")); err == nil && (host == "" || net.ParseIP(host).IsUnspecified()) {
		return nil, fmt.Errorf("nobody can reach the console at %s; say with --public-address where they do", c.Address)
	}
	if c.PortForm == "" && !local(c.Address) {
		warnings = append(warnings, "ports of workspaces are reached on the service's own machine alone, at "+c.scheme()+"*.ports.localhost:"+port+"; say with --port-address where others reach them")
	}
	if c.PortForm == "" {
		c.PortForm = c.scheme() + "*.ports.localhost:" + port
	}
	if u, err := url.Parse(strings.Replace(c.PortForm, "*", "name", 1)); err != nil || u.Host == "" || strings.Count(c.PortForm, "*") != 1 || u.Path != "" {
		return nil, fmt.Errorf("--port-address %q must be an address with one * in its host, like https://*.skerryline-ports.example", c.PortForm)
	}
	if site := commonSite(c.Address, c.PortForm); site != "" {
		return nil, fmt.Errorf("the console and the ports of workspaces are both under %s: to a browser that is one site, and what runs in a workspace could act as whoever looks at it; put --port-address under another registered domain, like https://*.skerryline-ports.example", site)
	}
	if strings.HasPrefix(c.Address, "http://") && !local(c.Address) {
		warnings = append(warnings, "people reach "+c.Address+" without TLS: whoever sits between reads passwords and secrets; give --tls-certificate and --tls-key, or put a proxy before it")
	}
	return warnings, nil
}
