package test

import (
	"bufio"
	"context"
	"net/http"
	"net/http/httptest"
	"os"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"yardbench/internal/demo"
)

// identities has people of a world sign in by an identity provider.
func (w *world) identities() *demo.IdentityProvider {
	w.t.Helper()
	i := &demo.IdentityProvider{Client: demo.ClientOf(w.address)}
	if err := i.Rotate(); err != nil {
		w.t.Fatal(err)
	}
	server := httptest.NewServer(i)
	w.t.Cleanup(server.Close)
	i.Issuer = server.URL
	w.must(w.as("astrid", i.Client.Secret+"\n", "provider", "put", demo.ProviderName, "--title", "Skerry Line", "--issuer", i.Issuer, "--client", i.Client.ID), 0, i.Client.Back, i.Client.SignedOut)
	return i
}

// atProvider says at the provider who one is.
func atProvider(name string) chromedp.Action[chromedp.Void] {
	return chromedp.Steps(seen("#who"), chromedp.SendKeys(chromedp.CSS("#who"), name), chromedp.SendKeys(chromedp.CSS("#secret"), demo.Password+"\r"))
}

const door = `a.door`

// People come by the house's identity provider: who they are, in which role and team,
// what ends it, and what is not believed.
func TestSignInByAProvider(t *testing.T) {
	t.Parallel()
	w := simWorld(t)
	i := w.identities()
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 0, "is ready")
	groups := demo.GroupsOf(demo.Person{Team: "Timetable", Role: "developer"})
	i.Groups = func(string) []string { return groups }

	p := openPage(t)
	p.do("to the provider and back, to where one wanted to go", chromedp.Navigate(w.address+"/workspaces/quay"), press(door), atProvider("ingrid"), p.says("made from"), holds(`location.pathname === "/workspaces/quay"`))
	if said, err := chromedp.Run(p.ctx, chromedp.Evaluate[string]("document.cookie + JSON.stringify(localStorage)")); err != nil || strings.Contains(said, "yb_") || strings.Contains(said, "arrival") {
		t.Errorf("a script of the page can read the sign-in: %q, %v", said, err)
	}
	p.do("which one sees", chromedp.Navigate(w.address+"/you"), p.says("the console, by skerry-id, here"), p.says("127.0.0.1"))
	if people := w.must(w.as("astrid", "", "person", "list"), 0); strings.Count(people, "ingrid ") != 1 {
		t.Errorf("she is another than she was: %s", people)
	}

	// She signs out over there: here too, at once.
	for session, name := range i.Sessions() {
		if name == "ingrid" {
			began := time.Now()
			if err := i.SignOut(t.Context(), session); err != nil {
				t.Fatal(err)
			}
			p.do("who signs out there is out here", seen(door))
			if took := time.Since(began); took > slack*2*time.Second {
				t.Errorf("it took %v", took)
			}
		}
	}
	groups = []string{"leads", "harbour"}
	p.do("with other groups she is somebody else", press(door), atProvider("ingrid"), p.says("My team's"), chromedp.Navigate(w.address+"/fleet"), p.says("Workspaces of Harbour"))
	p.do("out, there too", clicked(`//header//button[.="Sign out"]`), seen(door), press(door), seen("#who"))
	groups = nil
	p.do("nobody new without a place", chromedp.Navigate(w.address), press(door), atProvider("liv"), p.says("My workspaces")) // the rules have a place for everybody
	p.do("out", clicked(`//header//button[.="Sign out"]`), seen(door))

	bent := func(do func(map[string]any)) func() { i.Bend = do; return func() { i.Bend = nil } }
	straight := bent(func(c map[string]any) { c["nonce"] = "another" })
	p.do("what is not to be believed lets nobody in", press(door), atProvider("ingrid"), p.says("You were not let in"), seen(door))
	straight()

	// What one browser brings back is no good in another.
	var led string
	jar := &http.Client{CheckRedirect: func(r *http.Request, _ []*http.Request) error { led = r.URL.String(); return http.ErrUseLastResponse }}
	res, err := jar.Get(w.address + "/api/v1/sign-in/skerry-id/return?code=x&state=y&iss=" + i.Issuer)
	if err != nil {
		t.Fatal(err)
	}
	res.Body.Close()
	if !strings.HasSuffix(led, "/?refused=provider") || len(res.Cookies()) > 1 {
		t.Errorf("it leads to %s with %v", led, res.Cookies())
	}
	for _, to := range []string{"//gull.example/", "/\\gull.example", "https://gull.example/", "/api/v1/sign-out"} {
		p.do("no link leads elsewhere: "+to, chromedp.Navigate(w.address+"/api/v1/sign-in/skerry-id/begin?again=true&to="+to), atProvider("ingrid"), p.says("Mine"), holds(`location.origin === "`+w.address+`" && location.pathname !== "/api/v1/sign-out"`))
	}
	// What is grave wants a sign-in of now: the page leads there and back.
	file := w.dir + "/again.yaml"
	if err := os.WriteFile(file, []byte(strings.Replace(w.must(w.as("astrid", "", "rules", "show"), 0), "sign_in:\n", "sign_in:\n  again_after: 1 min\n", 1)), 0o600); err != nil {
		t.Fatal(err)
	}
	w.must(w.as("astrid", "", "rules", "put", file, "--why", "it is grave", "--yes"), 0)
	db := openDatabase(t, w.dir+"/data/yardbench.db")
	if _, err := db.Exec("UPDATE tokens SET created_at = created_at - 3600000000"); err != nil {
		t.Fatal(err)
	}
	db.Close()
	w.must(w.as("astrid", "", "team", "add", "Pilots"), 4, "sign in again", "yardbench sign-in")
	w.must(w.command("astrid", demo.Password+"\n", "sign-in", w.address, "--as", "astrid").run(), 0)
	w.must(w.as("astrid", "", "team", "add", "Pilots"), 0)

	// Gone with the provider.
	w.must(w.as("astrid", "", "provider", "remove", "skerry-id", "--yes"), 0)
	p.do("who came by a provider that is removed is out", seen("#name"), gone("Skerry Line"))
}

// The command line signs in by the browser beside it, or by one elsewhere.
func TestCommandLineByTheBrowser(t *testing.T) {
	t.Parallel()
	w := simWorld(t)
	i := w.identities()
	p := openPage(t)
	w.config["by-browser"] = w.dir + "/config-by-browser"
	begin := func(how string, wanted string) (said string, end func() result) {
		t.Helper()
		c := w.command("by-browser", "", "sign-in", w.address, how)
		pipe, err := c.StderrPipe()
		if err != nil {
			t.Fatal(err)
		}
		var out strings.Builder
		c.Stdout = &out
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		lines, found := bufio.NewScanner(pipe), regexp.MustCompile(wanted)
		for lines.Scan() {
			if said = found.FindString(lines.Text()); said != "" {
				break
			}
		}
		go func() {
			for lines.Scan() {
				out.WriteString(lines.Text() + "\n")
			}
		}()
		return said, func() result {
			err := c.Wait()
			return result{out: out.String(), code: map[bool]int{true: 0, false: 1}[err == nil]}
		}
	}

	at, ended := begin("--browser", `http://\S+/let-in\S+`)
	p.do("the command line is let in, by whoever signs in for it", chromedp.Navigate(at), press(door), atProvider("ingrid"), p.says("yardbench waits in a terminal"), button("Let it in"), p.says("go back to your terminal"))
	if r := ended(); r.code != 0 || !strings.Contains(r.out, "as Ingrid Solheim") {
		t.Fatalf("it was let in: %s", r)
	}
	if info, err := os.Stat(w.config["by-browser"]); err != nil || info.Mode().Perm()&0o077 != 0 {
		t.Errorf("what it keeps is open: %v, %v", info, err)
	}
	w.must(w.command("by-browser", "", "list").run(), 0)

	code, ended := begin("--device", `[B-Z]{4}-[B-Z]{4}`)
	p.do("a code that is wrong", chromedp.Navigate(w.address+"/device?code=BBBB-BBBB"), p.says("look at the code again"))
	p.do("one that is right, in small letters", chromedp.Navigate(w.address+"/device"), seen("#code"), chromedp.SendKeys(chromedp.CSS("#code"), strings.ToLower(strings.ReplaceAll(code, "-", ""))+"\r"), p.says("asks to be let in as ingrid"), p.says("yardbench on "), button("Let it in"), p.says("It is let in"))
	if r := ended(); r.code != 0 || !strings.Contains(r.out, "as Ingrid Solheim") {
		t.Errorf("by a code: %s", r)
	}
	code, ended = begin("--device", `[B-Z]{4}-[B-Z]{4}`)
	p.do("or it is not let in", chromedp.Navigate(w.address+"/device?code="+code), p.says("asks to be let in as ingrid"), button("It was not me"), p.says("It is not let in"))
	if r := ended(); r.code == 0 {
		t.Errorf("nobody let it in: %s", r)
	}

	// It stands on the sign-in by which it was let in.
	for session := range i.Sessions() {
		if err := i.SignOut(context.Background(), session); err != nil {
			t.Fatal(err)
		}
	}
	w.must(w.command("by-browser", "", "list").run(), 5, "not signed in")
}
