package api_test

import (
	"fmt"
	"strings"
	"testing"

	"yardbench/internal/store"
)

// What somebody likes is kept for them alone, and within bounds.
func TestKept(t *testing.T) {
	address, _ := door(t)
	ingrid, jonas := signIn(t, address, "ingrid"), signIn(t, address, "jonas")
	ask := func(method, path, body, who string) (int, string) {
		t.Helper()
		res, text := call(t, method, address+"/api/v1"+path, body, bearer(who))
		return res.StatusCode, text
	}
	for _, c := range []struct {
		method, path, body, who string
		status                  int
		says                    string
	}{
		{"GET", "/kept", "", ingrid, 200, `"items":[]`},
		{"PUT", "/kept/fleet-views", `{"value":{"mine":"team=Harbour"}}`, ingrid, 204, ""},
		{"PUT", "/kept/fleet-views", `{"value":{"mine":"team=Fares","a":["b",1,null]}}`, ingrid, 204, ""},
		{"GET", "/kept/fleet-views", "", ingrid, 200, `"value":{"a":["b",1,null],"mine":"team=Fares"}`},
		{"GET", "/kept/fleet-views", "", jonas, 404, "no kept thing"},
		{"DELETE", "/kept/fleet-views", "", jonas, 404, "no kept thing"},
		{"PUT", "/kept/Fleet", `{"value":1}`, ingrid, 422, "no name"},
		{"PUT", "/kept/..", `{"value":1}`, ingrid, 422, "no name"},
		{"PUT", "/kept/long", `{"value":"` + strings.Repeat("x", 17<<10) + `"}`, ingrid, 422, "more than the 16384"},
		{"DELETE", "/kept/fleet-views", "", ingrid, 204, ""},
		{"GET", "/kept", "", ingrid, 200, `"items":[]`},
	} {
		if status, text := ask(c.method, c.path, c.body, c.who); status != c.status || !strings.Contains(text, c.says) {
			t.Errorf("%s %s is answered %d: %.200s", c.method, c.path, status, text)
		}
	}
	for n := range store.TastesMost + 5 {
		if status, text := ask("PUT", fmt.Sprintf("/kept/bench.%d", n), `{"value":1}`, jonas); status != 204 {
			t.Fatalf("the one of number %d is answered %d: %s", n, status, text)
		}
	}
	_, text := ask("GET", "/kept?limit=1000", "", jonas)
	if n := strings.Count(text, `"name"`); n != store.TastesMost || strings.Contains(text, `"bench.0"`) {
		t.Errorf("of many %d are kept", n)
	}
}
