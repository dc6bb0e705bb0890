package definition

import (
	"fmt"
	"maps"
	"path"
	"path/filepath"
	"strconv"
	"strings"
)

// inherit copies in the services of other files that the services of a file
// extend: the reader would look for those files on this machine. changed tells
// whether there are any.
func (r *composeReader) inherit(t *composeText, name, dir string) (top map[string]any, changed, ok bool) {
	services := mapOf(t.top["services"])
	for _, s := range sortedKeys(services) {
		e := mapOf(mapOf(services[s])["extends"])
		if e["file"] == nil {
			continue
		}
		if !changed {
			top, changed, r.loose = maps.Clone(t.top), true, true
			services = maps.Clone(services)
			top["services"] = services
		}
		file, _ := e["file"].(string)
		base, _ := e["service"].(string)
		copied, ok := r.copyOf(services, dir, file, base, dir, t.doc, t.doc.places.find("services", s, "extends"))
		if !ok {
			return nil, false, false
		}
		own := maps.Clone(mapOf(services[s]))
		own["extends"] = map[string]any{"service": copied}
		services[s] = own
	}
	return top, changed, true
}

// copyOf copies a service of another file, and what it extends in turn, among
// services, and gives its name there. from is the folder that file is relative
// to, dir what the copies' paths become relative to.
func (r *composeReader) copyOf(services map[string]any, from, file, service, dir string, d *doc, at int) (string, bool) {
	bad := func(fix, format string, args ...any) (string, bool) {
		d.rule("compose-file", Error, at, fix, format, args...)
		return "", false
	}
	name, ok := inside(from, file)
	if !ok {
		return bad("name a file of the repository", "%q is not in the repository and is not extended", file)
	}
	key := strings.Join([]string{d.path, name, service, dir}, "\x00")
	if copied, done := r.copies[key]; done {
		if services[copied] == nil {
			services[copied] = map[string]any{"extends": map[string]any{"service": copied}} // it waits for itself: the reader says so
		}
		return copied, true
	}
	if len(r.copies) >= maxInherited {
		return bad("take some out", "more than %d services of other files are extended", maxInherited)
	}
	t, ok := r.text(name, d, at)
	if !ok {
		return "", false
	}
	s, there := mapOf(t.top["services"])[service]
	if !there {
		return bad("name one of: "+strings.Join(sortedKeys(mapOf(t.top["services"])), ", "), "%s has no service %q", name, service)
	}
	copied := inherited + strconv.Itoa(len(r.copies)+1)
	r.copies[key] = copied
	own := maps.Clone(mapOf(s))
	if own == nil {
		return bad("correct it", "the service %q of %s says nothing", service, name)
	}
	next, in := file, from
	switch e := own["extends"].(type) {
	case string:
		next, in = path.Base(name), path.Dir(name)
		own["extends"] = map[string]any{"service": e}
	case map[string]any:
		if f, given := e["file"].(string); given {
			next, in = f, path.Dir(name)
		} else {
			next, in = path.Base(name), path.Dir(name)
		}
		own["extends"] = maps.Clone(e)
	}
	if e := mapOf(own["extends"]); e != nil {
		base, _ := e["service"].(string)
		further, ok := r.copyOf(services, in, next, base, dir, d, at)
		if !ok {
			return "", false
		}
		own["extends"] = map[string]any{"service": further}
	}
	rebase(own, path.Dir(name), dir)
	services[copied] = own
	return copied, true
}

// rebase makes the relative paths of a service that stands in one folder
// relative to another.
func rebase(s map[string]any, from, to string) {
	away, err := filepath.Rel("/"+to, "/"+from)
	if err != nil || away == "." {
		return
	}
	move := func(v any) any {
		p, ok := v.(string)
		if !ok || path.IsAbs(p) || strings.HasPrefix(p, "~") || strings.Contains(p, "://") || strings.HasPrefix(p, "service:") {
			return v
		}
		return "./" + path.Join(away, p)
	}
	list := func(v any, each func(any) any) any {
		l, ok := v.([]any)
		if !ok {
			return each(v)
		}
		out := make([]any, len(l))
		for i := range l {
			out[i] = each(l[i])
		}
		return out
	}
	member := func(name string) func(any) any {
		return func(v any) any {
			m := mapOf(v)
			if m == nil {
				return move(v)
			}
			m = maps.Clone(m)
			m[name] = move(m[name])
			return m
		}
	}
	switch b := s["build"].(type) {
	case string:
		s["build"] = move(b)
	case map[string]any:
		b = maps.Clone(b)
		if b["context"] == nil {
			b["context"] = "."
		}
		b["context"] = move(b["context"])
		s["build"] = b
	}
	for _, k := range []string{"env_file", "label_file"} {
		if s[k] != nil {
			s[k] = list(s[k], member("path"))
		}
	}
	if s["volumes"] != nil {
		s["volumes"] = list(s["volumes"], func(v any) any {
			if m := mapOf(v); m != nil {
				if m["type"] == "bind" {
					return member("source")(m)
				}
				return m
			}
			text, _ := v.(string)
			source, rest, ok := strings.Cut(text, ":")
			if !ok || !strings.HasPrefix(source, ".") {
				return v
			}
			return fmt.Sprint(move(source), ":", rest)
		})
	}
}
