package definition

import (
	"bytes"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/tailscale/hujson"
)

// Fix is a file with what can be mended of it without asking.
type Fix struct {
	Path     string
	Old, New []byte
	// Why are the changes, each in a line.
	Why []string
}

// Fixes mends what can be mended without asking, of what [Check] found: a port
// that is not forwarded is, a value that looks like a secret is asked for
// instead, and a file that holds such values is ignored by git. Comments and the
// rest of a file stay as they are.
func Fixes(src Source, def Definition, findings []Finding) (out []Fix) {
	text, ok := src.Read(def.Path)
	if ok && strings.HasSuffix(def.Path, ".json") {
		if f := fixDefinition(def, text, findings); len(f.Why) > 0 {
			out = append(out, f)
		}
	}
	var ignore []string
	for _, f := range findings {
		if f.Rule == "env-file" && !slices.Contains(ignore, "/"+f.Path) {
			ignore = append(ignore, "/"+f.Path)
		}
	}
	if len(ignore) > 0 {
		old, _ := src.Read(".gitignore")
		f := Fix{Path: ".gitignore", Old: old, New: slices.Clone(old)}
		for _, p := range ignore {
			if slices.Contains(strings.Split(string(old), "\n"), p) {
				continue
			}
			if len(f.New) > 0 && !bytes.HasSuffix(f.New, []byte("\n")) {
				f.New = append(f.New, '\n')
			}
			f.New = append(f.New, p+"\n"...)
			f.Why = append(f.Why, strings.TrimPrefix(p, "/")+" is ignored; take it out of git with: git rm --cached "+strings.TrimPrefix(p, "/"))
		}
		if len(f.Why) > 0 {
			out = append(out, f)
		}
	}
	return out
}

var (
	foundPort   = regexp.MustCompile(`^port (\d+) `)
	foundSecret = regexp.MustCompile(`^(\S+) in the environment `)
)

// fixDefinition mends a definition file.
func fixDefinition(def Definition, text []byte, findings []Finding) Fix {
	out := Fix{Path: def.Path, Old: text, New: text}
	mark := len(text)
	body, utf8 := utf8Of(text)
	if !utf8 {
		return out
	}
	mark -= len(body)
	v, err := hujson.Parse(slices.Clone(body))
	if err != nil {
		return out
	}
	type operation struct {
		Op    string `json:"op"`
		Path  string `json:"path"`
		Value any    `json:"value,omitempty"`
	}
	has := func(path ...string) bool { return placesOf(v, -1, 0).has(path...) }
	patch := func(why string, ops ...operation) {
		doc, err := json.Marshal(ops)
		if err != nil { // plain values always marshal
			panic(err)
		}
		next := v.Clone()
		if next.Patch(doc) == nil {
			v = next
			out.Why = append(out.Why, why)
		}
	}
	for _, f := range findings {
		switch {
		case f.Rule == "port-not-declared" && f.Severity == Warning:
			m := foundPort.FindStringSubmatch(f.What)
			if m == nil {
				continue
			}
			var ops []operation
			if !has("forwardPorts") {
				ops = append(ops, operation{"add", "/forwardPorts", []any{}})
			}
			patch("port "+m[1]+" is forwarded", append(ops, operation{"add", "/forwardPorts/-", json.Number(m[1])})...)
		case f.Rule == "secret-in-file" && f.Path == def.Path:
			m := foundSecret.FindStringSubmatch(f.What)
			if m == nil || !envName.MatchString(m[1]) {
				continue
			}
			for _, property := range []string{"containerEnv", "remoteEnv"} {
				if !has(property, m[1]) {
					continue
				}
				ops := []operation{{"remove", "/" + property + "/" + m[1], nil}}
				if !has("secrets") {
					ops = append(ops, operation{"add", "/secrets", map[string]any{}})
				}
				if !has("secrets", m[1]) {
					ops = append(ops, operation{"add", "/secrets/" + m[1], map[string]any{"description": ""}})
				}
				patch(fmt.Sprintf("%s is asked for in secrets, and no longer in %s", m[1], property), ops...)
			}
		}
	}
	if len(out.Why) > 0 {
		indent(&v)
		out.New = append(slices.Clone(text[:mark]), v.Pack()...)
	}
	return out
}

// indent puts members that were added at the end of an object on lines of their
// own, where the first one is.
func indent(v *hujson.Value) {
	obj, ok := v.Value.(*hujson.Object)
	if !ok || len(obj.Members) == 0 {
		return
	}
	first := string(obj.Members[0].Name.BeforeExtra)
	i := strings.LastIndexByte(first, '\n')
	if i < 0 || strings.TrimSpace(first[i:]) != "" {
		return // all in one line
	}
	for n := range obj.Members {
		m := &obj.Members[n]
		if len(m.Name.BeforeExtra) == 0 {
			m.Name.BeforeExtra = hujson.Extra(first[i:])
		}
		if len(m.Value.BeforeExtra) == 0 && n > 0 {
			m.Value.BeforeExtra = hujson.Extra(" ")
		}
	}
}
