package serve

import "testing"

// The console and the ports must not be one site to a browser.
func TestOneSite(t *testing.T) {
	for _, c := range []struct{ console, ports, site string }{
		{"http://127.0.0.1:7080", "http://*.ports.localhost:7080", ""},
		{"http://localhost:7080", "http://*.ports.localhost:7080", ""},
		{"http://bench.yard.localhost:7080", "http://*.ports.yard.localhost:7080", "yard.localhost"},
		{"https://bench.skerryline.example", "https://*.skerryline-ports.example", ""},
		{"https://bench.skerryline.example", "https://*.ports.skerryline.example", "skerryline.example"},
		{"https://skerryline.example:8443", "https://*.SKERRYLINE.example.", "skerryline.example"},
		{"https://bench.skerryline.co.uk", "https://*.ports.other.co.uk", ""},
		{"https://bench.skerryline.co.uk", "https://*.skerryline.co.uk", "skerryline.co.uk"},
		{"http://10.0.0.1", "http://10.0.0.2", ""},
	} {
		if got := commonSite(c.console, c.ports); got != c.site {
			t.Errorf("%s and %s have %q in common, not %q", c.console, c.ports, got, c.site)
		}
	}
}
