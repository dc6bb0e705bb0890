package repo

import (
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
)

// host serves bare repositories by git's plain HTTP form and notes what it is
// asked with.
func host(t *testing.T, build string) (address, commit string, asked *askers) {
	t.Helper()
	dir := t.TempDir()
	work, bare := filepath.Join(dir, "work"), filepath.Join(dir, "x.git")
	script := "set -e; git init -q -b main " + work + "; cd " + work + "; " + build +
		"; git add -A; git -c user.name=A -c user.email=a@skerryline.example commit -q -m first; git branch -q side; git clone -q --bare . " + bare + "; git --git-dir " + bare + " update-server-info; git rev-parse HEAD"
	cmd := exec.Command("sh", "-c", script)
	cmd.Env = append(os.Environ(), "GIT_CONFIG_GLOBAL=/dev/null", "GIT_CONFIG_NOSYSTEM=1")
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	asked = &askers{}
	files := http.FileServer(http.Dir(dir))
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		user, _, _ := r.BasicAuth()
		asked.add(user)
		files.ServeHTTP(w, r)
	}))
	t.Cleanup(server.Close)
	lines := strings.Fields(string(out))
	return server.URL + "/x.git", lines[len(lines)-1], asked
}

// askers are those who asked a host, in their order.
type askers struct {
	mu    sync.Mutex
	users []string
}

func (a *askers) add(user string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.users = append(a.users, user)
}

func (a *askers) all() []string {
	a.mu.Lock()
	defer a.mu.Unlock()
	return slices.Clone(a.users)
}

func TestMirror(t *testing.T) {
	address, commit, asked := host(t, `mkdir -p .devcontainer sub; echo '{}' > .devcontainer/devcontainer.json; ln -s /etc/passwd passwd; ln -s .. sub/up; echo deep > sub/file;
		printf '* filter=evil\n' > .gitattributes; echo plain > "with space"; head -c 3000 /dev/zero > big; chmod +x sub/file`)
	m, ctx := NewMirrors(filepath.Join(t.TempDir(), "mirrors")), t.Context()
	cred := Credential{Username: "ingrid", Password: "hush"}
	if b, err := m.DefaultBranch(ctx, address, cred); err != nil || b != "main" {
		t.Errorf("the default branch is %q, %v", b, err)
	}
	for range 2 {
		if err := m.Fetch(ctx, "r1", address, cred); err != nil {
			t.Fatal(err)
		}
	}
	for _, user := range asked.all() {
		if user != "ingrid" {
			t.Errorf("the host was asked as %q", user)
		}
	}
	if got, err := m.Resolve(ctx, "r1", "main"); err != nil || got != commit {
		t.Errorf("main is %q, %v", got, err)
	}
	var p Problem
	for _, bad := range []string{"mian", "", "--help", "main^{tree}", "main..side", "a b", "-", "@{-1}", "../../heads/main"} {
		if _, err := m.Resolve(ctx, "r1", bad); !errors.As(err, &p) {
			t.Errorf("the branch %q is answered %v", bad, err)
		}
	}
	if all, err := m.Branches(ctx, "r1", 10); err != nil || len(all) != 2 || all[0].Name == all[1].Name || all[0].At.IsZero() || all[0].Subject == "" || all[0].At.Before(all[1].At) {
		t.Errorf("the branches are %+v, %v", all, err)
	}
	if all, err := m.Branches(ctx, "r1", 1); err != nil || len(all) != 1 {
		t.Errorf("of one it lists %+v, %v", all, err)
	}
	if _, err := m.Branches(ctx, "none", 1); err == nil {
		t.Error("there are branches of no repository")
	}
	if _, err := m.Resolve(ctx, "r1", "mian"); !strings.Contains(err.Error(), "main, side") {
		t.Errorf("an unknown branch is answered %v", err)
	}
	for path, want := range map[string]string{".devcontainer/devcontainer.json": "{}\n", "with space": "plain\n", "sub/file": "deep\n",
		"passwd": "", "sub": "", "sub/up/passwd": "", "none": "", "*": "", "../x": "", "/etc/passwd": "", ":(glob)**": ""} {
		content, ok, err := m.ReadFile(ctx, "r1", commit, path, 1000)
		if ok != (want != "") || string(content) != want || (err != nil && ok) {
			t.Errorf("%q is %q, %v, %v", path, content, ok, err)
		}
	}
	if _, _, err := m.ReadFile(ctx, "r1", commit, "big", 1000); !errors.As(err, &p) || !strings.Contains(p.What, "3000 bytes") {
		t.Errorf("a file over the bound is answered %v", err)
	}
	dest := filepath.Join(t.TempDir(), "context")
	if err := m.Pack(ctx, "r1", commit, ".", dest); err != nil {
		t.Fatal(err)
	}
	if to, err := os.Readlink(filepath.Join(dest, "passwd")); err != nil || to != "/etc/passwd" {
		t.Errorf("a link came out as %q, %v", to, err)
	}
	if st, err := os.Stat(filepath.Join(dest, "sub", "file")); err != nil || st.Mode()&0o111 == 0 {
		t.Errorf("an executable file came out as %v, %v", st, err)
	}
	if err := m.Pack(ctx, "r1", commit, "sub", filepath.Join(t.TempDir(), "sub")); err != nil {
		t.Error(err)
	}
	if err := m.Pack(ctx, "r1", commit, "nowhere", filepath.Join(t.TempDir(), "no")); !errors.As(err, &p) {
		t.Errorf("a context that is not there is answered %v", err)
	}
	one, _ := m.Tree(ctx, "r1", commit, ".")
	two, _ := m.Tree(ctx, "r1", commit, "sub")
	if len(one) != 40 || len(two) != 40 || one == two {
		t.Errorf("the trees are %q and %q", one, two)
	}
}

// A credential goes to the host it is for, never along a redirect, and is in
// no complaint.
// Folders are listed and read as they stand at a commit, within bounds, links
// left out.
func TestListAndFiles(t *testing.T) {
	address, commit, _ := host(t, `mkdir -p board/bin .devcontainer/night; echo 1 > board/one; printf '#!/bin/sh' > board/bin/run; chmod +x board/bin/run; ln -s /etc/passwd board/away; ln -s board link; echo '{}' > .devcontainer/night/devcontainer.json; head -c 3000 /dev/zero > board/big; echo odd > "board/odd name"`)
	m, ctx := NewMirrors(filepath.Join(t.TempDir(), "mirrors")), t.Context()
	if err := m.Fetch(ctx, "r1", address, Credential{}); err != nil {
		t.Fatal(err)
	}
	for folder, want := range map[string]string{"": ".devcontainer/ board/ link@", ".devcontainer": "night/", "board": "away@ big bin/ odd name one", "nowhere": "", "board/one": "", "link": "", "../..": ""} {
		if got, err := m.List(ctx, "r1", commit, folder); err != nil || strings.Join(got, " ") != want {
			t.Errorf("%q holds %q, %v", folder, got, err)
		}
	}
	files, err := m.Files(ctx, "r1", commit, "board", 10, 4000)
	if err != nil || len(files) != 4 || files[1].Path != "bin/run" || !files[1].Executable || string(files[1].Content) != "#!/bin/sh" || files[2].Path != "odd name" || files[2].Executable {
		t.Errorf("the files are %+v, %v", files, err)
	}
	for _, c := range []struct {
		max      int
		maxBytes int64
		says     string
	}{{3, 4000, "more than 3 files"}, {10, 2000, "3000 bytes"}} {
		if _, err := m.Files(ctx, "r1", commit, "board", c.max, c.maxBytes); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("what is too much is answered %v", err)
		}
	}
}

func TestCredentialsStayAtHome(t *testing.T) {
	leaked := false
	other := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { leaked = leaked || r.Header.Get("Authorization") != "" }))
	defer other.Close()
	home := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case strings.HasPrefix(r.URL.Path, "/moved"):
			http.Redirect(w, r, other.URL+r.URL.Path+"?"+r.URL.RawQuery, http.StatusFound)
		case strings.HasPrefix(r.URL.Path, "/private"):
			w.Header().Set("WWW-Authenticate", `Basic realm="x"`)
			w.WriteHeader(http.StatusUnauthorized)
		default:
			http.NotFound(w, r)
		}
	}))
	defer home.Close()
	m := NewMirrors(t.TempDir())
	for path, says := range map[string]string{"/moved/x.git": "cannot be used", "/private/x.git": "refuses your credential", "/gone/x.git": "knows no repository"} {
		err := m.Fetch(t.Context(), "r", home.URL+path, Credential{Username: "ingrid", Password: "hush-hush"})
		var p Problem
		if !errors.As(err, &p) || !strings.Contains(p.What, says) || p.Next == "" {
			t.Errorf("%s is answered %v", path, err)
		}
		if err != nil && strings.Contains(err.Error(), "hush") {
			t.Errorf("the complaint holds the password: %v", err)
		}
	}
	if leaked {
		t.Error("the credential followed a redirect")
	}
}

func TestCheckURL(t *testing.T) {
	for address, good := range map[string]bool{"https://git.skerryline.example/tide-board.git": true, "http://127.0.0.1:7081/x": true, "": false, "tide-board": false, "/srv/x.git": false,
		"file:///srv/x.git": false, "ext::sh -c x": false, "https://git.skerryline.example/": false, "https://git.skerryline.example/x.git ": false, "https://a:b@git.skerryline.example/x": false,
		"https://git.skerryline.example/x?y": false, "https://git.skerryline.example/x#y": false, "https://git.skerryline.example/\tx": false, "HTTPS://git.skerryline.example/x": true} {
		if err := CheckURL(address); (err == nil) != good {
			t.Errorf("%q is answered %v", address, err)
		}
	}
}

// How far a head has gone on from a commit, and that it does not come from it.
func TestBehind(t *testing.T) {
	address, first, _ := host(t, `echo 1 > a`)
	m, ctx := NewMirrors(filepath.Join(t.TempDir(), "mirrors")), t.Context()
	if err := m.Fetch(ctx, "r", address, Credential{Username: "ingrid", Password: "hush"}); err != nil {
		t.Fatal(err)
	}
	dir := filepath.Join(m.dir, "r.git")
	grow := func(parents string) string {
		t.Helper()
		out, err := exec.Command("sh", "-c", "git --git-dir "+dir+" -c user.name=A -c user.email=a@x.example commit-tree -m more "+parents+" $(git --git-dir "+dir+" rev-parse "+first+"^{tree})").Output()
		if err != nil {
			t.Fatal(err)
		}
		return strings.TrimSpace(string(out))
	}
	second := grow("-p " + first)
	third, apart := grow("-p "+second), grow("")
	for _, c := range []struct {
		commit, head string
		want         int
	}{{first, first, 0}, {first, third, 2}, {second, third, 1}, {third, first, -1}, {apart, third, -1}, {strings.Repeat("0", 40), third, -1}, {"--all", third, -1}} {
		if got, err := m.Behind(ctx, "r", c.commit, c.head); err != nil || got != c.want {
			t.Errorf("%.8s is %d behind %.8s, %v; not %d", c.commit, got, c.head, err, c.want)
		}
	}
}

// Many who fetch at the same time share fetches; each credential has its own.
func TestFetchesAreShared(t *testing.T) {
	address, commit, asked := host(t, `echo 1 > a`)
	m, ctx := NewMirrors(filepath.Join(t.TempDir(), "mirrors")), t.Context()
	if err := m.Fetch(ctx, "r", address, Credential{Username: "ingrid", Password: "hush"}); err != nil {
		t.Fatal(err)
	}
	before := len(asked.all())
	if err := m.Fetch(ctx, "r", address, Credential{Username: "ingrid", Password: "hush"}); err != nil {
		t.Fatal(err)
	}
	one := len(asked.all()) - before
	errs := make(chan error)
	for n := range 60 {
		go func() {
			errs <- m.Fetch(ctx, "r", address, Credential{Username: []string{"ingrid", "mats"}[n%2], Password: "hush"})
		}()
	}
	for range 60 {
		if err := <-errs; err != nil {
			t.Fatal(err)
		}
	}
	both := map[string]bool{}
	for _, user := range (asked.all())[before:] {
		both[user] = true
	}
	if fetches := (len(asked.all()) - before) / one; fetches > 30 || !both["ingrid"] || !both["mats"] {
		t.Errorf("sixty fetches asked the host %d times, as %v", fetches, both)
	}
	if got, err := m.Resolve(ctx, "r", "main"); err != nil || got != commit {
		t.Errorf("main is %q, %v", got, err)
	}
}

// A mirror that a loss of power has damaged is made anew; one whose host is
// away is kept.
func TestDamagedMirror(t *testing.T) {
	address, commit, _ := host(t, `echo plain > file`)
	dir, ctx := filepath.Join(t.TempDir(), "mirrors"), t.Context()
	for what, damage := range map[string]func(mirror string) error{
		"an empty HEAD":   func(m string) error { return os.Truncate(filepath.Join(m, "HEAD"), 0) },
		"no HEAD":         func(m string) error { return os.Remove(filepath.Join(m, "HEAD")) },
		"an empty branch": func(m string) error { return os.Truncate(filepath.Join(m, "refs", "heads", "main"), 0) },
		"empty objects": func(m string) error {
			all, err := filepath.Glob(filepath.Join(m, "objects", "??", "*"))
			for _, f := range all {
				err = errors.Join(err, os.Chmod(f, 0o600), os.Truncate(f, 0))
			}
			return err
		},
	} {
		m := NewMirrors(dir)
		if err := m.Fetch(ctx, "r1", address, Credential{}); err != nil {
			t.Fatal(what, err)
		}
		if err := damage(filepath.Join(dir, "r1.git")); err != nil {
			t.Fatal(err)
		}
		m = NewMirrors(dir) // the next life
		if err := m.Fetch(ctx, "r1", address, Credential{}); err != nil {
			t.Errorf("with %s: %v", what, err)
		}
		if content, ok, err := m.ReadFile(ctx, "r1", commit, "file", 100); err != nil || !ok || string(content) != "plain\n" {
			t.Errorf("with %s there is %q, %v, %v", what, content, ok, err)
		}
		if err := m.Fetch(ctx, "r1", "http://127.0.0.1:1/x.git", Credential{}); err == nil {
			t.Error("a host that is away is no problem")
		}
		if got, err := m.Resolve(ctx, "r1", "main"); err != nil || got != commit {
			t.Errorf("with the host away main is %q, %v", got, err)
		}
		if left, _ := filepath.Glob(filepath.Join(dir, "*.new")); len(left) > 0 {
			t.Errorf("left: %v", left)
		}
	}
}

// What a host sends has an end, and so has what git may say of it.
func TestWhatIsBoundOfAFetch(t *testing.T) {
	address, _, _ := host(t, `head -c 300000 /dev/urandom > charts`)
	whole := maxPack
	defer func() { maxPack = whole }()
	maxPack = 100 << 10
	m := NewMirrors(filepath.Join(t.TempDir(), "mirrors"))
	var p Problem
	if err := m.Fetch(t.Context(), "r1", address, Credential{}); !errors.As(err, &p) || !strings.Contains(p.What, "more than 0 MiB at once") {
		t.Errorf("a fetch of too much is answered %v", err)
	}
	maxPack = whole
	if err := m.Fetch(t.Context(), "r1", address, Credential{}); err != nil {
		t.Errorf("with more room it is answered %v", err)
	}
	copied := limited{most: 4}
	if _, err := io.Copy(&copied, struct{ io.Reader }{strings.NewReader("12345")}); err == nil || !copied.over || copied.kept.Len() > 4 {
		t.Errorf("what is copied passes the bound: %q, %v", copied.kept.String(), err)
	}
	l := limited{most: 4}
	if n, err := l.Write([]byte("abcd")); n != 4 || err != nil || l.over {
		t.Errorf("up to its bound: %d, %v", n, err)
	}
	if _, err := l.Write([]byte("e")); err == nil || !l.over || l.kept.String() != "abcd" {
		t.Errorf("beyond it: %v, %q", err, l.kept.String())
	}
}
