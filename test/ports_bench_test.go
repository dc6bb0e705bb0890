package test

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/moby/moby/client"
)

// BenchmarkPorts: a program on a port of a workspace, asked through the ports' door,
// and through nginx with the same program behind it: how many requests a second by 32
// connections, and how long one takes at the median. Of nginx's 0.4 is promised, 0.7
// the goal; under half a millisecond more than it at the median.
func BenchmarkPorts(t *testing.B) {
	if _, err := exec.LookPath("nginx"); err != nil {
		t.Skip("needs nginx")
	}
	w := newWorld(t)
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 0, "is ready")
	dir := t.TempDir()
	program := filepath.Join(dir, "portserver")
	build := exec.Command("go", "build", "-o", program, "./testdata/portserver")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	w.must(w.as("ingrid", "", "copy", program, "quay:"), 0)
	go w.as("ingrid", "", "run", "quay", "--", "./portserver", ":8300")

	cli := w.docker()
	defer cli.Close()
	list, err := cli.ContainerList(context.Background(), client.ContainerListOptions{Filters: make(client.Filters).Add("label", "yardbench.workspace")})
	if err != nil {
		t.Fatal(err)
	}
	var inside netip.Addr
	for _, c := range list.Items {
		for _, n := range c.NetworkSettings.Networks {
			inside = n.IPAddress
		}
	}
	direct := fmt.Sprintf("%s:8300", inside)
	// The engine's networks are reached from within its own, where nginx runs.
	holder, err := os.ReadFile(filepath.Join(filepath.Dir(strings.TrimPrefix(w.engine, "unix://")), "holder.pid"))
	if err != nil {
		t.Skip("needs the engine that tools/engine starts")
	}
	within := []string{"-t", strings.TrimSpace(string(holder)), "-n"}
	conf := filepath.Join(dir, "nginx.conf")
	text := fmt.Sprintf("daemon off; pid %s/pid; error_log stderr; worker_processes auto;\nevents { worker_connections 1024; }\nhttp { access_log off; client_body_temp_path %[1]s/b; proxy_temp_path %[1]s/p; fastcgi_temp_path %[1]s/f; uwsgi_temp_path %[1]s/u; scgi_temp_path %[1]s/s; keepalive_requests 1000000;\nupstream w { server %[2]s; keepalive 64; }\nserver { listen 8301; location / { proxy_pass http://w; proxy_http_version 1.1; proxy_set_header Connection \"\"; } } }\n", dir, direct)
	if err := os.WriteFile(conf, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	nginx := exec.Command("nsenter", append(within, "nginx", "-e", "stderr", "-c", conf)...)
	if err := nginx.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = nginx.Process.Signal(os.Interrupt); _ = nginx.Wait() }()

	// The way in, as a browser goes it.
	c := w.client("ingrid")
	var address string
	for range 200 {
		ports, err := c.Ports.List(context.Background(), "quay", false)
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range ports {
			if p.Number == 8300 && p.Listening {
				address = p.Address
			}
		}
		if address != "" {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		t.Fatalf("it does not listen at %q", address)
	}
	pass, err := c.Ports.Visit(context.Background(), address)
	if err != nil {
		t.Fatal(err)
	}
	service := strings.TrimPrefix(w.address, "http://")
	browser := &http.Client{Transport: &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "tcp", service)
	}}, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	res, err := browser.Get(pass.Go)
	if err != nil || len(res.Cookies()) == 0 {
		t.Fatalf("it is not entered: %v, %v", res, err)
	}
	cookie := res.Cookies()[0].Name + "=" + res.Cookies()[0].Value
	res.Body.Close()

	measure := func(args ...string) (rate, median float64) {
		t.Helper()
		cmd := exec.Command(args[0], args[1:]...)
		cmd.Stderr = os.Stderr
		out, err := cmd.Output()
		if _, serr := fmt.Sscan(string(out), &rate, &median); err != nil || serr != nil {
			t.Fatalf("%v: %q, %v", args, out, err)
		}
		return rate, median
	}
	// One after the other, medians of five: a machine is not as quick at each time.
	var rates, times [2][]float64
	for range 5 {
		for i, args := range [][]string{append(append([]string{"nsenter"}, within...), program, "127.0.0.1:8301", "x", "x"), {program, service, u.Host, cookie}} {
			rate, once := measure(args...)
			rates[i], times[i] = append(rates[i], rate), append(times[i], once)
		}
	}
	other, ours, otherMedian, oursMedian := median(rates[0]), median(rates[1]), median(times[0]), median(times[1])
	t.Logf("requests a second: nginx %.0f, the door %.0f: %.2f of it", other, ours, ours/other)
	t.Logf("one request: nginx %.0f µs, the door %.0f µs: %.0f more", otherMedian, oursMedian, oursMedian-otherMedian)
	t.ReportMetric(ours/other, "of-nginx")
	t.ReportMetric((oursMedian-otherMedian)/1e3, "ms-added")
	t.ReportMetric(0, "ns/op")
	if ours < 0.4*other {
		t.Errorf("the door has %.2f of nginx's requests; 0.4 is promised", ours/other)
	}
	if oursMedian-otherMedian > 500 {
		t.Errorf("the door adds %.0f µs", oursMedian-otherMedian)
	}
}
