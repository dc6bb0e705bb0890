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
// instead, a file that holds such values is ignored by git, and an image whose
// digest is given is pinned to it. Comments and the rest of a file stay as they
// are.
func Fixes(src Source, def Definition, findings []Finding, digests map[string]string) (out []Fix) {
	out = pin(src, findings, digests)
	at := slices.IndexFunc(out, func(f Fix) bool { return f.Path == def.Path })
	text, ok := src.Read(def.Path)
	if ok && strings.HasSuffix(def.Path, ".json") {
		f := Fix{Path: def.Path, Old: text, New: text}
		if at >= 0 {
			f = out[at]
		}
		if fixDefinition(&f, findings); at >= 0 {
			out[at] = f
		} else if len(f.Why) > 0 {
			out = slices.Insert(out, 0, f)
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

// Unpinned are the images of findings that a digest would pin.
func Unpinned(findings []Finding) (images []string) {
	for _, f := range findings {
		if f.Rule == "image-unpinned" && f.Subject != "" && !slices.Contains(images, f.Subject) {
			images = append(images, f.Subject)
		}
	}
	return images
}

// notInName are characters that an image's name goes on with.
const notInName = `A-Za-z0-9._/:@-`

// pin writes digests behind the names of images, where a line has the name once,
// as a word of its own: `FROM tide AS tide-one` has.
func pin(src Source, findings []Finding, digests map[string]string) (out []Fix) {
	for _, f := range findings {
		digest := digests[f.Subject]
		if f.Rule != "image-unpinned" || digest == "" || f.Line == 0 {
			continue
		}
		i := slices.IndexFunc(out, func(x Fix) bool { return x.Path == f.Path })
		if i < 0 {
			text, _ := src.Read(f.Path)
			out, i = append(out, Fix{Path: f.Path, Old: text, New: text}), len(out)
		}
		lines := bytes.SplitAfter(out[i].New, []byte("\n"))
		if f.Line > len(lines) {
			continue
		}
		word := regexp.MustCompile("(^|[^" + notInName + "])(" + regexp.QuoteMeta(f.Subject) + ")($|[^" + notInName + "])")
		at := word.FindAllSubmatchIndex(lines[f.Line-1], 2)
		if len(at) != 1 {
			continue // built of variables, or there more than once
		}
		lines[f.Line-1] = slices.Insert(slices.Clone(lines[f.Line-1]), at[0][5], []byte("@"+digest)...)
		out[i].New = bytes.Join(lines, nil)
		out[i].Why = append(out[i].Why, fmt.Sprintf("%s is the image it is today", f.Subject))
	}
	return slices.DeleteFunc(out, func(f Fix) bool { return len(f.Why) == 0 })
}

// fixDefinition mends a definition file.
func fixDefinition(out *Fix, findings []Finding) {
	text := out.New
	mark := len(text)
	body, utf8 := utf8Of(text)
	if !utf8 {
		return
	}
	mark -= len(body)
	v, err := hujson.Parse(slices.Clone(body))
	if err != nil {
		return
	}
	before := len(out.Why)
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
			var ops []operation
			if !has("forwardPorts") {
				ops = append(ops, operation{"add", "/forwardPorts", []any{}})
			}
			patch("port "+f.Subject+" is forwarded", append(ops, operation{"add", "/forwardPorts/-", json.Number(f.Subject)})...)
		case f.Rule == "secret-in-file" && f.Path == out.Path && envName.MatchString(f.Subject):
			for _, property := range []string{"containerEnv", "remoteEnv"} {
				if !has(property, f.Subject) {
					continue
				}
				ops := []operation{{"remove", "/" + property + "/" + f.Subject, nil}}
				if !has("secrets") {
					ops = append(ops, operation{"add", "/secrets", map[string]any{}})
				}
				if !has("secrets", f.Subject) {
					ops = append(ops, operation{"add", "/secrets/" + f.Subject, map[string]any{"description": ""}})
				}
				patch(fmt.Sprintf("%s is asked for in secrets, and no longer in %s", f.Subject, property), ops...)
			}
		}
	}
	if len(out.Why) > before {
		indent(&v)
		out.New = append(slices.Clone(text[:mark]), v.Pack()...)
	}
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
