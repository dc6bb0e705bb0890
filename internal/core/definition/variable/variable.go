// Package variable knows the ${…} forms of the Development Container
// Specification. It stands apart from package definition so that the steward,
// which puts in what only the running container knows, carries no parser.
package variable

import "regexp"

// Pattern matches one variable: its kind, its name and its default.
var Pattern = regexp.MustCompile(`\$\{([A-Za-z]+)(?::([^}:]*))?(?::([^}]*))?\}`)

// PutContainerEnv replaces ${containerEnv:NAME} and ${containerEnv:NAME:default}
// in s by what lookup knows of the running container.
func PutContainerEnv(s string, lookup func(name string) (string, bool)) string {
	return Pattern.ReplaceAllStringFunc(s, func(m string) string {
		p := Pattern.FindStringSubmatch(m)
		if p[1] != "containerEnv" {
			return m
		}
		if v, ok := lookup(p[2]); ok {
			return v
		}
		return p[3]
	})
}
