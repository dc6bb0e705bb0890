package rules

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"
)

const allowing = First + `
allow:
  everywhere: {capabilities: [SYS_PTRACE]}
  repositories:
    dive-bell: {privileged: yes, host_network: no, security: [seccomp=unconfined], devices: [/dev/fuse], host_paths: [/srv/charts], run_options: [shm-size]}
images:
  from: [docker.io/skerryline, registry.skerryline.example]
  features_from: [registry.skerryline.example/features]
  mirrors: {docker.io: "mirror.skerryline.example/hub"}
  usual: {go.mod: "skerryline/go:1", otherwise: "skerryline/base:1"}
starters: starters
`

func TestAllow(t *testing.T) {
	r := parsed(t, allowing)
	if got := fmt.Sprintf("%+v", r.AllowFor("dive-bell")); got != "{Privileged:true HostNetwork:false Capabilities:[SYS_PTRACE] Security:[seccomp=unconfined] Devices:[/dev/fuse] HostPaths:[/srv/charts] RunOptions:[shm-size]}" {
		t.Errorf("dive-bell may use %s", got)
	}
	if got := fmt.Sprintf("%+v", r.AllowFor("tide-board")); got != "{Privileged:false HostNetwork:false Capabilities:[SYS_PTRACE] Security:[] Devices:[] HostPaths:[] RunOptions:[]}" {
		t.Errorf("tide-board may use %s", got)
	}
	for text, open := range map[string]bool{"allow: {debugger: no}": false, "allow: {debugger: yes}": true, "allow: {everywhere: {capabilities: [NET_ADMIN]}}": true, "allow: {debugger: no, everywhere: {capabilities: [SYS_PTRACE]}}": true} {
		if got := parsed(t, First+"\n"+text+"\n").AllowFor("tide-board"); slices.Contains(got.Capabilities, "SYS_PTRACE") != open {
			t.Errorf("%s: a debugger may have %v", text, got.Capabilities)
		}
	}
	if d := Diff(Rules{}, Rules{NoDebugger: true}); !slices.Contains(d, "allow.debugger: none → no") {
		t.Errorf("a debugger closed is told as %v", d)
	}
	if r.Starters != "starters" || len(r.Images.Usual) != 2 || r.Images.Usual[1].Holds != "" {
		t.Errorf("the images are %+v", r.Images)
	}
	for image, may := range map[string]bool{"skerryline/base:1": true, "docker.io/skerryline/base@sha256:1": true, "skerrylines/base": false, "base:1": false, "registry.skerryline.example/x/y": true, "registry.skerryline.example.org/x": false, "registry.skerryline.example:5000/x": true} {
		if r.Images.May(image) != may {
			t.Errorf("%s may be used: %v", image, !may)
		}
	}
	if r.Images.MayFeature("registry.skerryline.example/other/x:1") || !r.Images.MayFeature("registry.skerryline.example/features/x:1") || (Images{}).MayFeature("a/b/c") {
		t.Error("features may be fetched from elsewhere, or not from where they may")
	}
	if !(Images{}).May("anything:1") {
		t.Error("without rules an image is refused")
	}
	first := parsed(t, First)
	if d := strings.Join(Diff(first, r), "\n"); !strings.Contains(d, "allow.repositories.dive-bell.privileged: none → yes") || !strings.Contains(d, "images.mirrors.docker.io: none → mirror.skerryline.example/hub") || !strings.Contains(d, "starters: none → starters") {
		t.Errorf("the difference is told as\n%s", d)
	}
	for _, c := range [][3]string{
		{"privileged: yes", "privileged: maybe", "neither yes nor no"}, {"[/dev/fuse]", "[dev/fuse]", "is no absolute path"}, {"[/srv/charts]", "[/srv/../charts]", "is no absolute path"}, {"[SYS_PTRACE]", "[CAP_SYS_PTRACE]", "without CAP_"},
		{"[shm-size]", "[--shm-size]", "without dashes"}, {"[SYS_PTRACE]", "SYS_PTRACE", "a list is wanted"}, {"everywhere:", "everyone:", "is not known in allow"}, {`"skerryline/go:1"`, `"skerryline go"`, "is no image"}, {"features_from", "feature_from", "is not known in images"},
	} {
		if _, fs := Parse([]byte(strings.Replace(allowing, c[0], c[1], 1))); !strings.Contains(fmt.Sprint(fs), c[2]) {
			t.Errorf("%s is told as %v", c[1], fs)
		}
	}
}

// What becomes allowed, or is no more, is told.
func TestDiffOfWhatIsAllowed(t *testing.T) {
	old := Rules{Allow: Allow{Capabilities: []string{"SYS_PTRACE"}, Privileged: true}}
	now := Rules{Allow: Allow{Capabilities: []string{"SYS_PTRACE", "NET_ADMIN"}, HostNetwork: true, Devices: []string{"/dev/kvm"}}}
	old.LogsMost, now.Zone = time.Hour, time.UTC
	got := strings.Join(Diff(old, now), "\n")
	want := "allow.everywhere.capabilities: SYS_PTRACE → SYS_PTRACE, NET_ADMIN\nallow.everywhere.devices: none → /dev/kvm\nallow.everywhere.host_network: none → yes\nallow.everywhere.privileged: yes → none\nretention.logs_most: 1 h → none\ntime_zone:  → UTC"
	if got != want {
		t.Errorf("told is\n%s", got)
	}
}

// Paths of the host that workspaces are given lie apart: one that lies within
// another could be a link that a workspace has put there.
func TestHostPathsLieApart(t *testing.T) {
	for text, says := range map[string]string{
		"everywhere: {host_paths: [/srv/charts, /srv/charts-old]}":                                "",
		"everywhere: {host_paths: [/srv/charts]}, repositories: {a: {host_paths: [/srv/charts]}}": "",
		"everywhere: {host_paths: [/srv/charts/north, /srv/charts]}":                              "/srv/charts/north lies within /srv/charts",
		"repositories: {a: {host_paths: [/srv]}, b: {host_paths: [/srv/charts]}}":                 "/srv/charts lies within /srv",
		"everywhere: {host_paths: [/]}, repositories: {a: {host_paths: [/srv]}}":                  "/srv lies within ",
		"repositories: {a: {host_paths: [/srv/a, /srv/a-b, /srv/a/c]}}":                           "/srv/a/c lies within /srv/a",
	} {
		_, findings := Parse([]byte(First + "\nallow: {" + text + "}\n"))
		if got := fmt.Sprint(findings); (says == "") != (len(findings) == 0) || !strings.Contains(got, says) {
			t.Errorf("%s: %s", text, got)
		}
	}
}

// What leads elsewhere by its path does not begin as it seems.
func TestStepsInReferences(t *testing.T) {
	i := Images{From: []string{"registry.skerryline.example/ours"}, FeaturesFrom: []string{"registry.skerryline.example/features", "https://files.skerryline.example/features/"}}
	for ref, may := range map[string]bool{"registry.skerryline.example/features/lamp:1": true, "registry.skerryline.example/features/../other/x:1": false, "https://files.skerryline.example/features/a.tgz": true,
		"https://files.skerryline.example/features/%2e%2E/other/a.tgz": false, "https://files.skerryline.example/features/./a.tgz": false, "http://files.skerryline.example/features/a.tgz": false, "registry.skerryline.example/features-of-others/x:1": false} {
		if got := i.MayFeature(ref); got != may {
			t.Errorf("%s may be fetched: %v", ref, got)
		}
	}
	if i.May("registry.skerryline.example/ours/../others/x:1") || !i.May("registry.skerryline.example/ours/x:1") {
		t.Error("an image by another path is let in, or one by its own is not")
	}
}
