package secret

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/url"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"yardbench/internal/bound"
)

// However the writes are cut, what comes out is as if the whole had been
// masked at once, and no value is in it.
func TestMaskingDoesNotDependOnTheWrites(t *testing.T) {
	secrets := map[string]string{"A": "abcab", "B": "abcabcab-long", "C": "hush\nhush-two\n", "D": "ab", "E": "öst🌊"}
	words := []string{"abcab", "abcabcab-long", "hush", "hush-two", "abc", "a", "\n", "öst🌊", "öst", "x", "hush\nhush-two\n"}
	for seed := range uint64(2000) {
		r := rand.New(rand.NewPCG(seed, 2))
		var text string
		for range r.IntN(30) {
			text += words[r.IntN(len(words))]
		}
		want := mask(text, secrets)
		var out bytes.Buffer
		m := NewMasker(&out, secrets)
		for rest := text; rest != ""; {
			n := 1 + r.IntN(len(rest))
			if _, err := m.Write([]byte(rest[:n])); err != nil {
				t.Fatal(err)
			}
			rest = rest[n:]
		}
		if err := m.Close(); err != nil {
			t.Fatal(err)
		}
		if out.String() != want {
			t.Fatalf("seed %d: %q came out as %q, whole as %q", seed, text, out.String(), want)
		}
		for name, v := range secrets {
			if len(v) >= MinMasked && strings.Contains(out.String(), v) {
				t.Fatalf("seed %d: the value of %s is in %q", seed, name, out.String())
			}
		}
	}
	if got := mask("the key is abcabcab-long, ab", secrets); got != "the key is [secret B], ab" {
		t.Errorf("it reads %q", got)
	}
}

func TestNamesAndValues(t *testing.T) {
	for name, good := range map[string]bool{"TIDE_API_KEY": true, "_x1": true, "": false, "1A": false, "A-B": false, "A B": false, "Å": false, "PATH": false,
		"GIT_CONFIG_KEY_0": false, "YARDBENCH_OWNER": false, strings.Repeat("A", 128): true, strings.Repeat("A", 129): false} {
		if (CheckName(name) == nil) != good {
			t.Errorf("%q: %v", name, CheckName(name))
		}
	}
	for value, good := range map[string]bool{"x": true, "": false, "a\x00b": false, strings.Repeat("x", MaxBytes): true, strings.Repeat("x", MaxBytes+1): false} {
		err := CheckValue(value)
		if (err == nil) != good {
			t.Errorf("a value of %d bytes: %v", len(value), err)
		}
		if err != nil && value != "" && strings.Contains(err.Error(), value) {
			t.Error("the refusal repeats the value")
		}
	}
}

// A secret of very many lines makes a log no slower than one of few.
func TestMaskingManyValues(t *testing.T) {
	var many, few strings.Builder
	for i := range 13_000 {
		fmt.Fprintf(&many, "%05d\n", i)
		if i < 10 {
			fmt.Fprintf(&few, "%05d\n", i)
		}
	}
	log := bytes.Repeat([]byte("compiling timetable.go and 27182 lines of it\n"), 100_000) // 4.5 MB
	took := func(value string) (time.Duration, string) {
		var out bytes.Buffer
		began := time.Now()
		m := NewMasker(&out, map[string]string{"TABLE": value})
		for part := log; len(part) > 0; part = part[min(len(part), 32<<10):] {
			if _, err := m.Write(part[:min(len(part), 32<<10)]); err != nil {
				t.Fatal(err)
			}
		}
		if err := m.Close(); err != nil {
			t.Fatal(err)
		}
		return time.Since(began), out.String()
	}
	quick, _ := took(few.String())
	slow, masked := took(many.String())
	if slow > 20*quick+time.Second {
		t.Errorf("with many values it takes %s, with few %s", slow, quick)
	}
	if !strings.Contains(masked, "and 27182 lines") { // no value of it: those end at 12999
		t.Error("what is no secret is masked")
	}
}

// A repository's secret has no name by which it would run code in the terminals
// of those who get it; a person's own may. One that is there already is not
// given.
func TestSharedNames(t *testing.T) {
	for name, good := range map[string]bool{"TIDE_API_KEY": true, "DATABASE_URL": true, "GITHUB_TOKEN": true, "AWS_SECRET_ACCESS_KEY": true, "NPM_TOKEN": true, "NODE_AUTH_TOKEN": true, "CARGO_REGISTRY_TOKEN": true, "UV_PUBLISH_TOKEN": true, "GIT_TOKEN": true, "GEM_HOST_API_KEY": true, "PGPASSWORD": true, "NODES": true,
		"PROMPT_COMMAND": false, "BASH_ENV": false, "BASH_FUNC_x": false, "LD_AUDIT": false, "GIT_SSH_COMMAND": false, "GIT_EXEC_PATH": false, "PYTHONPATH": false, "PYTHONSTARTUP": false, "NODE_OPTIONS": false,
		"PERL5OPT": false, "RUBYOPT": false, "JAVA_TOOL_OPTIONS": false, "PAGER": false, "EDITOR": false, "http_proxy": false, "HTTPS_PROXY": false, "SSL_CERT_FILE": false, "SSL_CERT": false, "PS1": false, "YARDBENCH_X": false, "PATH": false, "A B": false} {
		if err := CheckSharedName(name); (err == nil) != good {
			t.Errorf("%s: %v", name, err)
		}
	}
	page, err := os.ReadFile("../../../docs/security.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range steering {
		if row := "| " + s.why + " | `" + strings.Join(s.names, "` `") + "` |"; !strings.Contains(string(page), row) {
			t.Errorf("docs/security.md has no row\n%s", row)
		}
	}
	if CheckName("NODE_OPTIONS") != nil || CheckName("PAGER") != nil {
		t.Error("a person cannot name their own as they like")
	}
	for _, c := range Choose(Place{Repository: "tide-board"}, []Secret{{Level: OfRepository, Whose: "tide-board", Name: "PROMPT_COMMAND"}, {Level: OfRepository, Whose: "tide-board", Name: "TIDE_KEY"}, {Level: OfPerson, Name: "PAGER", Everywhere: true}}) {
		if c.Given == (c.Name == "PROMPT_COMMAND") {
			t.Errorf("%s is given: %v, as %s", c.Name, c.Given, c.Why)
		}
	}
}

// A value is masked in the forms in which common tools print it.
func TestForms(t *testing.T) {
	value := `CANARY-7f3aX1"q'\b\x and <a> long & winding key, 3 $lines of it; made up: of text to wrap in lines`
	for what, script := range map[string]string{
		"as it is": `printf %s "$V"`, "with a line end": `printf '%s\n' "$V"`, "echo of sh": `echo "$V"`, "base64": `printf %s "$V" | base64`, "base64 of a line": `printf '%s\n' "$V" | base64`, "base64 in one line": `printf %s "$V" | base64 -w0`,
		"base64 after one byte": `printf x%sy "$V" | base64 -w0`, "base64 after two": `printf xy%s "$V" | base64 -w0`, "base64 after three": `printf xyz%szz "$V" | base64 -w0`,
		"hexadecimal": `printf %s "$V" | od -An -v -tx1 | tr -d ' \n'`, "sh's quotes": `printf "'%s'" "$(printf %s "$V" | sed "s/'/'\\\\''/g")"`, "bash's %q": `bash -c 'printf %q "$V"'`, "bash's set": `bash -c 'set | grep ^V='`, "export -p": `export -p | grep ' V='`,
	} {
		cmd := exec.Command("sh", "-c", script)
		cmd.Env = append(os.Environ(), "V="+value)
		out, err := cmd.Output()
		if err != nil {
			t.Fatalf("%s: %v", what, err)
		}
		if got := mask(string(out), map[string]string{"V": value}); !strings.Contains(got, "[secret V]") || len(got) > 40 {
			t.Errorf("%s: of %q is shown %q", what, out, got)
		}
	}
	text, _ := json.Marshal(map[string]string{"v": value})
	for what, out := range map[string]string{"JSON": string(text), "a query": url.Values{"v": {value}}.Encode(), "a path": "/x/" + url.PathEscape(value), "HEX": strings.ToUpper(hex.EncodeToString([]byte(value))), "base64url": base64.URLEncoding.EncodeToString([]byte("?>" + value))} {
		if got := mask(out, map[string]string{"V": value}); !strings.Contains(got, "[secret V]") || len(got) > 40 {
			t.Errorf("%s: of %q is shown %q", what, out, got)
		}
	}
	for _, harmless := range []string{"the key is long & winding", "dGhlIGtleSBpcyBsb25n", "cafe", "abcd%20"} {
		if got := mask(harmless, map[string]string{"V": value, "S": "four"}); got != harmless {
			t.Errorf("%q is shown %q", harmless, got)
		}
	}
}

// Masking takes time by what is written, whatever the values are.
func TestMaskingIsLinear(t *testing.T) {
	as := strings.Repeat("a", MaxBytes-1)
	values := map[string]string{}
	for i := range 10 {
		values[fmt.Sprint("A", i)] = as[i:] + "b"
	}
	var lines strings.Builder
	for i := range 9000 {
		fmt.Fprintf(&lines, "%06d\n", i)
	}
	values["LINES"] = lines.String()
	var out bytes.Buffer
	m := NewMasker(&out, values)
	bound.Hold(t, 512, func() {
		for range 64 {
			if _, err := m.Write([]byte(as)); err != nil {
				t.Fatal(err)
			}
		}
		if err := m.Close(); err != nil {
			t.Fatal(err)
		}
	})
	if out.Len() != 64*len(as) {
		t.Errorf("4 MiB of what almost is a value come out as %d bytes", out.Len())
	}
	if held := cap(m.held); held > 4*MaxBytes {
		t.Errorf("it holds %d bytes", held)
	}
}

func FuzzMask(f *testing.F) {
	f.Add("abcab", "abcabcab-long", "xabcabcab-longy", 3)
	f.Add("aaaa", "aaaaaaab", "aaaaaaaaaaaaaaaaaa", 1)
	f.Fuzz(func(t *testing.T, one, other, text string, cut int) {
		if len(one)+len(other)+len(text) > 1<<16 {
			return
		}
		values := map[string]string{"A": one, "B": other}
		bound.Hold(t, 256, func() {
			whole := mask(text, values)
			var out bytes.Buffer
			m := NewMasker(&out, values)
			for rest := text; rest != ""; {
				n := min(len(rest), max(1, cut%7))
				_, _ = m.Write([]byte(rest[:n]))
				rest = rest[n:]
			}
			_ = m.Close()
			if out.String() != whole {
				t.Errorf("%q in pieces is %q, whole %q", text, out.String(), whole)
			}
			plain := strings.NewReplacer("[secret A]", "\x00\x01", "[secret B]", "\x00\x02").Replace(whole)
			for _, v := range values {
				if len(v) >= MinMasked && !strings.ContainsAny(v, "\x00\x01\x02[]") && strings.Contains(plain, v) {
					t.Errorf("%q is in %q", v, whole)
				}
			}
		})
	})
}
