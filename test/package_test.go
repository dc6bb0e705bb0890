package test

import (
	"bufio"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// The Debian package, on a machine of its own: it is installed, the service runs as nobody
// special and with its settings, it is upgraded over settings that were changed, removed,
// and purged; people's data is never taken away.
func TestPackage(t *testing.T) {
	needEngine(t) // its base image is the machine
	for _, need := range []string{"dpkg-deb", "systemd-analyze", "chroot"} {
		if _, err := exec.LookPath(need); err != nil {
			t.Skip("needs " + need)
		}
	}
	if os.Geteuid() != 0 {
		t.Skip("needs root")
	}
	dir := t.TempDir()
	made := func(version string) string {
		t.Helper()
		cmd := exec.Command("../tools/package", dir, version)
		cmd.Env = append(os.Environ(), "YARDBENCH_PACKAGE_EFFORT=1", "YARDBENCH_BINARY="+os.Getenv("YARDBENCH_TEST_BINARY"))
		cmd.Stderr = os.Stderr
		out, err := cmd.Output()
		if err != nil {
			t.Fatalf("make the package: %v", err)
		}
		return strings.TrimSpace(string(out))
	}
	tar, err := exec.Command("../tools/base-image").Output()
	if err != nil {
		t.Fatal(err)
	}
	machine := filepath.Join(dir, "machine")
	if err := os.Mkdir(machine, 0o755); err != nil {
		t.Fatal(err)
	}
	for _, d := range []string{dir, filepath.Dir(dir)} { // who is nobody special goes through them
		if err := os.Chmod(d, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if out, err := exec.Command("tar", "-C", machine, "-xf", strings.TrimSpace(string(tar))).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	in := func(args ...string) string {
		t.Helper()
		cmd := exec.Command("chroot", append([]string{machine}, args...)...)
		cmd.Env = []string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin", "DEBIAN_FRONTEND=noninteractive"}
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Fatalf("%v: %v: %s", args, err, out)
		}
		return string(out)
	}
	install := func(pkg string) string {
		t.Helper()
		if err := os.Rename(pkg, filepath.Join(machine, "pkg.deb")); err != nil {
			t.Fatal(err)
		}
		return in("dpkg", "--force-confold", "-i", "/pkg.deb")
	}
	at := func(path string) string { return filepath.Join(machine, path) }
	says := func(out string, words ...string) {
		t.Helper()
		for _, w := range words {
			if !strings.Contains(out, w) {
				t.Errorf("%q is not said:\n%s", w, out)
			}
		}
	}
	in("groupadd", "docker")
	says(install(made("1.0")), "systemctl enable --now yardbench")
	says(in("id", "yardbench"), "docker")
	says(in("stat", "-c", "%a %U", "/var/lib/yardbench"), "700 yardbench")
	says(in("stat", "-c", "%a %U %G", "/etc/yardbench"), "750 root yardbench")
	unit, err := os.ReadFile(at("usr/lib/systemd/system/yardbench.service"))
	if err != nil {
		t.Fatal(err)
	}
	here := filepath.Join(dir, "yardbench.service") // with a program that is there
	if err := os.WriteFile(here, []byte(strings.ReplaceAll(string(unit), "/usr/bin/yardbench", os.Getenv("YARDBENCH_TEST_BINARY"))), 0o600); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("systemd-analyze", "verify", here).CombinedOutput(); err != nil || strings.Contains(string(out), "yardbench.service:") {
		t.Errorf("the unit: %v: %s", err, out)
	}
	if out, err := exec.Command("systemd-analyze", "security", "--offline=true", "--threshold=25", "--root="+machine, "yardbench.service").CombinedOutput(); err != nil { // of 100
		t.Errorf("the unit leaves much open: %v: %s", err, out)
	}
	serves := func() {
		t.Helper()
		cmd := exec.Command("chroot", "--userspec=yardbench:yardbench", "--groups=docker", machine, "/usr/bin/yardbench", "serve", "--engine", "sim:skerryline/base:1", "--listen", "127.0.0.1:0", "--ssh-listen", "127.0.0.1:0", "--metrics-listen", "")
		cmd.Env = []string{"PATH=/usr/bin:/bin", "HOME=/var/lib/yardbench", "YARDBENCH_SERVE_CONFIG=/etc/yardbench/yardbench.yaml"}
		cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
		logged := &syncBuffer{}
		cmd.Stderr = logged
		out, err := cmd.StdoutPipe()
		if err != nil {
			t.Fatal(err)
		}
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		end := time.AfterFunc(slack*20*time.Second, func() { _ = cmd.Process.Kill() }) // what it said is told then
		defer end.Stop()
		up := false
		for lines := bufio.NewScanner(out); !up && lines.Scan(); {
			up = strings.Contains(lines.Text(), "the service is at http://127.0.0.1:")
		}
		if !up {
			t.Errorf("it does not come up:\n%s", logged)
		}
		_ = cmd.Process.Signal(syscall.SIGTERM)
		if err := cmd.Wait(); err != nil {
			t.Errorf("it ended with %v:\n%s", err, logged)
		}
	}
	serves()
	if _, err := os.Stat(at("var/lib/yardbench/yardbench.db")); err != nil {
		t.Error(err)
	}
	f, err := os.OpenFile(at("etc/yardbench/yardbench.yaml"), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	_, err = f.WriteString("changes_per_hour: 77\n")
	if cerr := f.Close(); err != nil || cerr != nil {
		t.Fatal(err, cerr)
	}
	if out := install(made("1.1")); strings.Contains(out, "systemctl enable") {
		t.Errorf("an upgrade says what a first installation does:\n%s", out)
	}
	says(in("yardbench", "config", "show", "--config", "/etc/yardbench/yardbench.yaml"), "77")
	serves()
	in("dpkg", "-r", "yardbench")
	for path, there := range map[string]bool{"usr/bin/yardbench": false, "usr/lib/systemd/system/yardbench.service": false, "etc/yardbench/yardbench.yaml": true, "var/lib/yardbench/yardbench.db": true} {
		if _, err := os.Stat(at(path)); (err == nil) != there {
			t.Errorf("removed, %s is there: %v", path, err == nil)
		}
	}
	says(in("dpkg", "-P", "yardbench"), "/var/lib/yardbench is kept")
	for path, there := range map[string]bool{"etc/yardbench/yardbench.yaml": false, "usr/share/doc/yardbench": false, "var/lib/yardbench/yardbench.db": true, "var/lib/yardbench/keys/sealing.json": true} {
		if _, err := os.Stat(at(path)); (err == nil) != there {
			t.Errorf("purged, %s is there: %v", path, err == nil)
		}
	}
	if out := in("sh", "-c", "getent passwd yardbench || echo nobody"); !strings.Contains(out, "nobody") {
		t.Errorf("its user is left: %s", out)
	}
}
