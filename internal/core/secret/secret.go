// Package secret knows what a secret may be called and how large it may be,
// which of several of the same name a workspace gets, and takes secret values
// out of whatever is written down.
//
// It is part of the core and keeps nothing itself.
package secret

import (
	"fmt"
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
