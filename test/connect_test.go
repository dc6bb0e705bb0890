package test

import (
	"bufio"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"yardbench/internal/demo"
)

// connects has people connect with the git host, and nobody have typed anything.
func (w *world) connects() (host string) {
	w.t.Helper()
	host = strings.TrimPrefix(w.git, "http://")
	w.must(w.as("astrid", demo.GitClientSecret+"\n", "git-host", "put", host, "--title", "Skerry Line git", "--authorize", w.git+"/oauth/authorize", "--token", w.git+"/oauth/token", "--device", w.git+"/oauth/device",
		"--revoke", w.git+"/oauth/revoke", "--repositories", w.git+"/api/repositories", "--client", demo.GitClient, "--scope", "repositories"), 0, "/api/v1/git-hosts/return")
	return host
}

// byCode has somebody connect by a code that they type at the git host.
func (w *world) byCode(who, host, answer string) result {
	w.t.Helper()
	w.must(w.as(who, "", "whoami"), 0) // signed in, if they were not
	cmd := w.command(who, "", "credential", "connect", host)
	errs, err := cmd.StderrPipe()
	if err != nil {
		w.t.Fatal(err)
	}
	var out strings.Builder
	cmd.Stdout = &out
	if err := cmd.Start(); err != nil {
		w.t.Fatal(err)
	}
	var lines []string
	for sc := bufio.NewScanner(errs); sc.Scan(); {
		lines = append(lines, strings.TrimSpace(sc.Text()))
		if len(lines) == 4 {
			at := strings.Replace(lines[1], "git.skerryline.localhost", "127.0.0.1", 1)
			res, err := http.PostForm(at, url.Values{"user_code": {lines[3]}, "name": {who}, "password": {demo.Password}, "answer": {answer}})
			if err != nil {
				w.t.Fatal(err)
			}
			res.Body.Close()
		}
	}
	code := 0
	if err := cmd.Wait(); err != nil {
		code = cmd.ProcessState.ExitCode()
	}
	return result{code: code, out: out.String(), errors: strings.Join(lines, "\n")}
}

// What git signs in with is lent by the git host: made fresh as it ends, given back
// when it is removed or somebody leaves, and it shows what they may read there.
func TestConnectedWithAGitHost(t *testing.T) {
	t.Parallel()
	w := simWorld(t)
	host := w.connects()
	w.host.May = func(person, repository string) bool { return repository != "signal-mast" || person != "mats" }
	for _, who := range []string{"ingrid", "mats"} {
		w.must(w.as(who, "", "credential", "remove", host, "--yes"), 0)
	}
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "no"), 4, "you have no credential for it", "connect with: yardbench credential connect", "yardbench credential connect "+host)
	w.must(w.as("ingrid", "", "git-host", "repositories", host), 4, "you are not connected")

	// By the browser, with one press.
	p := w.page(t, "ingrid")
	at := chromedp.Steps(seen(`input[name="name"]`), chromedp.SendKeys(chromedp.CSS(`input[name="name"]`), "ingrid"), chromedp.SendKeys(chromedp.CSS(`input[name="password"]`), demo.Password))
	p.do("what is not let in", chromedp.Navigate(w.address+"/you"), p.says("not connected"), button("Connect"), at, button("Do not"), p.says("The git host has not let this service in"))
	p.do("and what is", chromedp.Navigate(w.address+"/you"), button("Connect"), at, button("Let it in"), p.says("lent by the host, made fresh as it ends"))
	if said, err := chromedp.Run(p.ctx, chromedp.Evaluate[string]("document.cookie + JSON.stringify(localStorage)")); err != nil || strings.Contains(said, "lending") {
		t.Errorf("a script of the page can read what the browser keeps: %q, %v", said, err)
	}
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 0, "is ready")
	w.push("spare-keys", "main", map[string]string{"README.md": "not registered yet\n"})
	w.must(w.byCode("astrid", host, "yes"), 0)
	astrid := w.page(t, "astrid")
	astrid.do("what may be registered is offered", chromedp.Navigate(w.address+"/repositories"), button("Register a repository"), seen("#url"), still("#url"), chromedp.SendKeys(chromedp.CSS("#url"), "spare"), seen(`.ant-select-item-option[title="`+w.git+`/spare-keys.git"]`))

	// By a code, at a command line; what the host does not let him read is not there for him.
	w.must(w.byCode("mats", host, "no"), 4, "has not let this service in")
	w.must(w.byCode("mats", host, "yes"), 0, "you are connected")
	w.must(w.as("mats", "", "credential", "list"), 0, "lent by the host, made fresh")
	if got := w.must(w.as("mats", "", "git-host", "repositories", host), 0, "tide-board.git", "starters.git", "gull-count.git"); strings.Contains(got, "signal-mast") {
		t.Errorf("mats may read %s", got)
	}
	w.must(w.as("ingrid", "", "git-host", "repositories", host), 0, "signal-mast.git")
	w.must(w.as("mats", "", "launch", "signal-mast", "--name", "mast"), 4, "knows no repository")
	w.must(w.as("mats", "", "launch", "tide-board", "--name", "board"), 0, "is ready")

	// It ends, and is made fresh by whoever comes first, once, however many come at once.
	w.host.Lives(time.Second)
	w.must(w.byCode("mats", host, "yes"), 0)
	time.Sleep(1500 * time.Millisecond)
	w.host.Lives(time.Hour)
	done := make(chan result, 6)
	for range cap(done) {
		go func() { done <- w.as("mats", "", "launch", "tide-board", "--dry-run") }()
	}
	for range cap(done) {
		w.must(<-done, 0)
	}
	w.must(w.as("mats", "", "credential", "list"), 0, "lent by the host, made fresh")

	// What is removed is given back; what was connected before, too.
	if n := w.host.Lends("ingrid"); n != 2 {
		t.Errorf("ingrid has %d lent, not an access and a refresh", n)
	}
	w.must(w.as("ingrid", "", "credential", "remove", host, "--yes"), 0)
	w.must(w.as("astrid", demo.GitToken("astrid")+"\n", "credential", "put", host), 0)
	if n := w.host.Lends("ingrid") + w.host.Lends("astrid"); n != 0 {
		t.Errorf("%d is lent to them still", n)
	}
	// So is what somebody has who leaves.
	w.must(w.as("mats", "", "remove", "board", "--yes"), 0)
	w.must(w.as("astrid", "", "person", "close", "mats", "--yes"), 0)
	for end := time.Now().Add(slack * 40 * time.Second); w.host.Lends("mats") > 0; time.Sleep(100 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("%d is lent to mats still, who has left", w.host.Lends("mats"))
		}
	}
	// What the host takes back is told, and signs nobody in.
	w.host.Lives(time.Second)
	w.must(w.byCode("runa", host, "yes"), 0)
	w.host.Forget("runa")
	time.Sleep(1500 * time.Millisecond)
	w.must(w.as("runa", "", "launch", "tide-board", "--dry-run"), 4, "you have no credential for it", "connect with: yardbench credential connect")
	w.must(w.as("runa", "", "credential", "list"), 0, "taken back by the host")
	w.must(w.as("astrid", "", "git-host", "remove", host, "--yes"), 0)
	w.must(w.as("runa", "", "credential", "connect", host), 3, "git-host list")
	w.must(w.as("runa", "", "git-host", "put", host, "--authorize", "x", "--token", "x", "--client", "x", "--no-secret"), 4, "does not allow this")
	w.must(w.as("astrid", "", "git-host", "put", host, "--authorize", "javascript:x", "--token", w.git, "--client", "x", "--no-secret"), 4, "is no address")
}
