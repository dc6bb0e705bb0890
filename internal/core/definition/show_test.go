package definition

import (
	"strings"
	"testing"
)

// Every value is shown with where it comes from, and a change of any is told.
func TestValues(t *testing.T) {
	text := `{"image": "a:1", "name": "Tide", "remoteUser": "crew", "containerUser": "root", "containerEnv": {"A": "1"}, "remoteEnv": {"R": "1"}, "forwardPorts": [8000], "portsAttributes": {"8000": {"label": "Board"}},
 "secrets": {"K": {}}, "onCreateCommand": {"x": "make"}, "waitFor": "onCreateCommand", "overrideCommand": false, "mounts": ["type=volume,source=v,target=/v,readonly"], "capAdd": ["A"], "runArgs": ["--shm-size=1m", "--device=/dev/x"],
 "hostRequirements": {"cpus": 1, "memory": "1gb", "storage": "1gb"}, "features": {"./lamp": {"c": "1"}}, "userEnvProbe": "none", "customizations": {"yardbench": {"repositories": ["deck-log"]}}}`
	lamp := []string{".devcontainer/lamp/devcontainer-feature.json", `{"id": "lamp", "version": "2", "options": {"c": {}}, "postStartCommand": "shine"}`, ".devcontainer/lamp/install.sh", ""}
	d, fs := Resolve(source(text, lamp...))
	if f, bad := Fatal(fs); bad {
		t.Fatal(f)
	}
	d, _ = UnderImage(d, "a:1", `[{"remoteEnv": {"L": "1"}}]`)
	got := map[string]string{}
	for _, v := range Values(d) {
		got[v.Key+"="+v.Value] = v.Origin
	}
	for want, origin := range map[string]string{"image=a:1": "json:1:2", "env.A=1": "json:1:98", "session_env.L=1": "label of image a:1", "folder=/workspaces/tide-board": "usual", "ports.8000=Board": "json:1:151", "set_up.onCreateCommand.x=make": "json:2:24",
		"set_up.postStartCommand=shine": "feature ./lamp", "mounts./v=volume v, read only": "json:2:125", "extra.capabilities=A": "json:", "extra.devices=/dev/x": "json:", "needs=1 cores, 1 GiB of memory, 1 GiB of disk": "json:", "feature ./lamp.C=1": "json:", "own_command=runs": "json:", "beside.deck-log=its default branch": "json:", "secrets.K=wanted": "json:2:"} {
		if at, ok := got[want]; !ok || !strings.Contains(at, origin) {
			t.Errorf("%s is shown as of %q, not of %s; there are\n%v", want, at, origin, got)
		}
	}
	if c := Changes(d, d); len(c) > 0 {
		t.Errorf("nothing changed, and it is told that %v", c)
	}
	for from, to := range map[string]string{`"a:1"`: `"a:2"`, `{"A": "1"}`: `{"A": "2"}`, `[8000]`: `[8001]`, `"make"`: `"make all"`, `{"c": "1"}`: `{"c": "2"}`, `"capAdd": ["A"]`: `"capAdd": []`, `target=/v,readonly`: `target=/v`, `"remoteUser": "crew"`: `"remoteUser": "root"`} {
		other, _ := Resolve(source(strings.Replace(text, from, to, 1), lamp...))
		other, _ = UnderImage(other, "a:1", `[{"remoteEnv": {"L": "1"}}]`)
		if c := Changes(d, other); len(c) == 0 {
			t.Errorf("the change of %s to %s is not told", from, to)
		}
	}
}
