package variable

import "testing"

func TestPutContainerEnv(t *testing.T) {
	known := map[string]string{"HOME": "/home/crew", "EMPTY": ""}
	lookup := func(name string) (string, bool) { v, ok := known[name]; return v, ok }
	for in, want := range map[string]string{
		"":                                "",
		"plain $HOME":                     "plain $HOME",
		"${containerEnv:HOME}/bin":        "/home/crew/bin",
		"${containerEnv:HOME:/root}":      "/home/crew",
		"${containerEnv:NONE}":            "",
		"${containerEnv:NONE:/root}":      "/root",
		"${containerEnv:EMPTY:x}":         "",
		"${localEnv:HOME}":                "${localEnv:HOME}",
		"${localEnv:HOME:x}":              "${localEnv:HOME:x}",
		"${containerWorkspaceFolder}":     "${containerWorkspaceFolder}",
		"${containerEnv:HOME}${x:HOME:y}": "/home/crew${x:HOME:y}",
		"${containerEnv:HOME":             "${containerEnv:HOME",
	} {
		if got := PutContainerEnv(in, lookup); got != want {
			t.Errorf("%q becomes %q, not %q", in, got, want)
		}
	}
}
