package access

import (
	"net/http"
	"net/url"
	"strings"
)

// What runs in one workspace must not act on another one in the browser of
// somebody who may visit both: to the browser all port hosts are of one site,
// and a request from one to another carries the visitor's cookies. So a request
// that a page elsewhere has made is refused (Fetch Metadata, W3C; the Origin
// header, RFC 6454), but for plain visits: links that people follow.

// allowed tells whether a request may go to the program behind the port.
// Programs that are no browsers say nothing of where they come from, and are.
func (p *Ports) allowed(r *http.Request) bool {
	if p.ours(r, r.Header.Get("Origin")) {
		return true // the port's own page, or another port's of the same workspace
	}
	if r.Header.Get("Origin") != "" && !visiting(r) {
		return false
	}
	switch r.Header.Get("Sec-Fetch-Site") {
	case "", "none", "same-origin":
		return true
	}
	return visiting(r) || p.ours(r, r.Referer()) || p.fromConsole(r)
}

// visiting tells whether somebody goes to the address with the whole window, and
// changes nothing by that.
func visiting(r *http.Request) bool {
	mode, dest := r.Header.Get("Sec-Fetch-Mode"), r.Header.Get("Sec-Fetch-Dest")
	return (r.Method == http.MethodGet || r.Method == http.MethodHead) && r.Header.Get("Upgrade") == "" &&
		mode == "navigate" && (dest == "" || dest == "document")
}

// ours tells whether an origin, or an address, is a port's of the workspace that
// is asked.
func (p *Ports) ours(r *http.Request, origin string) bool {
	u, err := url.Parse(origin)
	if err != nil || u.Host == "" {
		return false
	}
	own, _, _ := p.Service.Ports.PortHost(r.Host)
	key, _, ok := p.Service.Ports.PortHost(u.Host)
	return ok && key == own && (u.Scheme == "https") == p.Service.Ports.Doors().Secure()
}

// fence keeps what a program answers within its workspace: other sites and other
// workspaces may neither frame nor load it. Where a page of the same workspace
// asks, that one may.
func (p *Ports) fence(asked *http.Request, h http.Header) {
	ancestors := "'self'"
	if u, err := url.Parse(asked.Referer()); err == nil && p.ours(asked, asked.Referer()) && !strings.EqualFold(u.Host, asked.Host) {
		ancestors += " " + u.Scheme + "://" + u.Host
		h.Set("Cross-Origin-Resource-Policy", "same-site")
		if !strings.Contains(h.Get("Cache-Control"), "no-store") {
			h.Set("Cache-Control", "no-cache") // what is kept would be for the whole site: it is asked for anew
		}
	} else {
		h.Set("Cross-Origin-Resource-Policy", "same-origin")
	}
	if inFrame(asked) {
		ancestors += " " + p.Service.Ports.Doors().Console
	}
	h.Add("Content-Security-Policy", "frame-ancestors "+ancestors)
}
