package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"text/template"

	"yardbench/internal/core/plain"
)

// The forms of -o, beside template=TEXT.
var forms = []string{"json", "jsonl", "name", "wide"}

const templateForm = "template="

// readForm reads what -o says; --json is -o json.
func (a *app) readForm() (err error) {
	if a.form == "" {
		if a.json {
			a.form = "json"
		}
		return nil
	}
	if a.json && a.form != "json" {
		return usage{fmt.Errorf("-o %s and --json are two forms of the same: ask for one", a.form)}
	}
	if a.form == "wide" {
		a.form, a.wide = "", true
		return nil
	}
	if text, is := strings.CutPrefix(a.form, templateForm); is {
		a.template, err = template.New("output").Parse(text)
		if err != nil {
			return usage{fmt.Errorf("this is no template of Go: %w", err)}
		}
	} else if !slices.Contains(forms, a.form) {
		next := "it is one of " + strings.Join(forms, ", ") + ", or template=TEXT"
		if near := plain.Near(a.form, forms); near != "" {
			next = "write " + near + ", if that is meant"
		}
		return usage{fmt.Errorf("there is no form %q; %s", plain.Line(a.form, 40), next)}
	}
	a.json = true
	return nil
}

// toProgram writes v in the form that was asked for.
func (a *app) toProgram(v any) error {
	if a.form == "" || a.form == "json" {
		enc := json.NewEncoder(a.out)
		enc.SetIndent("", "  ")
		return enc.Encode(v)
	}
	text, err := json.Marshal(v)
	if err != nil {
		return err
	}
	items := []json.RawMessage{text}
	if bytes.HasPrefix(text, []byte("[")) {
		if err := json.Unmarshal(text, &items); err != nil {
			return err
		}
	}
	for _, item := range items {
		switch {
		case a.form == "jsonl":
			_, err = fmt.Fprintf(a.out, "%s\n", item)
		default:
			var thing any
			read := json.NewDecoder(bytes.NewReader(item))
			read.UseNumber() // amounts stay as they are
			if err = read.Decode(&thing); err != nil {
				return err
			}
			if a.form == "name" {
				if n := calledIn(thing); n != "" {
					_, err = fmt.Fprintln(a.out, clean(n))
				}
				break
			}
			var b strings.Builder
			if err = a.template.Execute(&b, thing); err == nil { // what a thing has not is left out of what is read
				_, err = fmt.Fprintln(a.out, clean(strings.ReplaceAll(b.String(), "<no value>", "")))
			}
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// calledIn is what a thing is asked for by: its name, with its owner's where it has
// one, or what else it has in a name's place.
func calledIn(thing any) string {
	of, _ := thing.(map[string]any)
	for _, key := range []string{"name", "id", "host", "number", "version", "repository", "address"} {
		if v, there := of[key]; there && v != nil {
			n := fmt.Sprint(v)
			if owner, ok := of["owner"].(string); ok && key == "name" {
				n += "." + owner
			}
			return n
		}
	}
	return ""
}
