// Package secret knows what a secret may be called and how large it may be,
// which of several of the same name a workspace gets, and takes secret values
// out of whatever is written down.
//
// It is part of the core and keeps nothing itself.
package secret

import (
	"fmt"
	"path"
	"regexp"
	"strings"
)

// MaxBytes bounds one value: what fits into an environment with room to spare.
const MaxBytes = 64 << 10

var name = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]{0,127}$`)

// reserved names would break the sessions they are handed to.
var reserved = map[string]bool{"PATH": true, "HOME": true, "USER": true, "SHELL": true, "TERM": true, "PWD": true,
	"LD_PRELOAD": true, "LD_LIBRARY_PATH": true, "IFS": true, "ENV": true, "BASH_ENV": true}

// CheckName tells what is wrong with a secret's name, if anything.
func CheckName(s string) error {
	switch {
	case !name.MatchString(s):
		return fmt.Errorf("%q is no secret name: use letters, digits and _, not starting with a digit, at most 128", s)
	case reserved[s], strings.HasPrefix(s, "GIT_CONFIG_"), strings.HasPrefix(s, "YARDBENCH_"):
		return fmt.Errorf("%q is taken by the session itself; choose another name", s)
	}
	return nil
}

// CheckValue tells what is wrong with a value, without repeating it.
func CheckValue(v string) error {
	switch {
	case v == "":
		return fmt.Errorf("the value is empty")
	case len(v) > MaxBytes:
		return fmt.Errorf("the value has %d bytes; at most %d are allowed", len(v), MaxBytes)
	case strings.ContainsRune(v, 0):
		return fmt.Errorf("the value holds a zero byte, which no environment can carry")
	}
	return nil
}

// CheckFile tells what is wrong with where a secret's file is to stand, or with its
// mode, if anything. A file that others than its owner get stands in FileFolder
// alone: in a home folder it could steer what runs there.
func CheckFile(level Level, where string, mode uint32) error {
	rest, home := strings.CutPrefix(where, "~/")
	switch {
	case mode != 0 && (mode&^0o555 != 0 || mode&0o400 == 0):
		return fmt.Errorf("mode %04o is none for a secret's file: its owner must read it, and nobody writes it; like 0400 or 0440", mode)
	case where == "":
		return nil
	case !home, rest != path.Clean(rest), rest == ".", strings.HasPrefix(rest, "../"), rest == "..", path.IsAbs(rest), len(where) > 512, strings.ContainsAny(where, "\x00\r\n"):
		return fmt.Errorf("%q is no path for a secret's file: give one beneath the home folder, like ~/.config/tide/key", where)
	case level != OfPerson:
		return fmt.Errorf("a file at a place of its own is for a person's secret alone: in others' home folders it could steer what runs there; programs find it by its variable")
	}
	return nil
}

var fileOwner = regexp.MustCompile(`^([a-z_][a-z0-9_-]{0,31}|[0-9]{1,9})$`)

// CheckOwner tells what is wrong with whose a file is to be, if anything.
func CheckOwner(owner string) error {
	if owner != "" && !fileOwner.MatchString(owner) {
		return fmt.Errorf("%q is no user of an image: give a name, or a number", owner)
	}
	return nil
}

// registryHost is a registry's host, with a port where it has one.
var registryHost = regexp.MustCompile(`^[a-z0-9]([a-z0-9.-]{0,251}[a-z0-9])?(:[0-9]{1,5})?$`)

// CheckSignIn tells what is wrong with a registry and who signs in there, if anything.
func CheckSignIn(host, username string) error {
	switch {
	case !registryHost.MatchString(host):
		return fmt.Errorf("%q is no registry: write its host as images name it, like images.skerryline.example:5000, without https:// and path", host)
	case username == "" || len(username) > 256 || strings.ContainsFunc(username, func(r rune) bool { return r < ' ' || r == ':' || r == 0x7f }):
		return fmt.Errorf("%q is nobody who could sign in to %s: a username has at most 256 characters and no colon", username, host)
	}
	return nil
}

// CheckBranches tells what is wrong with patterns of branches, if anything.
func CheckBranches(patterns []string) error {
	if len(patterns) > 20 {
		return fmt.Errorf("%d patterns of branches are given; at most 20 are allowed", len(patterns))
	}
	for _, p := range patterns {
		if _, err := path.Match(strings.TrimSuffix(p, "/**"), ""); err != nil || p == "" || len(p) > 200 {
			return fmt.Errorf("%q is no pattern of branches: write a name with * for a part of it, like release/*", p)
		}
	}
	return nil
}

// placeholders are what stands in examples in the place of a value.
var placeholders = regexp.MustCompile(`(?i)^(x{3,}|\*{3,}|\.{3,}|<.*>|\$?\{.*\}|todo|tbd|fixme|none|null|changeme|change[-_ ]me|placeholder|example|secret|password|test|dummy|your[-_ ].*|insert[-_ ].*|replace[-_ ].*)$`)

// Placeholder tells whether a value looks like what examples have in the place of one.
func Placeholder(value string) bool { return placeholders.MatchString(strings.TrimSpace(value)) }
