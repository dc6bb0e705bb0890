package console

import (
	"compress/gzip"
	"io"
	"io/fs"
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
		var n counter
		z := gzip.NewWriter(&n)
		if _, err := z.Write(body); err != nil {
			return err
		}
		if err := z.Close(); err != nil {
			return err
		}
		parts++
		if most := 180 << 10; n > counter(most) {
			t.Errorf("%s has %d KiB compressed, more than %d", path, n>>10, most>>10)
		}
		return nil
	})
	if err != nil || parts < 15 {
		t.Errorf("the console has %d parts, %v; it is built by: make console", parts, err)
	}
}

type counter int

func (c *counter) Write(p []byte) (int, error) {
	*c += counter(len(p))
	return len(p), nil
}

var _ io.Writer = (*counter)(nil)
