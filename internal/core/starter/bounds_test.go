package starter

import (
	"fmt"
	"strings"
	"testing"
)

// What is at a bound is taken, and one more is not.
func TestBounds(t *testing.T) {
	manifest := func(n int) []byte {
		text := `{"name": "x", "options": {`
		for i := range n {
			text += fmt.Sprintf(`"o%d": {"default": "1"},`, i)
		}
		return []byte(strings.TrimSuffix(text, ",") + `}}`)
	}
	for n, good := range map[int]bool{0: true, maxOptions: true, maxOptions + 1: false} {
		if s, err := Read("x", manifest(n)); (err == nil) != good || good && len(s.Options) != n {
			t.Errorf("a manifest with %d options: %d, %v", n, len(s.Options), err)
		}
	}
	small := `{"name": "x"}`
	for n, good := range map[int]bool{MaxFileBytes: true, MaxFileBytes + 1: false} {
		if _, err := Read("x", []byte(small+strings.Repeat(" ", n-len(small)))); (err == nil) != good {
			t.Errorf("a manifest of %d bytes: %v", n, err)
		}
	}
	s := Starter{Options: []Option{{Name: "title", Default: "x"}, {Name: "lights", Boolean: true}, {Name: "quay", Enum: []string{"north", ""}}}}
	for name, c := range map[string]struct {
		chosen map[string]string
		good   bool
	}{
		"a space is a character":     {map[string]string{"title": "a b", "lights": "true", "quay": "north"}, true},
		"a tab is not":               {map[string]string{"title": "a\tb", "lights": "true", "quay": "north"}, false},
		"as long as it may be":       {map[string]string{"title": strings.Repeat("x", 4096), "lights": "true", "quay": "north"}, true},
		"longer":                     {map[string]string{"title": strings.Repeat("x", 4097), "lights": "true", "quay": "north"}, false},
		"false":                      {map[string]string{"lights": "false", "quay": "north"}, true},
		"neither true nor false":     {map[string]string{"lights": "", "quay": "north"}, false},
		"an empty one that is given": {map[string]string{"title": "", "lights": "true", "quay": "north"}, true},
		"an empty one of a list":     {map[string]string{"lights": "true", "quay": ""}, true},
		"no default":                 {map[string]string{"quay": "north"}, false},
	} {
		if _, err := s.Choose(c.chosen); (err == nil) != c.good {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := (Starter{Options: []Option{{Name: "lights", Boolean: true, Default: "dim"}}}).Choose(nil); err == nil {
		t.Error("a default that is neither true nor false is taken")
	}
	for p, inside := range map[string]bool{"a": true, "a/b c": true, "a/.git": true, "": false, ".": false, "..": false, "../a": false, "..a": true, "/a": false, "a/": false, ".git": false, ".git/x": false, ".gitx": true, "a\x1fb": false} {
		if Inside(p) != inside {
			t.Errorf("that %q stays inside is %v", p, !inside)
		}
	}
}
