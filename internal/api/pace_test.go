package api_test

import (
	"context"
	"net/http"
	"testing"
	"time"

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
	// What is open counts until it ends, streams too.
	ctx, end := context.WithCancel(t.Context())
	defer end()
	streams := 0
	for ; streams < 300; streams++ {
		req, err := http.NewRequestWithContext(ctx, "GET", address+"/api/v1/events", nil)
		if err != nil {
			t.Fatal(err)
		}
		req.Header = ingrid.Clone()
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		if res.StatusCode != http.StatusOK {
			res.Body.Close()
			break
		}
		defer res.Body.Close()
	}
	if streams != 256 {
		t.Errorf("%d streams of one person are open at once", streams)
	}
	end()
	for until := time.Now().Add(10 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		res, _ := call(t, "GET", address+"/api/v1/workspaces", "", ingrid.Clone())
		if res.StatusCode == http.StatusOK {
			break
		}
		if time.Now().After(until) {
			t.Fatalf("when they have ended a look is answered %s", res.Status)
		}
	}
}
