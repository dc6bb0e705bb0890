package inside

import (
	"archive/tar"
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yardbench/internal/steward"
)

// What is packed in one home folder stands in another as it was; what leads out of one is
// neither packed nor laid, and what is there counts as it should.
func TestLuggageOutAndIn(t *testing.T) {
	at := time.Date(2026, 3, 14, 9, 26, 53, 589793000, time.UTC)
	one, other, away := t.TempDir(), t.TempDir(), t.TempDir()
	put := func(home, name, content string, changed time.Time) {
		t.Helper()
		path := filepath.Join(home, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(content), 0o640); err != nil {
			t.Fatal(err)
		}
		if err := os.Chtimes(path, changed, changed); err != nil {
			t.Fatal(err)
		}
	}
	is := func(name string) string {
		content, err := os.ReadFile(filepath.Join(other, name))
		if err != nil {
			return "none"
		}
		return string(content)
	}
	out := func(home string, ask steward.LuggageAsk) (packed, told []byte) {
		t.Helper()
		t.Setenv("HOME", home)
		in, err := json.Marshal(ask)
		if err != nil {
			t.Fatal(err)
		}
		var a, b bytes.Buffer
		if code := LuggageOut(bytes.NewReader(in), &a, &b); code != 0 {
			t.Fatalf("%d: %s", code, &b)
		}
		return a.Bytes(), b.Bytes()
	}
	in := func(packed []byte, args ...string) (string, int) {
		t.Setenv("HOME", other)
		var said bytes.Buffer
		code := LuggageIn(args, bytes.NewReader(packed), &said)
		return said.String(), code
	}
	put(one, ".tides", "mine", at)
	put(one, "d/deep/ø", "two", at)
	put(one, "d/known", "as it was", at)
	put(one, "d/large", strings.Repeat("x", 101), at)
	put(one, "other", "not asked for", at)
	put(away, "secret", "away", at)
	for _, l := range []string{"link", "d/link"} {
		if err := os.Symlink(filepath.Join(away, "secret"), filepath.Join(one, l)); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Symlink(away, filepath.Join(one, "folder")); err != nil {
		t.Fatal(err)
	}
	ask := steward.LuggageAsk{Paths: []string{".tides", "d", "link", "folder", "folder/secret", "../" + filepath.Base(away) + "/secret", "none"}, MostFile: 100, Most: 1000, Files: 10,
		Known: []steward.LuggageFile{{Path: "d/known", Bytes: 9, ChangedUS: at.UnixMicro()}}}
	packed, told := out(one, ask)
	var names []string
	for from := tar.NewReader(bytes.NewReader(packed)); ; {
		h, err := from.Next()
		if err != nil {
			break
		}
		names = append(names, h.Name)
	}
	if got := strings.Join(names, " "); got != ".tides d/deep/ø" || !strings.Contains(string(told), "d/large") {
		t.Errorf("%s came along, and not: %s", got, told)
	}
	if _, told := out(one, steward.LuggageAsk{Paths: []string{"d"}, MostFile: 100, Most: 5, Files: 10}); !strings.Contains(string(told), "more than") {
		t.Errorf("more bytes than may be come along: %s", told)
	}
	if _, told := out(one, steward.LuggageAsk{Paths: []string{"d"}, MostFile: 100, Most: 1000, Files: 1}); !strings.Contains(string(told), "more than 1 files") {
		t.Errorf("more files than may be come along: %s", told)
	}

	// What is older there gives way, what is newer stays; of a fresh home folder all gives way.
	put(other, ".tides", "newer", at.Add(time.Second))
	if said, code := in(packed); code != 0 || is(".tides") != "newer" || is("d/deep/ø") != "two" || !strings.Contains(said, ": 1\n") {
		t.Errorf("%d, %s; there are %s and %s", code, said, is(".tides"), is("d/deep/ø"))
	}
	if said, code := in(packed, "fresh"); code != 0 || is(".tides") != "mine" || !strings.Contains(said, ": 1\n") {
		t.Errorf("%d, %s; there is %s", code, said, is(".tides"))
	}
	st, err := os.Stat(filepath.Join(other, ".tides"))
	if err != nil || st.Mode().Perm() != 0o640 || !st.ModTime().Equal(at) {
		t.Errorf("it stands as %v, %v", st, err)
	}

	// Nothing is laid through a link, nor outside, whatever the archive says.
	var hostile bytes.Buffer
	to := tar.NewWriter(&hostile)
	for _, name := range []string{"../" + filepath.Base(away) + "/secret", "/tmp/yb-laid", "out/secret", "at", "good"} {
		if err := to.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: 4, ModTime: at}); err != nil {
			t.Fatal(err)
		}
		if _, err := to.Write([]byte("evil")); err != nil {
			t.Fatal(err)
		}
	}
	to.Close()
	for name, target := range map[string]string{"out": away, "at": filepath.Join(away, "secret")} {
		if err := os.Symlink(target, filepath.Join(other, name)); err != nil {
			t.Fatal(err)
		}
	}
	said, code := in(hostile.Bytes(), "fresh")
	content, err := os.ReadFile(filepath.Join(away, "secret"))
	if err != nil || string(content) != "away" || code != 1 || is("good") != "evil" || strings.Count(said, "stays as it is") != 4 {
		t.Errorf("outside there is %q, %v; it said %d, %s", content, err, code, said)
	}
	if said, code := in(packed[:3*512+2]); code != 1 {
		t.Errorf("half an archive: %d, %s", code, said)
	}
}
