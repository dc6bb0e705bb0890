package definition

import (
	"fmt"
	"reflect"
	"strconv"
	"strings"

	"github.com/tailscale/hujson"

	"yardbench/internal/core/plain"
)

// fit takes out of a value what is not of the kind that a property must be of,
// and says so: each where it stands. path leads to the value. What is left can
// be read into a value of the type.
func (d *doc) fit(v *hujson.Value, t reflect.Type, path ...string) (fits bool) {
	kind := jsonKind(*v)
	name := strings.Join(path, ".")
	if n := len(path); n > 1 { // as people say it: the value, then where it is
		name = plain.Text(path[n-1]) + " in " + strings.Join(path[:n-1], ".")
	}
	must := func(want, fix string) bool {
		if kind == want {
			return true
		}
		d.say(Error, d.at(path...), fix, "%s is %s; it must be %s", name, withArticle(kind), withArticle(want))
		return false
	}
	if kind == "null" { // says nothing, as if it were not there
		return true
	}
	switch t.Kind() {
	case reflect.Pointer:
		return d.fit(v, t.Elem(), path...)
	case reflect.Interface:
		return true
	case reflect.String:
		fix := "write a string"
		if lit, ok := v.Value.(hujson.Literal); ok && kind != "string" {
			fix = "write " + strconv.Quote(plain.Text(string(lit)))
		}
		return must("string", fix)
	case reflect.Bool:
		return must("boolean", "write true or false")
	case reflect.Float64:
		return must("number", "write a number")
	case reflect.Slice:
		if t.Elem().Kind() == reflect.String && kind == "string" {
			return must("array", "write ["+strconv.Quote(plain.Text(v.Value.(hujson.Literal).String()))+"]")
		}
		if !must("array", "write a list in [ ]") {
			return false
		}
		list := v.Value.(*hujson.Array)
		kept := list.Elements[:0:0]
		for i := range list.Elements {
			if d.fit(&list.Elements[i], t.Elem(), with(path, strconv.Itoa(i))...) {
				kept = append(kept, list.Elements[i])
			}
		}
		list.Elements = kept
		return true
	}
	if !must("object", "write an object in { }") {
		return false
	}
	obj := v.Value.(*hujson.Object)
	kept := obj.Members[:0:0]
	known := map[string]reflect.Type{}
	if t.Kind() == reflect.Struct {
		for i := range t.NumField() {
			known[t.Field(i).Tag.Get("json")] = t.Field(i).Type
		}
	}
	for i := range obj.Members {
		m := &obj.Members[i]
		member := m.Name.Value.(hujson.Literal).String()
		at := known[member]
		switch {
		case t.Kind() == reflect.Map:
			at = t.Elem()
		case at == nil:
			if !d.loose {
				(checkDoc{d}).unknown(member, m.Name.StartOffset, sortedKeys(known), strings.Join(path, "."))
			}
			continue
		}
		if d.fit(&m.Value, at, with(path, member)...) {
			kept = append(kept, *m)
		}
	}
	obj.Members = kept
	return true
}

func with(path []string, name string) []string { return append(path[:len(path):len(path)], name) }

func jsonKind(v hujson.Value) string {
	switch x := v.Value.(type) {
	case *hujson.Object:
		return "object"
	case *hujson.Array:
		return "array"
	case hujson.Literal:
		switch x.Kind() {
		case '"':
			return "string"
		case 't', 'f':
			return "boolean"
		case 'n':
			return "null"
		}
	}
	return "number"
}

func withArticle(kind string) string {
	if strings.ContainsAny(kind[:1], "aeiou") {
		return "an " + kind
	}
	return "a " + kind
}

// inWords is a value as people would say it in a message: what Go says of a map
// or of nothing is not for them.
func inWords(v any) string {
	switch x := v.(type) {
	case nil:
		return "null"
	case map[string]any:
		return "an object"
	case []any:
		return "an array"
	case string:
		return strconv.Quote(plain.Text(x))
	}
	return fmt.Sprint(v)
}
