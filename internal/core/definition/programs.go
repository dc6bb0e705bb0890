package definition

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// programName matches what is looked for by name in an image: no paths,
// variables or other shell.
var programName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._+-]{0,63}$`)

// shellWords are a shell's own, which no image has to bring.
var shellWords = map[string]bool{"cd": true, "export": true, "set": true, "if": true, "then": true, "else": true, "elif": true, "fi": true, "for": true, "do": true, "done": true, "while": true, "case": true, "esac": true, "echo": true, "test": true,
	"true": true, "false": true, "exit": true, "exec": true, "eval": true, "source": true, "read": true, "printf": true, "umask": true, "unset": true, "wait": true, "trap": true, "return": true, "local": true, "shift": true, "alias": true, "command": true, "type": true, "ulimit": true, "until": true, "in": true, "function": true}

var (
	segment    = regexp.MustCompile(`&&|\|\||[;|&\n]`)
	assignment = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*=\S*\s+`)
	quoted     = regexp.MustCompile(`'[^']*'|"[^"]*"`)
)

// programsOf are the programs that a command begins with, one for each part of
// a shell's line.
func programsOf(c Command) (out []string) {
	if len(c.Args) > 0 {
		if programName.MatchString(c.Args[0]) && !shellWords[c.Args[0]] {
			out = append(out, c.Args[0])
		}
		return out
	}
	for _, part := range segment.Split(quoted.ReplaceAllString(c.Shell, "Q"), -1) {
		part = strings.TrimSpace(part)
		for assignment.MatchString(part) {
			part = assignment.ReplaceAllString(part, "")
		}
		words := strings.Fields(part)
		if len(words) > 1 && words[0] == "sudo" {
			out = append(out, "sudo")
			words = words[1:]
		}
		if len(words) > 0 && programName.MatchString(words[0]) && !shellWords[words[0]] {
			out = append(out, words[0])
		}
	}
	return out
}

// maxPrograms bounds what is looked for in one image.
const maxPrograms = 100

// Programs are the programs that a definition's commands need, sorted.
func Programs(d Definition) (out []string) {
	for _, s := range d.SetUp {
		for _, c := range s.Commands {
			out = append(out, programsOf(c)...)
		}
	}
	slices.Sort(out)
	out = slices.Compact(out)
	return out[:min(len(out), maxPrograms)]
}

// ProgramsScript is a shell's script that prints those of the programs that
// are not there.
func ProgramsScript(programs []string) string {
	return "for p in " + strings.Join(programs, " ") + "; do command -v \"$p\" >/dev/null 2>&1 || echo \"$p\"; done"
}

// MissingPrograms says which commands need a program that the image lacks.
func MissingPrograms(d Definition, missing []string) (out []Finding) {
	for _, s := range d.SetUp {
		for _, c := range s.Commands {
			for _, p := range programsOf(c) {
				if !slices.Contains(missing, p) {
					continue
				}
				origin := "set_up." + string(s.Moment)
				if s.From != "" {
					origin += "." + s.From
				}
				file, line, column := d.placeOf(origin)
				out = append(out, Finding{Severity: Warning, Path: file, Line: line, Column: column, Rule: "missing-program", Why: Rules["missing-program"],
					What: fmt.Sprintf("%s needs %s, and the image does not have it", s.Moment, p), Fix: "install it in the image, or by an earlier command"})
			}
		}
	}
	return out
}
