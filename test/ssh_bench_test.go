package test

import (
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/moby/moby/client"
)

// BenchmarkSSH: the door of SSH beside OpenSSH's own server in the same container,
// each by the same ssh of this machine: bytes a second of a command's input and
// output, of SFTP both ways, and 10,000 small files by rsync. Promised: half.
func BenchmarkSSH(b *testing.B) {
	w := newWorld(b)
	w.register("with-server", map[string]string{".devcontainer/devcontainer.json": `{"build": {"dockerfile": "Dockerfile"}, "remoteUser": "crew"}`,
		".devcontainer/Dockerfile": "FROM skerryline/base:1\nRUN apt-get update -qq && apt-get install -y -qq --no-install-recommends openssh-server openssh-sftp-server >/dev/null\n"})
	w.must(w.as("ingrid", "", "launch", "with-server", "--name", "quay", "--size", "middle"), 0, "is ready")
	home := b.TempDir()
	config := filepath.Join(home, "config")
	w.must(w.as("ingrid", "", "ssh", "configure", "--file", config), 0)
	key := filepath.Join(home, "key")
	if out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key).CombinedOutput(); err != nil {
		b.Fatalf("%s", out)
	}
	public, err := os.ReadFile(key + ".pub")
	if err != nil {
		b.Fatal(err)
	}
	w.must(w.as("ingrid", string(public), "run", "quay", "--", "sh", "-c", `mkdir -p -m 700 ~/.ssh && cat > ~/.ssh/authorized_keys && ssh-keygen -q -t ed25519 -N '' -f ~/.ssh/host &&
		/usr/sbin/sshd -f /dev/null -p 2222 -h ~/.ssh/host -o PidFile=none -o StrictModes=no -o "Subsystem=sftp /usr/lib/openssh/sftp-server"`), 0)
	ws, err := w.client("ingrid").Workspaces.Show(b.Context(), "quay")
	if err != nil {
		b.Fatal(err)
	}
	list, err := w.docker().ContainerList(b.Context(), client.ContainerListOptions{Filters: client.Filters{}.Add("label", "yardbench.workspace="+ws.ID)})
	if err != nil || len(list.Items) != 1 {
		b.Fatalf("%v, %v", list, err)
	}
	address := ""
	for _, n := range list.Items[0].NetworkSettings.Networks {
		address = n.IPAddress.String()
	}
	holder, err := os.ReadFile(filepath.Join(filepath.Dir(strings.TrimPrefix(w.engine, "unix://")), "holder.pid"))
	if err != nil {
		b.Skip("needs the engine that tools/engine starts")
	}
	f, err := os.OpenFile(config, os.O_APPEND|os.O_WRONLY, 0)
	if err == nil {
		_, err = fmt.Fprintf(f, "Host theirs\n  HostName %s\n  Port 2222\n  User crew\n  IdentityFile %s\n  StrictHostKeyChecking no\n  UserKnownHostsFile /dev/null\n  LogLevel ERROR\n", address, key)
	}
	if err != nil || f.Close() != nil {
		b.Fatal(err)
	}
	const size = 512 << 20
	// The engine's networks are reached from within its own.
	program := func(host, name string) string {
		if host == "theirs" {
			return "nsenter -t " + strings.TrimSpace(string(holder)) + " -n " + name + " -F " + config
		}
		return name + " -F " + config
	}
	run := func(stdin io.Reader, args ...string) time.Duration {
		b.Helper()
		cmd := exec.Command(args[0], args[1:]...)
		cmd.Stdin, cmd.Env = stdin, append(os.Environ(), "HOME="+home)
		began := time.Now()
		if out, err := cmd.CombinedOutput(); err != nil {
			b.Fatalf("%v: %v: %.500s", args, err, out)
		}
		return time.Since(began)
	}
	tree, big := filepath.Join(home, "tree"), filepath.Join(home, "big")
	for n := range 10_000 {
		dir := filepath.Join(tree, fmt.Sprint(n%100))
		if err := os.MkdirAll(dir, 0o755); err != nil {
			b.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, fmt.Sprint(n)), []byte(strings.Repeat("x", n%2000)), 0o644); err != nil {
			b.Fatal(err)
		}
	}
	if err := os.WriteFile(big, make([]byte, size), 0o644); err != nil {
		b.Fatal(err)
	}
	for _, c := range []struct {
		what string
		do   func(host string) time.Duration
	}{
		{"in", func(host string) time.Duration {
			f, err := os.Open(big)
			if err != nil {
				b.Fatal(err)
			}
			defer f.Close()
			return run(f, "sh", "-c", program(host, "ssh")+" "+host+" 'cat > /dev/null'")
		}},
		{"out", func(host string) time.Duration {
			return run(nil, "sh", "-c", fmt.Sprintf("%s %s 'head -c %d /dev/zero' > /dev/null", program(host, "ssh"), host, size))
		}},
		{"sftp-put", func(host string) time.Duration {
			return run(strings.NewReader("put "+big+" /tmp/big\n"), "sh", "-c", program(host, "sftp")+" -b - "+host)
		}},
		{"sftp-get", func(host string) time.Duration {
			return run(strings.NewReader("get /tmp/big "+filepath.Join(home, "back")+"\n"), "sh", "-c", program(host, "sftp")+" -b - "+host)
		}},
		{"rsync", func(host string) time.Duration {
			return run(nil, "rsync", "-a", "-e", program(host, "ssh"), tree+"/", host+":/tmp/tree-"+host+"/")
		}},
		{"begin", func(host string) time.Duration { return run(nil, "sh", "-c", program(host, "ssh")+" "+host+" true") }},
	} {
		var ours, theirs []float64
		for range 3 {
			theirs = append(theirs, c.do("theirs").Seconds())
			ours = append(ours, c.do("quay.bench").Seconds())
		}
		b.ReportMetric(median(theirs)/median(ours), c.what+"-of-sshd")
		b.ReportMetric(median(ours), c.what+"-s")
	}
	b.ReportMetric(0, "ns/op")
}

func median(all []float64) float64 {
	slices.Sort(all)
	return all[len(all)/2]
}
