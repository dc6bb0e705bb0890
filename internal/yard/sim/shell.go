package sim

import (
	"os"
	"path"
	"strconv"
	"strings"
	"time"
)

// run is what a command would do: of a shell's line echo, cat, exit, sleep
// and the operators between them do what they do; all else does well and
// prints nothing. ends is false for what would run for ever.
func run(argv []string, env, files map[string]string) (out string, code int, ends bool) {
	if len(argv) == 0 {
		return "", 0, true
	}
	script := strings.Join(argv, " ")
	if len(argv) >= 3 && (path.Base(argv[0]) == "sh" || path.Base(argv[0]) == "bash") && strings.HasPrefix(argv[1], "-") {
		script = argv[2]
	}
	script = os.Expand(script, func(name string) string { return env[name] })
	var b strings.Builder
	for _, line := range strings.FieldsFunc(script, func(r rune) bool { return r == '\n' || r == ';' }) {
		for _, part := range strings.Split(line, "&&") {
			words := strings.Fields(part)
			if len(words) == 0 {
				continue
			}
			switch rest := strings.Trim(strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(part), words[0])), `'"`); words[0] {
			case "echo":
				if !strings.Contains(rest, ">") {
					b.WriteString(rest + "\n")
				}
			case "cat":
				b.WriteString(files[path.Base(rest)])
			case "exit":
				code, _ = strconv.Atoi(rest) // no number is none
				return b.String(), code, true
			case "false":
				return b.String(), 1, true
			case "sleep":
				if seconds, err := strconv.Atoi(rest); err != nil || time.Duration(seconds)*time.Second > time.Minute {
					return b.String(), 0, false
				}
			case "while", "trap":
				return b.String(), 0, false
			}
		}
	}
	return b.String(), 0, true
}
