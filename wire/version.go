package wire

import (
	"runtime/debug"
	"sync"
)

// built is given by whoever builds the program: see the Makefile.
var built string

// Version is what this program was built from: a commit, with + where something
// was changed beside it; "" where nobody knows.
var Version = sync.OnceValue(func() string {
	in, ok := debug.ReadBuildInfo()
	if built != "" || !ok {
		return built
	}
	commit, changed := "", ""
	for _, s := range in.Settings {
		switch {
		case s.Key == "vcs.revision":
			commit = s.Value[:min(10, len(s.Value))]
		case s.Key == "vcs.modified" && s.Value == "true":
			changed = "+"
		}
	}
	return commit + changed
})
