package webhook

import (
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"os"
	"strings"
	"testing"
	"time"

	"yardbench/internal/bound"
	"yardbench/internal/reach"

	"yardbench/internal/core/journal"
)

func TestCheck(t *testing.T) {
	for address, wrong := range map[string]string{
		"https://hooks.skerryline.example/x": "", "http://203.0.113.9:8080/x?y=z": "", "https://allowed.localhost/x": "",
		"https://127.0.0.1/": "inside", "http://10.1.2.3/": "inside", "http://[::1]/": "inside", "http://169.254.169.254/": "inside", "http://[::ffff:192.168.0.1]/": "inside", "http://100.64.1.1/": "inside", "http://0.0.0.0/": "inside", "http://0.1.2.3/": "inside", "http://255.255.255.255/": "inside", "http://198.18.0.1/": "inside", "http://[64:ff9b::a9fe:a9fe]/": "inside", "http://[2002:7f00:1::]/": "inside", "http://[::7f00:1]/": "inside", "http://[fec0::1]/": "inside", "http://[2001::1]/": "inside", "http://localhost/": "inside", "http://x.localhost/": "inside",
		"ftp://x/": "no address", "x": "no address", "https://": "no address", "https://a:b@x/": "user name", "https://x/#y": "fragment",
	} {
		err := Check(address, []string{"allowed.localhost"})
		if (err == nil) != (wrong == "") || (err != nil && !strings.Contains(err.Error(), wrong)) {
			t.Errorf("%s is answered %v", address, err)
		}
	}
}

func TestPost(t *testing.T) {
	var got *http.Request
	var body []byte
	answer := http.StatusNoContent
	host := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		got = r
		body, _ = io.ReadAll(r.Body)
		if answer == http.StatusFound {
			w.Header().Set("Location", "/elsewhere")
		}
		w.WriteHeader(answer)
	}))
	defer host.Close()
	at := time.Date(2026, 11, 25, 8, 0, 0, 0, time.UTC)
	if status, err := Post(t.Context(), host.URL+"/hook", []string{"127.0.0.1"}, "ebb", "the head", at, []byte(`{}`)); err != nil || status != 204 {
		t.Fatalf("it is answered %d, %v", status, err)
	}
	h := got.Header
	if h.Get("Content-Type") != "application/cloudevents+json" || h.Get("Journal-Head") != "the head" || h.Get("Hook-Mark") != journal.Mark("ebb", h.Get("Hook-Time"), body) || string(body) != "{}" {
		t.Errorf("it was sent %v with %s", h, body)
	}
	for _, answer = range []int{http.StatusFound, http.StatusInternalServerError, http.StatusGone} {
		if status, err := Post(t.Context(), host.URL, []string{"127.0.0.1"}, "", "", at, nil); err == nil || status != answer {
			t.Errorf("an answer of %d counts: %d, %v", answer, status, err)
		}
	}
	// A name that leads inside is found out when it is dialled.
	self, err := os.Hostname()
	if err != nil {
		t.Fatal(err)
	}
	inside := strings.Replace(host.URL, "127.0.0.1", self, 1) // the machine's own name
	got = nil
	if _, err := Post(t.Context(), inside, nil, "", "", at, nil); !errors.Is(err, ErrInside) || got != nil {
		t.Errorf("a name that leads inside is answered %v", err)
	}
	host.Close()
	if status, err := Post(t.Context(), host.URL, []string{"127.0.0.1"}, "", "", at, nil); err == nil || status != 0 {
		t.Errorf("nobody there is answered %d, %v", status, err)
	}
}

// FuzzAddress: an address that is let through is one of the web, and names
// nobody's password.
func FuzzAddress(f *testing.F) {
	for _, a := range []string{"https://hooks.skerryline.example/yard", "http://127.0.0.1", "http://[::ffff:7f00:1]/", "http://u:p@x/", "gopher://x", "http://0x7f.1/", "https://x#y", "http://LOCALHOST./", "http://[fe80::1%25lo]/"} {
		f.Add(a)
	}
	f.Fuzz(func(t *testing.T, address string) {
		if len(address) > 4096 {
			return
		}
		bound.Hold(t, 64, func() {
			if Check(address, nil) != nil {
				return
			}
			u, err := url.Parse(address)
			if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.User != nil || u.Host == "" {
				t.Errorf("%q is let through", address)
				return
			}
			if ip, err := netip.ParseAddr(u.Hostname()); err == nil && !reach.Open(ip) {
				t.Errorf("%q is let through, and leads to %s", address, ip)
			}
		})
	})
}
