package serve

import (
	"net"
	"net/url"
	"strings"

	"golang.org/x/net/publicsuffix"
)

// commonSite is the site that two addresses have in common, as browsers see it:
// the domain that somebody registers, by the Public Suffix List. "" where they
// have none. A * stands for any name.
func commonSite(one, other string) string {
	if a := siteOf(one); a != "" && a == siteOf(other) {
		return a
	}
	return ""
}

func siteOf(address string) string {
	u, err := url.Parse(strings.Replace(address, "*", "name", 1))
	if err != nil {
		return ""
	}
	host := strings.ToLower(strings.TrimSuffix(u.Hostname(), "."))
	if net.ParseIP(host) != nil {
		return host
	}
	if site, err := publicsuffix.EffectiveTLDPlusOne(host); err == nil {
		return site
	}
	return host // a name of one label, or a suffix itself
}
