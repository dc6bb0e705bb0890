// Package starter reads starters, company-kept ready definitions for a new
// project, in the form of the Development Container Specification's
// "Templates": a folder with a devcontainer-template.json and files in which
// ${templateOption:NAME} stands for an option.
//
// It is part of the core: plain functions over content it is handed, which is
// taken for hostile.
package starter

import (
	"encoding/json"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/tailscale/hujson"

	"yardbench/internal/core/plain"
)

// ManifestName is the file that makes a folder a starter.
const ManifestName = "devcontainer-template.json"

// Bounds on one starter.
const (
	MaxFiles     = 200
	MaxFileBytes = 1 << 20
	maxOptions   = 50
)

// Starter is one of them.
type Starter struct {
	Name        string // its folder
	Title       string
	Description string
	Version     string
	Options     []Option
}

// Option is something that whoever takes a starter may choose.
type Option struct {
	Name, Description string
	Boolean           bool
	Default           string
	Enum              []string // the only values; empty is any
	Proposals         []string
}

// File is a file of a starter; its path is within the starter's folder.
type File struct {
	Path       string
	Executable bool
	Content    []byte
}

type manifest struct {
	Name        string `json:"name"`
	Description string `json:"description"`
	Version     string `json:"version"`
	Options     map[string]struct {
		Type        string   `json:"type"`
		Description string   `json:"description"`
		Default     any      `json:"default"`
		Enum        []string `json:"enum"`
		Proposals   []string `json:"proposals"`
	} `json:"options"`
}

var optionName = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_-]{0,63}$`)

// Read reads a starter's manifest.
func Read(folder string, text []byte) (Starter, error) {
	s := Starter{Name: folder}
	if len(text) > MaxFileBytes {
		return s, fmt.Errorf("%s/%s has more than %d bytes", folder, ManifestName, MaxFileBytes)
	}
	std, err := hujson.Standardize(slices.Clone(text))
	var m manifest
	if err == nil {
		err = json.Unmarshal(std, &m)
	}
	if err != nil {
		return s, fmt.Errorf("%s/%s cannot be read: %w", folder, ManifestName, err)
	}
	s.Title, s.Description, s.Version = plain.Line(m.Name, 300), plain.Line(m.Description, 300), plain.Line(m.Version, 300)
	if len(m.Options) > maxOptions {
		return s, fmt.Errorf("%s/%s has more than %d options", folder, ManifestName, maxOptions)
	}
	for _, name := range slices.Sorted(maps.Keys(m.Options)) {
		if !optionName.MatchString(name) {
			return s, fmt.Errorf("%s/%s: %q is no name of an option", folder, ManifestName, name)
		}
		o := m.Options[name]
		out := Option{Name: name, Description: plain.Line(o.Description, 300), Boolean: o.Type == "boolean", Enum: o.Enum, Proposals: o.Proposals}
		if o.Default != nil {
			out.Default = fmt.Sprint(o.Default)
		}
		s.Options = append(s.Options, out)
	}
	return s, nil
}

// Choose brings what somebody chose to a value for each option, or says what
// cannot be chosen.
func (s Starter) Choose(chosen map[string]string) (map[string]string, error) {
	out := map[string]string{}
	known := []string{}
	for _, o := range s.Options {
		known = append(known, o.Name)
		v, given := chosen[o.Name]
		if !given {
			v = o.Default
		}
		switch {
		case o.Boolean && v != "true" && v != "false" && (given || v != ""):
			return nil, fmt.Errorf("the option %s is true or false, not %q", o.Name, v)
		case len(o.Enum) > 0 && !slices.Contains(o.Enum, v):
			return nil, fmt.Errorf("the option %s is one of %s, not %q", o.Name, strings.Join(o.Enum, ", "), v)
		case !given && v == "":
			return nil, fmt.Errorf("the option %s has no default: give it", o.Name)
		case strings.ContainsFunc(v, func(r rune) bool { return r < ' ' }) || len(v) > 4096:
			return nil, fmt.Errorf("the value of the option %s cannot be used", o.Name)
		}
		out[o.Name] = v
	}
	for name := range chosen {
		if !slices.Contains(known, name) {
			return nil, fmt.Errorf("the starter %s has no option %q; it has: %s", s.Name, name, strings.Join(known, ", "))
		}
	}
	return out, nil
}

var option = regexp.MustCompile(`\$\{templateOption:\s*([A-Za-z0-9_-]+)\s*\}`)

// Fill puts the options into the files of a starter, its manifest left out.
// An option that the starter does not have is an error.
func (s Starter) Fill(files []File, values map[string]string) (out []File, err error) {
	for _, f := range files {
		if f.Path == ManifestName {
			continue
		}
		if !Inside(f.Path) {
			return nil, fmt.Errorf("the starter %s has a file %q outside of itself", s.Name, f.Path)
		}
		if utf8.Valid(f.Content) {
			f.Content = option.ReplaceAllFunc(f.Content, func(m []byte) []byte {
				name := string(option.FindSubmatch(m)[1])
				v, ok := values[name]
				if !ok && err == nil {
					err = fmt.Errorf("%s of the starter %s asks for the option %q, which it does not have", f.Path, s.Name, name)
				}
				return []byte(v)
			})
		}
		out = append(out, f)
	}
	return out, err
}

// Inside tells whether a path stays in the folder that it is relative to.
func Inside(p string) bool {
	return p != "" && !path.IsAbs(p) && path.Clean(p) == p && p != ".." && p != "." && !strings.HasPrefix(p, "../") && p != ".git" && !strings.HasPrefix(p, ".git/") && !strings.ContainsFunc(p, func(r rune) bool { return r < ' ' })
}
