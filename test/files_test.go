package test

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	yb "yardbench/client"
	"yardbench/internal/demo"
	"yardbench/wire"
)

// problem is the kind of a problem, without what all begin with.
func problem(err error) string {
	var p *wire.Problem
	switch {
	case err == nil:
		return ""
	case errors.As(err, &p):
		return strings.TrimPrefix(p.Type, wire.ProblemPrefix)
	}
	return err.Error()
}

// Files of a workspace are read, changed, packed, searched and watched from
// outside, as its user, beneath its folders; by nobody else.
func TestFiles(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 0, "is ready")
	c, ctx := w.client("ingrid"), t.Context()
	text := func(path string, from int64) string {
		t.Helper()
		var b bytes.Buffer
		if err := c.Files.Read(ctx, "quay", path, from, &b); err != nil {
			t.Errorf("%q: %v", path, err)
		}
		return b.String()
	}
	odd := "log/odd\nname \xff;$(x)%20"
	if _, err := c.Files.MakeFolder(ctx, "quay", "log/deep", false); err != nil {
		t.Fatal(err)
	}
	f, err := c.Files.Write(ctx, "quay", odd, strings.NewReader("six bells\n"), "", true)
	if err != nil || !bytes.Equal(f.Raw, []byte(strings.TrimPrefix(odd, "log/"))) || f.Bytes != 10 || f.Mode != "0644" {
		t.Errorf("it is %+v, %v", f, err)
	}
	if got := text(odd, 4); got != "bells\n" {
		t.Errorf("a part of it reads %q", got)
	}
	w.must(w.as("ingrid", "", "run", "quay", "--", "sh", "-c", "stat -c %U log/odd*; truncate -s 2G big; printf end >>big; ln -s /etc out; ln -s log in; mkfifo pipe; git init -q other"), 0, "crew")
	if got := text("big", 2<<30); got != "end" {
		t.Errorf("behind two GiB it reads %q", got)
	}
	if got := text("/workspaces/tide-board/in/../"+odd, 0); got != "six bells\n" {
		t.Errorf("by its whole path it reads %q", got)
	}
	for what, c := range map[string]struct{ got, want string }{
		"where there is one":         {problem(second(c.Files.Write(ctx, "quay", odd, strings.NewReader("x"), "", true))), "name-taken"},
		"from another state":         {problem(second(c.Files.Write(ctx, "quay", odd, strings.NewReader("x"), "1-2", false))), "changed"},
		"from its state":             {problem(second(c.Files.Write(ctx, "quay", odd, strings.NewReader("seven bells\n"), f.State, false))), ""},
		"through a link out":         {problem(second(c.Files.Write(ctx, "quay", "out/passwd", strings.NewReader("x"), "", false))), "beyond"},
		"upwards":                    {problem(c.Files.Read(ctx, "quay", "../../etc/passwd", 0, io.Discard)), "beyond"},
		"elsewhere":                  {problem(c.Files.Read(ctx, "quay", "/etc/passwd", 0, io.Discard)), "beyond"},
		"a pipe":                     {problem(c.Files.Read(ctx, "quay", "pipe", 0, io.Discard)), "other-kind"},
		"nothing":                    {problem(second(c.Files.Show(ctx, "quay", "ghost", false))), "not-found"},
		"a move over something":      {problem(second(c.Files.Move(ctx, "quay", "big", odd, false))), "name-taken"},
		"a folder that holds some":   {problem(c.Files.Remove(ctx, "quay", "log", false, "")), "other-kind"},
		"where the user may not":     {problem(second(c.Files.Write(ctx, "quay", "/workspaces/other", strings.NewReader("x"), "", false))), "beyond"},
		"an archive of rubbish":      {problem(second(c.Files.Unpack(ctx, "quay", "log", "tar", strings.NewReader(strings.Repeat("rubbish", 1000))))), "invalid"},
		"somebody else's":            {problem(second(w.client("runa").Files.Show(ctx, "quay.ingrid", "", false))), "forbidden"},
		"of whoever sees them not":   {problem(second(w.client("mats").Files.Show(ctx, "quay.ingrid", "", false))), "not-found"},
		"an expression that is none": {problem(second(c.Files.Search(ctx, "quay", "", yb.Search{Text: "(", Expression: true}, nil))), "invalid"},
	} {
		if c.got != c.want {
			t.Errorf("%s: %q, not %q", what, c.got, c.want)
		}
	}
	list, err := c.Files.List(ctx, "quay", "")
	kinds := map[string]string{}
	for _, f := range list {
		kinds[f.Name] = f.Kind + f.Leads
	}
	if err != nil || kinds["log"] != "folder" || kinds["out"] != "link" || kinds["in"] != "linkfolder" || kinds["pipe"] != "other" || kinds["big"] != "file" {
		t.Errorf("they are %v, %v", kinds, err)
	}
	if err := c.Files.Remove(ctx, "quay", "big", false, ""); err != nil {
		t.Error(err)
	}
	w.conditional(t, odd)
	w.watched(t, c)
	w.many(t, c)
	w.cutOff(t, c)

	journal := w.must(w.as("ingrid", "", "journal", "list", "--json"), 0, `workspace.files-changed`, `workspace.files-read`)
	if strings.Contains(journal, "odd") {
		t.Error("the journal names a file")
	}
	if n := strings.Count(journal, `workspace.files-changed`); n > 2 { // once more after the restart
		t.Errorf("the journal tells of changes %d times", n)
	}

	// A touch wakes what is stopped, where it is asked to.
	w.must(w.as("ingrid", "", "stop", "quay"), 0, "stopped")
	if got := problem(second(c.Files.Show(ctx, "quay", "", false))); got != "not-now" {
		t.Errorf("a stopped one is %q", got)
	}
	here := t.TempDir()
	w.must(w.as("ingrid", "", "copy", "quay:log", here), 0, "1 files")
	if b, err := os.ReadFile(filepath.Join(here, odd)); err != nil || string(b) != "seven bells\n" {
		t.Errorf("it came as %q, %v", b, err)
	}
}

func second[T any](_ T, err error) error { return err }

// conditional asks for a file as browsers do.
func (w *world) conditional(t *testing.T, odd string) {
	t.Helper()
	c := w.client("ingrid")
	f, err := c.Files.Show(t.Context(), "quay", odd, false)
	if err != nil {
		t.Fatal(err)
	}
	in, err := c.Self.SignIn(t.Context(), "ingrid", demo.Password)
	if err != nil {
		t.Fatal(err)
	}
	get := func(header ...string) *http.Response {
		req, err := http.NewRequest("GET", w.address+"/api/v1/workspaces/quay/files/content?path="+strings.NewReplacer("\n", "%0A", "\xff", "%FF", " ", "%20", ";", "%3B", "%", "%25", "$", "%24").Replace(odd), nil)
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+in.Token)
		for i := 0; i < len(header); i += 2 {
			req.Header.Set(header[i], header[i+1])
		}
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		return res
	}
	for _, c := range []struct {
		header []string
		want   int
	}{
		{nil, 200}, {[]string{"If-None-Match", `"` + f.State + `"`}, 304}, {[]string{"Range", "bytes=2-4"}, 206}, {[]string{"Range", "bytes=900-"}, 416},
		{[]string{"Range", "bytes=2-4", "If-Range", `"other"`}, 200},
	} {
		res := get(c.header...)
		if res.StatusCode != c.want || c.want != 416 && res.Header.Get("ETag") != `"`+f.State+`"` {
			t.Errorf("with %v it is answered %d, %v", c.header, res.StatusCode, res.Header)
		}
		if c.want == 416 && res.Header.Get("Content-Type") != "application/problem+json" {
			t.Errorf("no such range is answered %v", res.Header)
		}
		if c.want == 200 && (res.Header.Get("Content-Type") != "application/octet-stream" || !strings.HasPrefix(res.Header.Get("Content-Disposition"), "attachment")) {
			t.Errorf("it would be shown as a page: %v", res.Header)
		}
	}
}

// watched sees what changes in the workspace, and for how long.
func (w *world) watched(t *testing.T, c *yb.Client) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	seen, over := make(chan wire.FileChange, 1000), make(chan error, 1)
	go func() {
		over <- c.Files.Watch(ctx, "quay", "", func(f wire.FileChange) error { seen <- f; return nil })
	}()
	if f := <-seen; !f.Anew {
		t.Errorf("it begins with %+v", f)
	}
	w.must(w.as("ingrid", "", "run", "quay", "--", "sh", "-c", "mkdir -p new/er; echo x >new/er/file"), 0)
	for {
		select {
		case f := <-seen:
			if f.Path != "new/er/file" {
				continue
			}
		case <-ctx.Done():
			t.Fatal("what came is not told")
		}
		break
	}
	cancel()
	<-over
	// It ends with the sign-in that it stands on.
	other := w.client("ingrid")
	go func() {
		over <- other.Files.Watch(t.Context(), "quay", "", func(f wire.FileChange) error { seen <- f; return nil })
	}()
	<-seen
	if err := other.Self.SignOut(t.Context()); err != nil {
		t.Fatal(err)
	}
	select {
	case <-over:
	case <-time.After(2 * slack * time.Second):
		t.Error("a watch goes on after its sign-in has ended")
	}
}

// many brings sixty thousand files, finds one of them and takes all of them back.
func (w *world) many(t *testing.T, c *yb.Client) {
	t.Helper()
	const n = 60000
	r, p := io.Pipe()
	go func() {
		out := tar.NewWriter(p)
		for i := range n {
			text := fmt.Sprintf("level %d\n", i)
			_ = out.WriteHeader(&tar.Header{Name: fmt.Sprintf("d%d/s%d/f%d", i%7, i%1000, i), Mode: 0o640, Size: int64(len(text)), ModTime: time.Unix(1_790_000_000, 0)})
			_, _ = io.WriteString(out, text)
		}
		p.CloseWithError(out.Close())
	}()
	began := time.Now()
	took := func(what string) {
		t.Logf("%s: %.1f s", what, time.Since(began).Seconds())
		began = time.Now()
	}
	b, err := c.Files.Unpack(t.Context(), "quay", "many", "tar", r)
	if err != nil || b.Files != n {
		t.Fatalf("it brings %+v, %v", b, err)
	}
	took("brought")
	var found []string
	more, err := c.Files.Search(t.Context(), "quay", "many", yb.Search{Text: "level 59999"}, func(f wire.Found) error { found = append(found, f.Path); return nil })
	if err != nil || more || len(found) != 1 {
		t.Errorf("it finds %v, %v, %v", found, more, err)
	}
	took("searched")
	back, in := io.Pipe()
	go func() { in.CloseWithError(c.Files.Pack(t.Context(), "quay", "many", "tar", in)) }()
	if got, err := countFiles(back); got != n || err != nil {
		t.Errorf("%d are taken back, %v", got, err)
	}
	took("taken back")
	here := t.TempDir()
	w.must(w.as("ingrid", "", "copy", "quay:many/d1", here), 0, " files")
	w.must(w.as("ingrid", "", "copy", "quay:many/d1", here), 0, "0 files", "were there already")
	took("copied, twice")
	if err := c.Files.Remove(t.Context(), "quay", "many", true, ""); err != nil {
		t.Error(err)
	}
}

// countFiles counts the files of an archive.
func countFiles(r io.Reader) (n int, err error) {
	for t := tar.NewReader(r); ; {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			_, err = io.Copy(io.Discard, r)
			return n, err
		}
		if err != nil {
			return n, err
		}
		if h.Typeflag == tar.TypeReg {
			n++
		}
	}
}

// cutOff ends the service while a file comes: what was there stays, whole, and the
// next one works.
func (w *world) cutOff(t *testing.T, c *yb.Client) {
	t.Helper()
	if _, err := c.Files.Write(t.Context(), "quay", "kept", strings.NewReader("before\n"), "", false); err != nil {
		t.Fatal(err)
	}
	r, p := io.Pipe()
	over := make(chan error, 1)
	go func() { over <- second(c.Files.Write(t.Context(), "quay", "kept", r, "", false)) }()
	if _, err := p.Write(bytes.Repeat([]byte("x"), 4<<20)); err != nil {
		t.Fatal(err)
	}
	w.kill()
	p.Close()
	if err := <-over; err == nil {
		t.Error("what was cut off was written")
	}
	w.start()
	c = w.client("ingrid")
	var b bytes.Buffer
	if err := c.Files.Read(t.Context(), "quay", "kept", 0, &b); err != nil || b.String() != "before\n" {
		t.Errorf("it reads %.20q, %v", b.String(), err)
	}
	list, err := c.Files.List(t.Context(), "quay", "")
	for _, f := range list {
		if strings.HasPrefix(f.Name, ".yardbench") {
			t.Errorf("there is left %s", f.Name)
		}
	}
	if err != nil {
		t.Error(err)
	}
}
