package wire

import (
	"os"
	"strings"
	"testing"
)

// The page tells of every kind of message, and of no other.
func TestFramesAreTold(t *testing.T) {
	page, err := os.ReadFile("../docs/terminals.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range Frames {
		from := map[bool]string{true: "you", false: "the service"}[f.Sent]
		if !strings.Contains(string(page), "| `"+f.Kind+"` | "+from+" |") || len(f.Kind) != 1 || f.Means == "" {
			t.Errorf("docs/terminals.md does not tell of %+v", f)
		}
	}
	if n := strings.Count(string(page), " | you | ") + strings.Count(string(page), " | the service | "); n != len(Frames) {
		t.Errorf("the page tells of %d kinds, there are %d", n, len(Frames))
	}
}
