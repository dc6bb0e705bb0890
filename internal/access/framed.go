package access

import (
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"yardbench/internal/service"
	"yardbench/wire"
)

// A page of the console may show a port in a frame. To the browser that is another
// site's page within ours, so it has a cookie of its own, which is for frames within
// the console alone (Partitioned; the partition is that of the page around), and the
// program's own cookies become such too. Nothing else may frame it: neither another
// site, nor what another workspace shows in a frame of the same console, which each
// page's ancestors tell, and the referrer of the way in.

// framedCookieName is the pass of a frame.
const framedCookieName = "yardbench_framed"

func (p *Ports) framedName() string {
	if p.Service.Ports.Doors().Secure() {
		return "__Host-" + framedCookieName
	}
	return framedCookieName
}

// safe tells whether a browser takes this host's cookies for safe: by https, and those
// of this very machine.
func (p *Ports) safe(r *http.Request) bool {
	host := r.Host
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	return p.Service.Ports.Doors().Secure() || strings.HasSuffix(host, ".localhost")
}

// framing tells whether a page is wanted for a frame.
func framing(r *http.Request) bool {
	return r.Header.Get("Sec-Fetch-Dest") == "iframe" || r.Header.Get("Sec-Fetch-Dest") == "frame"
}

// fromConsole tells whether a page of the console itself has a frame of it
// begin. On a way from elsewhere the referrer is that of who asked first.
func (p *Ports) fromConsole(r *http.Request) bool {
	from, err := url.Parse(r.Referer())
	console, err2 := url.Parse(p.Service.Ports.Doors().Console)
	return err == nil && err2 == nil && framing(r) && r.Header.Get("Sec-Fetch-Mode") == "navigate" && r.Header.Get("Upgrade") == "" &&
		(r.Method == http.MethodGet || r.Method == http.MethodHead) && from.Host != "" && from.Scheme == console.Scheme && strings.EqualFold(from.Host, console.Host)
}

// letInFramed gives a frame the cookie of this host, and leads on to where it wants.
func (p *Ports) letInFramed(w http.ResponseWriter, r *http.Request, value string, expires time.Time) {
	c := &http.Cookie{Name: p.framedName(), Value: value, Path: "/", Expires: expires, HttpOnly: true, SameSite: http.SameSiteLaxMode}
	if p.safe(r) {
		c.SameSite, c.Secure, c.Partitioned = http.SameSiteNoneMode, true, true
	}
	http.SetCookie(w, c)
	w.Header().Set("Referrer-Policy", "origin") // what comes next is known by it
	p.leadOn(w, r)
}

var errNoFrames = &wire.Problem{Status: http.StatusForbidden, Detail: "the program behind this port forbids that its pages are shown within another page (X-Frame-Options, or frame-ancestors)", Next: "open its address in a tab of its own"}

// framed has the answer to a frame's visit be one that the console's page may show,
// unless the program itself forbids frames: then that is told in its place.
func (p *Ports) framed(r *http.Response) error {
	if !inFrame(r.Request) {
		return nil
	}
	if framing(r.Request) && forbids(r.Header) {
		return errNoFrames
	}
	if p.safe(r.Request) {
		for n, c := range r.Header["Set-Cookie"] {
			r.Header["Set-Cookie"][n] = partitioned(c)
		}
	}
	return nil
}

// inFrame tells whether a request is of a visit within a page of the console.
func inFrame(r *http.Request) bool {
	v, _ := r.Context().Value(goalKey{}).(service.Visit)
	return v.Framed
}

// forbids tells whether a program's answer forbids frames of other sites.
func forbids(h http.Header) bool {
	if h.Get("X-Frame-Options") != "" {
		return true
	}
	for _, policy := range h.Values("Content-Security-Policy") {
		if strings.Contains(strings.ToLower(policy), "frame-ancestors") {
			return true
		}
	}
	return false
}

// partitioned has a cookie that a program sets in a frame come back to it there: by
// default a browser sends none to a frame of another site.
func partitioned(field string) string {
	parts := strings.Split(field, ";")
	kept := parts[:1]
	for _, p := range parts[1:] {
		name, _, _ := strings.Cut(p, "=")
		switch strings.ToLower(strings.TrimSpace(name)) {
		case "samesite", "secure", "partitioned":
		default:
			kept = append(kept, p)
		}
	}
	return strings.Join(append(kept, " SameSite=None", " Secure", " Partitioned"), ";")
}
