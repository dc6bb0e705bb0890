package secret

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"testing/iotest"
)

// A value is found wherever it stands, in the forms of common tools, and nothing else
// is; one reader says nothing of the next.
func TestFinder(t *testing.T) {
	values := map[string]string{"KEY": "opens-the-harbour", "PEM": "-----BEGIN-----\nfirst line of it\nsecond line of it\n", "SHORT": "hunter2"}
	f := NewFinder(values)
	if f.Empty() || !NewFinder(map[string]string{"SHORT": "hunter2"}).Empty() {
		t.Error("short values are looked for")
	}
	look := f.Look()
	far := strings.Repeat("opens-the-opens-the-harb", 9000)
	for _, c := range []struct{ text, want string }{
		{"", ""}, {"hunter2", ""}, {far, ""}, {far + "opens-the-harbour", "KEY"}, {"x", ""}, {"opens-the-", ""}, {"harbour", ""}, {"b3BlbnMtdGhlLWhhcmJvdXI=", "KEY"}, {"6f70656e732d7468652d686172626f7572", "KEY"},
		{"a\nsecond line of it\nb", "PEM"}, {"first line of i", ""}, {"opens-the-harbour" + far, "KEY"}, {"opens-the-harbou", ""},
	} {
		for _, r := range []io.Reader{strings.NewReader(c.text), iotest.OneByteReader(strings.NewReader(c.text))} {
			if got, err := look(r); got != c.want || err != nil {
				t.Errorf("in %.40q it finds %q, %v", c.text, got, err)
			}
		}
	}
	broken := errors.New("it broke")
	if got, err := look(io.MultiReader(strings.NewReader("opens-the-har"), iotest.ErrReader(broken))); got != "" || !errors.Is(err, broken) {
		t.Errorf("of what cannot be read it says %q, %v", got, err)
	}
}

// What is printed is masked as fast as it comes: promised are 200 MB a second on a core
// with 200 values (docs/performance.md).
func BenchmarkMask(b *testing.B) {
	r := rand.New(rand.NewPCG(1, 2))
	values := map[string]string{}
	for i := range 200 {
		v := make([]byte, 32)
		for j := range v {
			v[j] = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789"[r.IntN(62)]
		}
		values[fmt.Sprintf("KEY_%d", i)] = string(v)
	}
	var log bytes.Buffer
	for log.Len() < 8<<20 {
		fmt.Fprintf(&log, "2026-11-25T10:%02d:%02dZ building step %d: compiled %x in %d ms\n", r.IntN(60), r.IntN(60), r.IntN(1000), r.Uint64(), r.IntN(5000))
	}
	m := NewMasker(io.Discard, values)
	b.SetBytes(int64(log.Len()))
	for b.Loop() {
		for part := range slices.Chunk(log.Bytes(), 64<<10) {
			if _, err := m.Write(part); err != nil {
				b.Fatal(err)
			}
		}
	}
	if rate := float64(log.Len()) * float64(b.N) / b.Elapsed().Seconds() / 1e6; rate < 200 {
		b.Errorf("%.0f MB a second are masked, promised are 200", rate)
	}
}
