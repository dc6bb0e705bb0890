package client

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"reflect"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"
)

// Everything that the client asks for stands in the description: the path and the
// method, each word of the query, each member of the body.
func TestPathsAreDescribed(t *testing.T) {
	text, err := os.ReadFile("../docs/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	var doc struct {
		Paths map[string]map[string]struct {
			OperationID string
			Parameters  []struct{ Name, In string }
			RequestBody struct {
				Content map[string]struct {
					Schema struct {
						Ref string `json:"$ref"`
					}
				}
			}
		}
		Components struct {
			Schemas map[string]struct{ Properties map[string]any }
		}
	}
	if err := json.Unmarshal(text, &doc); err != nil || len(doc.Paths) < 60 {
		t.Fatalf("the description has %d paths, %v", len(doc.Paths), err)
	}
	// The path with the fewest things left open is the one that is meant.
	find := func(path string) (found string) {
		open := 100
		for p := range doc.Paths {
			want, have := strings.Split(p, "/"), strings.Split(path, "/")
			fits, n := len(want) == len(have), 0
			for i := 0; fits && i < len(want); i++ {
				if strings.HasPrefix(want[i], "{") {
					n++
				} else {
					fits = want[i] == have[i]
				}
			}
			if fits && n < open {
				found, open = p, n
			}
		}
		return found
	}
	var mu sync.Mutex
	asked := map[string]bool{}
	by := map[string]string{} // which method asks an operation
	calling := ""
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		mu.Lock()
		defer mu.Unlock()
		path := find(r.URL.Path)
		o, there := doc.Paths[path][strings.ToLower(r.Method)]
		if !there {
			t.Errorf("%s asks %s %s, which is not described", calling, r.Method, r.URL.Path)
		}
		asked[o.OperationID] = true
		for other, m := range by {
			if m == calling && other != o.OperationID || other == o.OperationID && m != calling {
				t.Errorf("%s asks %s, and %s asks %s: a method is an operation", calling, o.OperationID, m, other)
			}
		}
		by[o.OperationID] = calling
		for word := range r.URL.Query() {
			if !slices.Contains(o.Parameters, struct{ Name, In string }{word, "query"}) {
				t.Errorf("%s asks %s %s with %s, which is not described", calling, r.Method, path, word)
			}
		}
		schema := doc.Components.Schemas[strings.TrimPrefix(o.RequestBody.Content["application/json"].Schema.Ref, "#/components/schemas/")]
		var members map[string]any
		if len(body) > 0 && r.Header.Get("Content-Type") == "application/json" && json.Unmarshal(body, &members) != nil {
			t.Errorf("%s sends %s", calling, body)
		}
		for m := range members {
			if schema.Properties[m] == nil {
				t.Errorf("%s sends %s to %s %s, which is not described", calling, m, r.Method, path)
			}
		}
		w.Header().Set("Content-Type", "application/json")
		answer := "{}"
		if o.OperationID == "watch-events" {
			answer = "data: {}\n\n"
		}
		_, _ = io.WriteString(w, answer)
	}))
	defer server.Close()
	c, err := New(server.URL, "yb_x")
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	walk := func(of reflect.Value) {
		for i := range of.NumMethod() {
			m := of.Type().Method(i)
			if m.Type.NumIn() < 2 || m.Type.In(1) != reflect.TypeFor[context.Context]() {
				continue
			}
			mu.Lock()
			calling = of.Type().String() + "." + m.Name
			mu.Unlock()
			args := []reflect.Value{of, reflect.ValueOf(ctx)}
			for n := 2; n < m.Type.NumIn(); n++ {
				args = append(args, made(m.Type.In(n)))
			}
			func() {
				defer func() { _ = recover() }() // what would be done with the answer needs more than this
				m.Func.Call(args)
			}()
		}
	}
	walk(reflect.ValueOf(c))
	nouns := reflect.ValueOf(c).Elem()
	for i := range nouns.NumField() {
		if nouns.Type().Field(i).IsExported() {
			walk(nouns.Field(i))
		}
	}
	for _, o := range []string{"launch", "list-workspaces", "put-rules", "watch-events", "open-session", "open-tunnel", "export-journal", "show-sheet"} {
		if !asked[o] {
			t.Errorf("nobody asks %s", o)
		}
	}
	if len(asked) < 94 {
		t.Errorf("only %d operations are asked", len(asked))
	}
}

// made is some value of a type, with every member said.
func made(of reflect.Type) reflect.Value {
	v := reflect.New(of).Elem()
	switch of.Kind() {
	case reflect.String:
		v.SetString("x")
	case reflect.Int, reflect.Int64:
		v.SetInt(1)
	case reflect.Bool:
		v.SetBool(true)
	case reflect.Pointer:
		v.Set(reflect.New(of.Elem()))
		v.Elem().Set(made(of.Elem()))
	case reflect.Slice:
		v.Set(reflect.Append(v, made(of.Elem())))
	case reflect.Map:
		v.Set(reflect.MakeMap(of))
		v.SetMapIndex(made(of.Key()), made(of.Elem()))
	case reflect.Struct:
		for i := range of.NumField() {
			if of.Field(i).IsExported() {
				v.Field(i).Set(made(of.Field(i).Type))
			}
		}
	case reflect.Interface:
		if reflect.TypeFor[discard]().Implements(of) {
			v.Set(reflect.ValueOf(discard{}))
		}
	case reflect.Func:
		v.Set(reflect.MakeFunc(of, func([]reflect.Value) (out []reflect.Value) {
			for i := range of.NumOut() {
				out = append(out, reflect.Zero(of.Out(i)))
			}
			if len(out) > 0 && out[0].Kind() == reflect.Bool {
				out[0] = reflect.ValueOf(true) // enough
			}
			return out
		}))
	}
	return v
}

type discard struct{}

func (discard) Write(p []byte) (int, error) { return len(p), nil }
