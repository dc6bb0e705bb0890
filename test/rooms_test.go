package test

import (
	"os/exec"
	"strings"
	"testing"
)

// floors are the rooms of the house, from the ground up. A room may use its
// own floor's subrooms and the floors beneath, never one above.
var floors = [][]string{
	{"durable"},
	{"core", "live", "wire", "vault", "browser", "due", "password"},
	{"steward"},
	{"store", "yard", "repo", "feature", "webhook"},
	{"presence", "house", "session"},
	{"keeper"},
	{"service"},
	{"api", "access"},
	{"client"},
	{"serve", "demo"},
	{"cli", "hunt"},
}

// Arrows go down only, and the core knows nothing of ours and does nothing
// outside itself.
func TestArrowsGoDownOnly(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}} {{join .Imports " "}}`, "yardbench/internal/...").Output()
	if err != nil {
		t.Fatal(err)
	}
	floor := map[string]int{}
	for n, rooms := range floors {
		for _, r := range rooms {
			floor[r] = n
		}
	}
	room := func(path string) string {
		rest, ours := strings.CutPrefix(path, "yardbench/internal/")
		if !ours {
			return ""
		}
		r, _, _ := strings.Cut(rest, "/")
		return r
	}
	packages := strings.Split(strings.TrimSpace(string(out)), "\n")
	if len(packages) < 15 {
		t.Fatalf("only %d packages are listed", len(packages))
	}
	for _, line := range packages {
		words := strings.Fields(line)
		from := room(words[0])
		if _, known := floor[from]; !known {
			t.Errorf("%s is on no floor: say where it belongs", words[0])
		}
		for _, used := range words[1:] {
			to := room(used)
			if to != "" && to != from && floor[to] >= floor[from] {
				t.Errorf("%s uses %s, which is not beneath it", words[0], used)
			}
			if from == "core" {
				outside := used == "os" || strings.HasPrefix(used, "os/") || used == "net" || used == "net/http" || used == "database/sql" || strings.HasPrefix(used, "crypto/rand")
				if outside || (to != "" && to != "core") {
					t.Errorf("%s uses %s: the core reaches nothing outside itself", words[0], used)
				}
			}
		}
	}
}
