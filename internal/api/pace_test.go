package api_test

import (
	"net/http"
	"testing"

	"yardbench/internal/serve"
)

// Who changes things faster than a person can is told to wait, and how long;
// looking goes on, and so do others.
func TestPaceAtTheDoor(t *testing.T) {
	address, _ := doorTo(t, "unix:///nowhere.sock", func(c *serve.Config) { c.ChangesPerHour = 50 })
	ingrid, mats := bearer(signIn(t, address, "ingrid")), bearer(signIn(t, address, "mats"))
	put := func(who http.Header) *http.Response {
		res, _ := call(t, "PUT", address+"/api/v1/git-credentials/git.skerryline.example", `{"username": "x", "password": "y"}`, who.Clone())
		return res
	}
	for range 5 {
		if res := put(ingrid); res.StatusCode >= 300 {
			t.Fatalf("a change is answered %s", res.Status)
		}
	}
	if res := put(ingrid); res.StatusCode != http.StatusTooManyRequests || res.Header.Get("Retry-After") == "" {
		t.Errorf("one too many is answered %s, %v", res.Status, res.Header)
	}
	if res, _ := call(t, "GET", address+"/api/v1/workspaces", "", ingrid.Clone()); res.StatusCode != http.StatusOK {
		t.Errorf("a look is answered %s", res.Status)
	}
	if res := put(mats); res.StatusCode >= 300 {
		t.Errorf("another is answered %s", res.Status)
	}
}
