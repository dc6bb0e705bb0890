package test

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"yardbench/wire"
)

// The worked examples of docs/proxies.md, with other ports and files, and nothing else:
// sign-in, launch, terminals, runs, what is followed, large files and a port of a workspace
// go through them.
func TestBehindAProxy(t *testing.T) {
	engine := needEngine(t)
	for _, need := range []string{"nginx", "haproxy"} {
		if _, err := exec.LookPath(need); err != nil {
			t.Skip("needs " + need)
		}
	}
	doc, err := os.ReadFile("../docs/proxies.md")
	if err != nil {
		t.Fatal(err)
	}
	ca := newAuthority(t)
	w := newWorldOn(t, engine)
	behind := strings.TrimPrefix(w.address, "http://")
	blocks := regexp.MustCompile("(?s)```(nginx|haproxy)\n(.*?)```").FindAllStringSubmatch(string(doc), -1)
	if len(blocks) != 3 {
		t.Fatalf("the document has %d examples", len(blocks))
	}
	console, consoleKey := ca.give("console", 2, time.Hour, "bench.skerryline.example")
	ports, portsKey := ca.give("ports", 3, time.Hour, "*.skerryline-ports.example")
	dir := t.TempDir()
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	write := func(name, text string) string {
		t.Helper()
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	kinds := map[string]func(front string) *exec.Cmd{"nginx": func(front string) *exec.Cmd {
		common := write("yardbench.conf", strings.ReplaceAll(blocks[1][2], "127.0.0.1:7080", behind))
		servers := strings.NewReplacer("listen 443", "listen "+front, "/etc/ssl/bench.skerryline.example.pem", console, "/etc/ssl/bench.skerryline.example.key", consoleKey,
			"/etc/ssl/skerryline-ports.example.pem", ports, "/etc/ssl/skerryline-ports.example.key", portsKey, "/etc/nginx/yardbench.conf", common).Replace(blocks[0][2])
		conf := write("nginx.conf", fmt.Sprintf("daemon off; pid %s/pid; error_log stderr; worker_processes 1;\nevents { worker_connections 256; }\nhttp { access_log off; client_body_temp_path %[1]s/b; proxy_temp_path %[1]s/p; fastcgi_temp_path %[1]s/f; uwsgi_temp_path %[1]s/u; scgi_temp_path %[1]s/s;\n%[2]s\n}\n", dir, servers))
		return exec.Command("nginx", "-e", "stderr", "-c", conf)
	}, "haproxy": func(front string) *exec.Cmd {
		certs := filepath.Join(dir, "certificates")
		if err := os.MkdirAll(certs, 0o700); err != nil {
			t.Fatal(err)
		}
		for name, pair := range map[string][2]string{"console.pem": {console, consoleKey}, "ports.pem": {ports, portsKey}} {
			one, _ := os.ReadFile(pair[0])
			other, err := os.ReadFile(pair[1])
			if err != nil {
				t.Fatal(err)
			}
			write("certificates/"+name, string(one)+string(other))
		}
		conf := write("haproxy.cfg", strings.NewReplacer("bind :443", "bind "+front, "/etc/haproxy/certificates/", certs, "127.0.0.1:7080", behind).Replace(blocks[2][2]))
		return exec.Command("haproxy", "-db", "-f", conf)
	}}
	for kind, start := range kinds {
		front := fmt.Sprintf("127.0.0.1:%d", freePort(t))
		_, port, _ := net.SplitHostPort(front) // it was made here
		proxy := start(front)
		said := &syncBuffer{}
		proxy.Stdout, proxy.Stderr = said, said
		if err := proxy.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = proxy.Process.Signal(syscall.SIGTERM); _ = proxy.Wait() })
		w.kill()
		w.more = append(bounds(), "--public-address", "https://"+front, "--port-address", "https://*.skerryline-ports.example:"+port)
		w.start()
		byProxy(t, w, ca, kind, front, said)
	}
}

// byProxy does by a proxy what people do.
func byProxy(t *testing.T, w *world, ca *authority, kind, front string, said *syncBuffer) {
	plain := w.address
	pool := x509.NewCertPool()
	pool.AddCert(ca.cert)
	browser := &http.Client{Timeout: time.Minute, Transport: &http.Transport{ForceAttemptHTTP2: true, TLSClientConfig: &tls.Config{RootCAs: pool}, DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "tcp", front)
	}}, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	_, port, _ := net.SplitHostPort(front) // it was made here
	public := "https://" + front
	for end := time.Now().Add(slack * 10 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		res, err := browser.Get("https://bench.skerryline.example:" + port + "/live")
		if err == nil {
			res.Body.Close()
			break
		}
		if time.Now().After(end) {
			t.Fatalf("%v\n%s", err, said)
		}
	}
	mine := filepath.Join(t.TempDir(), "config")
	as := func(stdin string, args ...string) result {
		t.Helper()
		c := w.command("ingrid", stdin, args...)
		c.Env = append(c.Env, "YARDBENCH_CONFIG="+mine)
		return c.run()
	}
	w.must(as("skerry-line\n", "sign-in", public, "--as", "ingrid"), 0)
	name := "behind-" + kind
	w.must(as("", "launch", "tide-board", "--name", name), 0, "is ready")
	w.must(as("what comes in", "run", name, "--", "cat"), 0, "what comes in")
	large := filepath.Join(t.TempDir(), "large")
	if err := os.WriteFile(large, make([]byte, 20<<20), 0o600); err != nil {
		t.Fatal(err)
	}
	w.must(as("", "copy", large, name+":"), 0)
	w.must(as("", "run", name, "--", "sh", "-c", "wc -c < large"), 0, fmt.Sprint(20<<20))
	follow := w.command("ingrid", "", "journal", "list", "--follow")
	follow.Env = append(follow.Env, "YARDBENCH_CONFIG="+mine)
	told := &syncBuffer{}
	follow.Stdout, follow.Stderr = told, told
	if err := follow.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = follow.Process.Kill(); _ = follow.Wait() })
	w.must(as("", "hold", name, "1h", "--why", "behind a proxy"), 0)
	for end := time.Now().Add(slack * 5 * time.Second); !strings.Contains(told.String(), "workspace.held"); time.Sleep(50 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("what is followed does not come:\n%s", told)
		}
	}
	// A port, by its own name.
	go as("", "run", name, "--", "python3", "-m", "http.server", "8300")
	w.until(w.client("ingrid"), name, 20*time.Second, func(ws wire.Workspace) bool { return hasPort(w, name, 8300) })
	ports, err := w.client("ingrid").Ports.List(t.Context(), name, false)
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range ports {
		if p.Number != 8300 {
			continue
		}
		if !strings.HasSuffix(strings.TrimSuffix(p.Address, "/"), ".skerryline-ports.example:"+port) {
			t.Errorf("the port's address is %s", p.Address)
		}
		pass, err := w.client("ingrid").Ports.Visit(t.Context(), p.Address)
		if err != nil {
			t.Fatal(err)
		}
		res, err := browser.Get(pass.Go)
		if err != nil {
			t.Fatal(err)
		}
		res.Body.Close()
		ask, _ := http.NewRequest("GET", p.Address, nil) // it is an address
		for _, c := range res.Cookies() {
			ask.AddCookie(c)
		}
		if res, err = browser.Do(ask); err != nil {
			t.Fatal(err)
		}
		page, _ := io.ReadAll(res.Body) // what came is looked at
		res.Body.Close()
		if res.StatusCode != 200 || !strings.Contains(string(page), "large") {
			t.Errorf("the port answers %s: %s", res.Status, page)
		}
	}
	w.must(as("", "stop", name), 0)
	if w.address != plain {
		t.Errorf("the service moved to %s", w.address)
	}
}

// hasPort tells whether a program listens at a port of a workspace.
func hasPort(w *world, name string, number int) bool {
	ports, err := w.client("ingrid").Ports.List(w.t.Context(), name, false)
	return err == nil && slices.ContainsFunc(ports, func(p wire.Port) bool { return p.Number == number && p.Listening })
}
