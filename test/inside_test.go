package test

import (
	"net"
	"strings"
	"testing"

	"github.com/moby/moby/client"
)

// What runs in a workspace reaches its git host through the service, and outside
// what the engine's machine lets it reach; not the service, the engine, the
// machine itself, what a machine tells of itself, or another workspace.
func TestFromInside(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.must(w.as("mats", "", "launch", "tide-board", "--name", "quay"), 0, "is ready")
	w.must(w.as("mats", "", "run", "quay", "--", "sh", "-c", "python3 -m http.server 8400 --bind 0.0.0.0 >/dev/null 2>&1 & sleep 1; python3 -c \"import urllib.request as u; u.urlopen('http://127.0.0.1:8400')\""), 0)
	w.must(w.as("ingrid", "", "launch", "fare-desk", "--name", "desk"), 0, "is ready")
	address := func(who, name string) (own, gateway string) {
		t.Helper()
		ws, err := w.client(who).Workspaces.Show(t.Context(), name)
		if err != nil {
			t.Fatal(err)
		}
		list, err := w.docker().ContainerList(t.Context(), client.ContainerListOptions{Filters: client.Filters{}.Add("label", "yardbench.workspace="+ws.ID)})
		if err != nil || len(list.Items) == 0 {
			t.Fatalf("%s has no container: %v", name, err)
		}
		for _, n := range list.Items[0].NetworkSettings.Networks {
			own, gateway = n.IPAddress.String(), n.Gateway.String()
		}
		return own, gateway
	}
	neighbour, _ := address("mats", "quay")
	_, gateway := address("ingrid", "desk")
	// Something on every address of the machine, as the service may be.
	l, err := net.Listen("tcp", "0.0.0.0:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	_, port, _ := net.SplitHostPort(l.Addr().String())
	const look = `
import concurrent.futures, socket, sys
def look(line):
    host, port = line.rsplit(" ", 1)
    try:
        socket.create_connection((host, int(port)), 2).close()
        return "reached " + line
    except OSError as e:
        return "not " + line + " " + type(e).__name__
print("\n".join(concurrent.futures.ThreadPoolExecutor(32).map(look, sys.argv[1:])))
`
	targets := []string{gateway + " " + port, gateway + " 22", "172.31.255.1 " + port, "169.254.169.254 80", "169.254.0.1 80", neighbour + " 8400", "::1 " + port, "fe80::1 " + port, "fd00::1 80"}
	for _, a := range machineAddresses(t) {
		targets = append(targets, a+" "+port)
	}
	out := w.must(w.as("ingrid", "", append([]string{"run", "desk", "--", "python3", "-c", look}, targets...)...), 0)
	if n := strings.Count(out, "not "); n != len(targets) || strings.Contains(out, "reached") {
		t.Errorf("from inside of %d addresses it is\n%s", len(targets), out)
	}
	if out := w.must(w.as("ingrid", "", "run", "desk", "--", "sh", "-c", "ls /var/run/docker.sock /run/docker.sock 2>&1; cat /proc/sys/net/ipv6/conf/all/disable_ipv6; git ls-remote origin"), 0, "refs/heads/main"); strings.Contains(out, "\n/") || !strings.Contains(out, "\n1\n") {
		t.Errorf("the engine's socket, or a way by IPv6: %s", out)
	}
}

// machineAddresses are this machine's own, of version 4.
func machineAddresses(t *testing.T) (out []string) {
	t.Helper()
	all, err := net.InterfaceAddrs()
	if err != nil {
		t.Fatal(err)
	}
	for _, a := range all {
		if n, ok := a.(*net.IPNet); ok && n.IP.To4() != nil && !n.IP.IsLoopback() {
			out = append(out, n.IP.String())
		}
	}
	return out
}
