package engine

import (
	"strings"
	"testing"
)

func TestOpeningsOfAnEngine(t *testing.T) {
	for _, c := range []struct {
		what string
		f    facts
		want string
	}{
		{"closed as far as it goes", facts{"unix:///x", []string{"name=apparmor", "name=seccomp,profile=default", "name=userns"}, true, true, true, true}, "layers-unbounded"},
		{"by another's name", facts{"unix:///x", []string{"name=selinux", "name=seccomp", "name=rootless"}, true, true, true, true}, "layers-unbounded"},
		{"old, and far", facts{host: "tcp://far:2375", security: []string{"name=seccompx"}}, "engine-by-tcp no-seccomp no-mandatory-access no-user-namespaces builds-together builds-unbounded disks-measured size-for-each layers-unbounded"},
	} {
		var got []string
		for _, o := range openings(c.f) {
			got = append(got, o.Kind)
		}
		if s := strings.Join(got, " "); s != c.want {
			t.Errorf("%s: open are %s", c.what, s)
		}
	}
}
