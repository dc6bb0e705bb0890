package test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	yb "yardbench/client"
)

// The command line gives its sign-in another value each day, once, however many commands
// begin at once, and none of them is signed out by it; a service that cannot be had, or
// says no, changes nothing.
func TestTheCommandLineRenewsItsSignIn(t *testing.T) {
	t.Parallel()
	w := simWorld(t)
	w.must(w.as("ingrid", "", "list"), 0)
	type file struct {
		Last     string                    `json:"last"`
		Services map[string]map[string]any `json:"services"`
	}
	path := filepath.Join(w.config["ingrid"], "sign-in.json")
	read := func() (f file) {
		t.Helper()
		b, err := os.ReadFile(path)
		if err == nil {
			err = json.Unmarshal(b, &f)
		}
		if err != nil {
			t.Fatal(err)
		}
		return f
	}
	age := func(by time.Duration) (token string) {
		t.Helper()
		f := read()
		f.Services["main"]["renewed"] = time.Now().Add(-by).Format(time.RFC3339)
		b, err := json.Marshal(f)
		if err == nil {
			err = os.WriteFile(path, b, 0o600)
		}
		if err != nil {
			t.Fatal(err)
		}
		return f.Services["main"]["token"].(string)
	}
	token := func() string { return read().Services["main"]["token"].(string) }

	young := age(23 * time.Hour)
	w.must(w.as("ingrid", "", "list"), 0)
	if token() != young {
		t.Error("it is renewed within the day")
	}
	old := age(25 * time.Hour)
	long, err := yb.New(w.address, old) // begun before, and goes on
	if err != nil {
		t.Fatal(err)
	}
	long.Renewed = token
	var all sync.WaitGroup
	for range 6 {
		all.Go(func() {
			if r := w.as("ingrid", "", "list"); r.code != 0 {
				t.Errorf("beside others: %s", r)
			}
		})
	}
	all.Wait()
	newer := token()
	if st, err := os.Stat(path); err != nil || st.Mode().Perm() != 0o600 || newer == old {
		t.Errorf("it has the value before, or is kept as %v, %v", st, err)
	}
	mine, err := long.Self.Tokens(t.Context())
	if err != nil || len(mine) != 1 {
		t.Errorf("there are %d sign-ins, %v", len(mine), err)
	}
	w.must(w.as("ingrid", "", "list"), 0)
	if token() != newer {
		t.Error("it is renewed again")
	}

	// A program's token, and a service that is away, renew nothing.
	age(25 * time.Hour)
	w.kill()
	if r := w.as("ingrid", "", "list"); r.code == 0 || token() != newer {
		t.Errorf("without a service: %s", r)
	}
	w.start()
	w.must(w.as("ingrid", "", "list"), 0)
	if token() == newer {
		t.Error("it is not renewed once the service is back")
	}
	w.must(w.as("ingrid", "", "sign-out"), 0)
	w.must(w.as("ingrid", "", "list"), 5)
}
