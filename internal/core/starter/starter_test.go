package starter

import (
	"fmt"
	"strings"
	"testing"

	"yardbench/internal/bound"
)

const board = `{"id": "board", "version": "1.2.0", "name": "A board", "description": "Shows something", // a comment
	"options": {"port": {"type": "string", "default": "8000", "proposals": ["8000", "8080"]}, "quay": {"type": "string", "enum": ["north", "south"], "default": "north"}, "lights": {"type": "boolean", "default": true}, "title": {"type": "string"}}}`

func TestStarter(t *testing.T) {
	s, err := Read("board", []byte(board))
	if err != nil || s.Title != "A board" || len(s.Options) != 4 {
		t.Fatalf("it is read as %+v, %v", s, err)
	}
	for _, c := range []struct {
		chosen map[string]string
		want   string
	}{
		{map[string]string{"title": "Tides"}, "map[lights:true port:8000 quay:north title:Tides]"},
		{map[string]string{"title": "Tides", "quay": "south", "lights": "false", "port": "1"}, "map[lights:false port:1 quay:south title:Tides]"},
		{nil, "title has no default"}, {map[string]string{"title": "x", "quay": "west"}, "one of north, south"}, {map[string]string{"title": "x", "lights": "dim"}, "true or false"},
		{map[string]string{"title": "x", "keel": "1"}, "has no option \"keel\""}, {map[string]string{"title": "a\nb"}, "cannot be used"},
	} {
		v, err := s.Choose(c.chosen)
		got := fmt.Sprint(v)
		if err != nil {
			got = err.Error()
		}
		if !strings.Contains(got, c.want) {
			t.Errorf("%v gives %s, not %s", c.chosen, got, c.want)
		}
	}
	files := []File{{Path: ManifestName, Content: []byte(board)}, {Path: ".devcontainer/devcontainer.json", Content: []byte(`{"forwardPorts": [${templateOption:port}], "name": "${templateOption: title }"}`)}, {Path: "x.bin", Content: []byte{0xff, '$'}}}
	out, err := s.Fill(files, map[string]string{"port": "1", "title": "Tides"})
	if err != nil || len(out) != 2 || string(out[0].Content) != `{"forwardPorts": [1], "name": "Tides"}` {
		t.Errorf("it is filled as %v, %v", out, err)
	}
	for _, bad := range []File{{Path: "../x"}, {Path: "/etc/passwd"}, {Path: ".git/config"}, {Path: "a//b"}, {Path: "a", Content: []byte("${templateOption:none}")}} {
		if _, err := s.Fill([]File{bad}, nil); err == nil {
			t.Errorf("the file %q is taken", bad.Path)
		}
	}
	for _, bad := range []string{`{`, `{"options": {"a b": {}}}`, `{"options": 1}`} {
		if _, err := Read("x", []byte(bad)); err == nil {
			t.Errorf("the manifest %s is taken", bad)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add(board, "${templateOption:port}")
	f.Add(`{"options": {"a": {"default": {"b": [1]}}}}`, "${templateOption:a}${templateOption:}")
	f.Fuzz(func(t *testing.T, text, file string) {
		bound.Hold(t, 256, func() {
			s, err := Read("x", []byte(text))
			if err != nil {
				return
			}
			if v, err := s.Choose(nil); err == nil {
				_, _ = s.Fill([]File{{Path: "a", Content: []byte(file)}}, v)
			}
		})
	})
}
