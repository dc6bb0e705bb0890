package access

import (
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"yardbench/wire"
)

// A page of the console shows a port in a frame, by a pass and a cookie of its own; to
// whatever else frames it, or asks by that cookie, the door is shut.
func TestFrames(t *testing.T) {
	answer := func(w http.ResponseWriter, r *http.Request) {
		w.Header().Add("Set-Cookie", "seat=7; Path=/; SameSite=Lax; HttpOnly")
		switch r.URL.Path {
		case "/never":
			w.Header().Set("X-Frame-Options", "DENY")
		case "/nobody":
			w.Header().Set("Content-Security-Policy", "default-src 'self'; Frame-Ancestors 'none'")
		}
		_, _ = io.WriteString(w, "tides "+r.Header.Get("Cookie"))
	}
	c, own, _, s, a, host := behind(t, answer)
	pass, err := s.Ports.VisitPort(t.Context(), a, wire.PortVisit{Address: "http://" + host + "/tides?day=1", Framed: true})
	if err != nil {
		t.Fatal(err)
	}
	console := s.Ports.Doors().Console
	if u, err := url.Parse(console); err != nil || u.Host == "" {
		t.Fatalf("the console is at %q", console)
	}
	res, err := c.Get(pass.Go)
	if err != nil || len(res.Cookies()) != 1 {
		t.Fatalf("it is not entered: %v, %v", res, err)
	}
	res.Body.Close()
	cookie := res.Cookies()[0]
	if cookie.Name != framedCookieName || !cookie.Secure || !cookie.Partitioned || cookie.SameSite != http.SameSiteNoneMode || !cookie.HttpOnly ||
		res.Header.Get("Referrer-Policy") != "origin" || res.Header.Get("Location") != "/tides?day=1" {
		t.Errorf("a frame is let in by %+v, with %v", cookie, res.Header)
	}
	const other = "http://aaaaaaaaaa-3000.ports.localhost:7080"
	frame := []string{"Sec-Fetch-Site", "cross-site", "Sec-Fetch-Mode", "navigate", "Sec-Fetch-Dest", "iframe"}
	for _, k := range []struct {
		what, method, path, cookie string
		header                     []string
		want                       int
		says                       string
	}{
		{"the console's page", "GET", "/", "framed", append(frame, "Referer", console+"/"), 200, "tides"},
		{"the frame's own page", "GET", "/", "framed", []string{"Sec-Fetch-Site", "same-origin", "Sec-Fetch-Dest", "empty"}, 200, "tides"},
		{"a frame that loads itself again", "GET", "/", "framed", []string{"Sec-Fetch-Site", "same-origin", "Sec-Fetch-Mode", "navigate", "Sec-Fetch-Dest", "iframe"}, 200, "tides"},
		{"a page elsewhere", "GET", "/", "framed", append(frame, "Referer", "https://evil.example/"), 403, "a page elsewhere"},
		{"a page that does not say where it is", "GET", "/", "framed", frame, 403, "a page elsewhere"},
		{"what another workspace shows in a frame beside it", "GET", "/", "framed", append(frame, "Referer", other+"/"), 403, "a page elsewhere"},
		{"a form of the console's page", "POST", "/", "framed", append(frame, "Referer", console+"/"), 403, "a page elsewhere"},
		{"a picture on the console's page", "GET", "/", "framed", []string{"Sec-Fetch-Site", "cross-site", "Sec-Fetch-Mode", "no-cors", "Sec-Fetch-Dest", "image", "Referer", console + "/"}, 403, "a page elsewhere"},
		{"a frame without its cookie", "GET", "/", "", append(frame, "Referer", console+"/"), 401, "not let in any more"},
		{"a program that forbids frames", "GET", "/never", "framed", append(frame, "Referer", console+"/"), 403, "open its address in a tab"},
		{"and one that does by its policy", "GET", "/nobody", "framed", append(frame, "Referer", console+"/"), 403, "open its address in a tab"},
		{"which is not the frame's own to ask", "GET", "/never", "framed", []string{"Sec-Fetch-Site", "same-origin", "Sec-Fetch-Dest", "empty"}, 200, "tides"},
		{"a tab beside it", "GET", "/never", "tab", []string{"Sec-Fetch-Site", "none", "Sec-Fetch-Mode", "navigate", "Sec-Fetch-Dest", "document"}, 200, "tides"},
	} {
		r, _ := http.NewRequestWithContext(t.Context(), k.method, "http://"+host+k.path, nil)
		switch k.cookie {
		case "framed":
			r.Header.Set("Cookie", "theirs=1; "+framedCookieName+"="+cookie.Value)
		case "tab":
			r.Header.Set("Cookie", "theirs=1; "+own)
		}
		for i := 0; i < len(k.header); i += 2 {
			r.Header.Set(k.header[i], k.header[i+1])
		}
		res, err := c.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		body, _ := io.ReadAll(res.Body)
		res.Body.Close()
		if res.StatusCode != k.want || !strings.Contains(string(body), k.says) || strings.Contains(string(body), cookie.Value) {
			t.Errorf("%s is answered %d: %s", k.what, res.StatusCode, body)
		}
		if res.StatusCode != 200 {
			continue
		}
		policy, set := strings.Join(res.Header.Values("Content-Security-Policy"), "; "), res.Header.Get("Set-Cookie")
		if framed := k.cookie == "framed"; strings.Contains(policy, "frame-ancestors 'self' "+console) != framed || strings.HasSuffix(set, "; SameSite=None; Secure; Partitioned") != framed || !strings.Contains(set, "seat=7; Path=/") {
			t.Errorf("%s is answered with %q and %q", k.what, policy, set)
		}
	}
}
