package console

import (
	"compress/gzip"
	"io"
	"io/fs"
	"regexp"
	"strings"
	"testing"
)

// What comes before the first page is seen is small, and no part is so large
// that a page waits for it.
func TestPartsAreSmall(t *testing.T) {
	parts := 0
	err := fs.WalkDir(Files(), ".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".js") {
			return err
		}
		body, err := fs.ReadFile(Files(), path)
		if err != nil {
			return err
		}
		n := compressed(t, body)
		parts++
		if most := counter(180 << 10); n > most {
			t.Errorf("%s has %d KiB compressed, more than %d", path, n>>10, most>>10)
		}
		return nil
	})
	if err != nil || parts < 15 {
		t.Errorf("the console has %d parts, %v; it is built by: make console", parts, err)
	}
}

// What comes before somebody can sign in: the page itself, and what it names.
func TestTheEntryIsSmall(t *testing.T) {
	page, err := fs.ReadFile(Files(), "index.html")
	if err != nil {
		t.Fatalf("%v; it is built by: make console", err)
	}
	sum, parts := counter(0), 0
	for _, m := range regexp.MustCompile(`(?:src|href)="/(assets/[^"]+)"`).FindAllStringSubmatch(string(page), -1) {
		body, err := fs.ReadFile(Files(), m[1])
		if err != nil {
			t.Fatal(err)
		}
		sum += compressed(t, body)
		parts++
	}
	if most := counter(180_000); sum > most || parts < 2 {
		t.Errorf("the entry of %d parts has %d bytes compressed, more than %d", parts, sum, most)
	}
	t.Logf("the entry has %d bytes compressed", sum)
}

// compressed is how long something is when it is sent.
func compressed(t *testing.T, body []byte) (n counter) {
	t.Helper()
	z := gzip.NewWriter(&n)
	if _, err := z.Write(body); err != nil {
		t.Fatal(err)
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return n
}

type counter int

func (c *counter) Write(p []byte) (int, error) {
	*c += counter(len(p))
	return len(p), nil
}

var _ io.Writer = (*counter)(nil)
