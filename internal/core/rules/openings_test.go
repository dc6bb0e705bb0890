package rules

import (
	"strings"
	"testing"
	"time"
)

func TestOpenings(t *testing.T) {
	kinds := func(r Rules) string {
		var out []string
		for _, o := range r.Openings() {
			if o.What == "" || o.Close == "" {
				t.Errorf("%s is told as %+v", o.Kind, o)
			}
			out = append(out, o.Kind)
		}
		return strings.Join(out, " ")
	}
	if got := kinds(Rules{}); got != "no-limits images-from-anywhere workspaces-reach-out gain-rights pushes-unasked builds-reach-out debugger" {
		t.Errorf("of rules that say nothing is open %s", got)
	}
	closed := Rules{Limits: Limits{Person: Amounts{Running: 1}}, Images: Images{From: []string{"r.example"}}, Builds: Builds{Closed: true}, NoDebugger: true, Workspaces: Workspaces{Closed: true, NoGain: true, ConfirmPush: true}}
	if got := kinds(closed); got != "" {
		t.Errorf("of closed rules is open %s", got)
	}
	wide := closed
	wide.WebhooksInside = []string{"hooks"}
	wide.Ports = Ports{LookLinksMost: time.Hour, PublicMost: time.Hour}
	wide.AllowIn = map[string]Allow{"b": {Privileged: true, HostNetwork: true, HostPaths: []string{"/srv"}, Devices: []string{"/dev/fuse"}, Security: []string{"seccomp=unconfined"}}, "a": {Privileged: true}, "c": {Capabilities: []string{"SYS_PTRACE"}}}
	if got := kinds(wide); got != "allowed allowed public-ports look-links webhooks-inside" {
		t.Errorf("of wide rules is open %s", got)
	}
	if got := wide.Openings(); !strings.HasPrefix(got[0].What, "definitions of a may have privileged containers") || !strings.Contains(got[1].What, "privileged containers; the machine's own network; of the machine's paths /srv; the devices /dev/fuse; every system call") {
		t.Errorf("they are told as %+v", got)
	}
}
