package serve

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"math/big"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yardbench/internal/api"
)

// certificate writes one that signs itself, with its key.
func certificate(t *testing.T, dir, file string, serial int64, ends time.Time, names ...string) (cert, key string) {
	t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	of := &x509.Certificate{SerialNumber: big.NewInt(serial), NotBefore: time.Now().Add(-time.Hour), NotAfter: ends, DNSNames: names}
	der, err := x509.CreateCertificate(rand.Reader, of, of, k.Public(), k)
	if err != nil {
		t.Fatal(err)
	}
	raw, err := x509.MarshalPKCS8PrivateKey(k)
	if err != nil {
		t.Fatal(err)
	}
	cert, key = filepath.Join(dir, file+".pem"), filepath.Join(dir, file+".key")
	for path, b := range map[string]*pem.Block{cert: {Type: "CERTIFICATE", Bytes: der}, key: {Type: "PRIVATE KEY", Bytes: raw}} {
		if err := os.WriteFile(path, pem.EncodeToMemory(b), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return cert, key
}

// Who comes is shown the certificate that is for the name they ask for, and from when its
// files are another's that one; files that do not fit together change nothing.
func TestCertificatesAreReadAnew(t *testing.T) {
	dir := t.TempDir()
	soon, late := time.Now().Add(time.Hour).Truncate(time.Second), time.Now().Add(100*time.Hour).Truncate(time.Second)
	cert, key := certificate(t, dir, "console", 1, late, "bench.skerryline.example")
	ports, portsKey := certificate(t, dir, "ports", 2, soon, "*.skerryline-ports.example")
	if _, err := newCertificates([]string{cert, ports}, []string{key}); err == nil || !strings.Contains(err.Error(), "in the same order") {
		t.Errorf("two certificates with one key are answered %v", err)
	}
	if _, err := newCertificates([]string{cert}, []string{portsKey}); err == nil || !strings.Contains(err.Error(), "private key does not match") {
		t.Errorf("another's key is answered %v", err)
	}
	c, err := newCertificates([]string{cert, ports}, []string{key, portsKey})
	if err != nil {
		t.Fatal(err)
	}
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { _, _ = w.Write([]byte(r.Proto)) }))
	server.Config.Protocols = api.Server(nil).Protocols
	server.TLS = c.config()
	server.TLS.NextProtos = []string{"h2", "http/1.1"}
	server.EnableHTTP2 = true
	server.StartTLS()
	defer server.Close()
	shown := func(name string) int64 {
		t.Helper()
		c.mu.Lock()
		c.looked = time.Time{} // as if two seconds had passed
		c.mu.Unlock()
		conn, err := tls.Dial("tcp", server.Listener.Addr().String(), &tls.Config{ServerName: name, InsecureSkipVerify: true, NextProtos: []string{"h2"}}) // which it is, is looked at below
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		if p := conn.ConnectionState().NegotiatedProtocol; p != "h2" {
			t.Errorf("it speaks %q", p)
		}
		return conn.ConnectionState().PeerCertificates[0].SerialNumber.Int64()
	}
	for name, serial := range map[string]int64{"bench.skerryline.example": 1, "k3x-8000.skerryline-ports.example": 2, "elsewhere.example": 1} {
		if got := shown(name); got != serial {
			t.Errorf("who asks for %s is shown number %d", name, got)
		}
	}
	if !c.ends().Equal(soon) {
		t.Errorf("the first ends %s, want %s", c.ends(), soon)
	}
	if _, err := tls.Dial("tcp", server.Listener.Addr().String(), &tls.Config{InsecureSkipVerify: true, MaxVersion: tls.VersionTLS11}); err == nil {
		t.Error("it speaks TLS 1.1")
	}
	if err := os.WriteFile(ports, []byte("half a cert"), 0o600); err != nil {
		t.Fatal(err)
	}
	if got := shown("k3x-8000.skerryline-ports.example"); got != 2 {
		t.Errorf("while its file is half written it shows number %d", got)
	}
	if err := os.Remove(portsKey); err != nil {
		t.Fatal(err)
	}
	if got := shown("k3x-8000.skerryline-ports.example"); got != 2 {
		t.Errorf("without its key it shows number %d", got)
	}
	certificate(t, dir, "ports", 3, late.Add(time.Hour), "*.skerryline-ports.example")
	if got := shown("k3x-8000.skerryline-ports.example"); got != 3 {
		t.Errorf("once it is renewed it shows number %d", got)
	}
	if !c.ends().Equal(late) {
		t.Errorf("then the first ends %s, want %s", c.ends(), late)
	}
}

// What is wrong with how a service is to be started is told beforehand.
func TestCheckBeforeAStart(t *testing.T) {
	good := Config{Listen: "127.0.0.1:7080", Engine: "unix:///var/run/docker.sock"}
	for _, c := range []struct {
		name     string
		change   func(*Config)
		refusal  string
		warnings string
	}{
		{"as it comes", func(*Config) {}, "", ""},
		{"no port", func(c *Config) { c.Listen = "127.0.0.1" }, "--listen", ""},
		{"everywhere, with no name", func(c *Config) { c.Listen = "0.0.0.0:7080" }, "--public-address", ""},
		{"everywhere, with no host", func(c *Config) { c.Listen = ":7080" }, "--public-address", ""},
		{"metrics nowhere", func(c *Config) { c.MetricsListen = "7090" }, "--metrics-listen", ""},
		{"an engine elsewhere", func(c *Config) { c.Engine = "tcp://10.0.0.4:2375" }, "by a unix socket", ""},
		{"no scheme", func(c *Config) { c.Address = "bench.skerryline.example" }, "write it like", ""},
		{"a path", func(c *Config) { c.Address = "https://skerryline.example/bench" }, "write it like", ""},
		{"public, without ports and TLS", func(c *Config) { c.Address = "http://bench.skerryline.example" }, "", "--port-address; --tls-certificate"},
		{"as it should be", func(c *Config) {
			c.Address, c.PortForm = "https://bench.skerryline.example", "https://*.skerryline-ports.example"
		}, "", ""},
		{"one site", func(c *Config) {
			c.Address, c.PortForm = "https://bench.skerryline.example", "https://*.ports.skerryline.example"
		}, "another registered domain", ""},
		{"no star", func(c *Config) { c.PortForm = "https://ports.skerryline.example" }, "one * in its host", ""},
		{"a key alone", func(c *Config) { c.TLSKeys = []string{"a.key"} }, "each certificate has its key", ""},
		{"no proxy", func(c *Config) { c.Proxies = []string{"nginx"} }, "--proxies", ""},
	} {
		config := good
		c.change(&config)
		warnings, err := Check(config)
		if c.refusal == "" != (err == nil) || err != nil && !strings.Contains(err.Error(), c.refusal) {
			t.Errorf("%s: refused with %v, want %q", c.name, err, c.refusal)
		}
		var words []string
		if c.warnings != "" {
			words = strings.Split(c.warnings, "; ")
		}
		if len(warnings) != len(words) {
			t.Errorf("%s: it warns %q", c.name, warnings)
			continue
		}
		for i, word := range words {
			if !strings.Contains(warnings[i], word) {
				t.Errorf("%s: %q does not say %q", c.name, warnings[i], word)
			}
		}
	}
}
