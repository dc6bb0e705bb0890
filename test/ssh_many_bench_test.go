package test

import (
	"crypto/ed25519"
	"crypto/rand"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"yardbench/wire"
)

// BenchmarkManyFilesByRsync: a tree of 60,000 files goes into a workspace by rsync and
// comes back, and is the same.
func BenchmarkManyFilesByRsync(b *testing.B) {
	w := newWorld(b)
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 0, "is ready")
	home := b.TempDir()
	config, tree, back := filepath.Join(home, "config"), filepath.Join(home, "tree"), filepath.Join(home, "back")
	w.must(w.as("ingrid", "", "ssh", "configure", "--file", config), 0)
	for n := range 60_000 {
		dir := filepath.Join(tree, fmt.Sprint(n%300))
		if err := os.MkdirAll(dir, 0o755); err != nil {
			b.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, fmt.Sprintf("%d æ", n)), []byte(strings.Repeat(fmt.Sprint(n, " "), n%300)), 0o644); err != nil {
			b.Fatal(err)
		}
	}
	run := func(args ...string) time.Duration {
		b.Helper()
		cmd := exec.Command(args[0], args[1:]...)
		cmd.Env = append(os.Environ(), "HOME="+home)
		began := time.Now()
		if out, err := cmd.CombinedOutput(); err != nil {
			b.Fatalf("%v: %v: %.500s", args, err, out)
		}
		return time.Since(began)
	}
	by := "ssh -F " + config
	b.ReportMetric(run("rsync", "-a", "-e", by, tree+"/", "quay.bench:tree/").Seconds(), "in-s")
	b.ReportMetric(run("rsync", "-a", "-e", by, "quay.bench:tree/", back+"/").Seconds(), "back-s")
	b.ReportMetric(run("rsync", "-a", "-e", by, tree+"/", "quay.bench:tree/").Seconds(), "again-s")
	run("diff", "-r", tree, back)
	b.ReportMetric(0, "ns/op")
}

// BenchmarkIdleSSH: the memory that the service takes for a thousand connections by
// SSH on which nothing goes on, of five people.
func BenchmarkIdleSSH(b *testing.B) {
	w := newWorld(b)
	people := []string{"ingrid", "runa", "peder", "astrid", "mats"}
	keys := map[string]ssh.Signer{}
	for _, p := range people {
		w.must(w.as(p, "", "launch", "tide-board", "--name", p), 0, "is ready")
		_, private, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			b.Fatal(err)
		}
		if keys[p], err = ssh.NewSignerFromKey(private); err != nil {
			b.Fatal(err)
		}
		if _, err := w.client(p).Self.AddKey(b.Context(), wire.NewSSHKey{Key: string(ssh.MarshalAuthorizedKey(keys[p].PublicKey()))}); err != nil {
			b.Fatal(err)
		}
	}
	w.kill() // what the launches have taken goes with it
	w.start()
	door, err := w.client("ingrid").Self.SSHDoor(b.Context())
	if err != nil {
		b.Fatal(err)
	}
	w.rest()
	_, before := w.use()
	var wg sync.WaitGroup
	all := make(chan *ssh.Client, 1000)
	for _, p := range people {
		wg.Go(func() {
			for range 200 {
				c, err := ssh.Dial("tcp", door.Address, &ssh.ClientConfig{User: p, Auth: []ssh.AuthMethod{ssh.PublicKeys(keys[p])}, HostKeyCallback: ssh.InsecureIgnoreHostKey(), Timeout: 30 * time.Second})
				if err == nil { // somebody has looked around, once
					var out []byte
					var s *ssh.Session
					if s, err = c.NewSession(); err == nil {
						out, err = s.Output("echo here")
					}
					if err == nil && string(out) != "here\n" {
						err = fmt.Errorf("it says %q", out)
					}
				}
				if err != nil {
					b.Errorf("%s: %v", p, err)
					return
				}
				all <- c
			}
		})
	}
	wg.Wait()
	w.rest()
	_, after := w.use()
	n := len(all)
	b.Logf("with %d connections by SSH the service takes %.0f MiB, %.0f more than without", n, float64(after)/(1<<20), float64(after-before)/(1<<20))
	b.ReportMetric(float64(after-before)/(1<<20), "MiB")
	b.ReportMetric(0, "ns/op")
	for range n {
		(<-all).Close()
	}
}
