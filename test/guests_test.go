package test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"yardbench/internal/demo"
	"yardbench/wire"
)

// guest brings in a guest of Timetable.
func (w *world) guest(name string, until time.Time, repositories ...string) {
	w.t.Helper()
	c := w.client("runa")
	e, err := c.Guests.Invite(w.t.Context(), wire.NewGuest{Team: "Timetable", Until: until, Repositories: repositories})
	if err != nil {
		w.t.Fatal(err)
	}
	_, key, _ := strings.Cut(e.Link, "#")
	if _, err := c.People.UseEnrolment(w.t.Context(), wire.EnrolmentUse{Key: key, Name: name, FullName: "Tormod Vik", Email: name + "@elsewhere.example", Password: demo.Password}); err != nil {
		w.t.Fatal(err)
	}
}

// A guest works in what was named until their time is over. Then a terminal that is
// open ends within two seconds, their workspace is stopped and kept, and the lead of
// their team lets them in again.
func TestGuestsTime(t *testing.T) {
	t.Parallel()
	w := simWorld(t)
	began := time.Now()
	w.guest("tormod", began.Add(20*time.Second), "tide-board")
	w.must(w.as("runa", "", "guest", "list"), 0, "tormod", "tide-board", "every size", "runa")
	w.must(w.as("mats", "", "guest", "list"), 4)
	w.must(w.as("tormod", "", "launch", "fare-desk"), 3, "no repository")
	w.must(w.as("tormod", "", "repository", "list"), 0, "tide-board")
	w.must(w.as("tormod", "", "person", "list"), 4)
	w.must(w.as("tormod", demo.GitToken("ingrid"), "credential", "put", strings.TrimPrefix(w.git, "http://"), "--username", "ingrid"), 0)
	w.must(w.as("tormod", "", "launch", "tide-board", "--name", "visit"), 0)
	c := w.client("tormod")
	terminal, err := c.Workspaces.Open(t.Context(), "visit", wire.Run{Terminal: "main", Columns: 80, Rows: 24})
	if err != nil {
		t.Fatal(err)
	}
	defer terminal.Close()
	for err == nil {
		_, _, err = terminal.Receive()
	}
	if took := time.Since(began); took < 20*time.Second || took > 23*time.Second {
		t.Errorf("the terminal of somebody whose access is 20 s ended after %s: %v", took, err)
	}
	w.must(w.as("tormod", "", "list"), 5)
	runa := w.client("runa")
	w.until(runa, "visit.tormod", 10*time.Second, func(ws wire.Workspace) bool { return ws.Phase == "stopped" })
	w.must(w.as("runa", "", "guest", "end", "tormod", "--yes"), 0)
	w.must(w.as("runa", "", "guest", "extend", "tormod", "--until", "48h"), 0, "until", "in tide-board")
	w.must(w.as("runa", "", "journal", "list"), 0, "guest.put", "guest.ending")
	if me, err := runa.Self.Me(t.Context()); err != nil || len(me.EndingGuests) != 1 {
		t.Errorf("the lead is told of %+v, %v", me.EndingGuests, err)
	}
	w.config["tormod"] = "" // signed in anew
	w.must(w.as("tormod", "", "start", "visit"), 0)
}

// The pages of people's own and their team's: a guest is brought in by the lead and let
// stay longer, a team's secret is set and what becomes of it read, and somebody says
// what they usually want.
func TestPeopleInTheBrowser(t *testing.T) {
	t.Parallel()
	w := simWorld(t)
	day := time.Now().AddDate(0, 0, 20).Format(time.DateOnly)
	runa := w.page(t, "runa")
	until := func(day string) chromedp.Action[chromedp.Void] {
		return chromedp.Steps(seen("#until"), still("#until"), chosen("#until"), chromedp.SendKeys(chromedp.CSS("#until"), day+"\r"))
	}
	runa.do("a guest is invited", chromedp.Navigate(w.address+"/people"), button("Invite a guest"), until(day), pick(`.ant-select:has(#repositories)`, "tide-board"), clicked(`//p[contains(., "with their own secrets alone")]`), button("Make the link"), runa.says("Send this link to them"))
	link, err := chromedp.Run(runa.ctx, chromedp.Evaluate[string](`document.querySelector(".ant-modal-container code").innerText`))
	if err != nil {
		t.Fatal(err)
	}
	_, key, _ := strings.Cut(link, "#")
	if _, err := w.client("runa").People.UseEnrolment(t.Context(), wire.EnrolmentUse{Key: strings.TrimSpace(key), Name: "tormod", FullName: "Tormod Vik", Email: "tormod@skerryline.example", Password: demo.Password}); err != nil {
		t.Fatal(err)
	}
	all, err := w.client("runa").Guests.List(t.Context())
	if err != nil || len(all) != 1 || all[0].Until.Before(time.Now().AddDate(0, 0, 19)) || all[0].Until.After(time.Now().AddDate(0, 0, 22)) {
		t.Fatalf("the guests are %+v, %v", all, err)
	}
	runa.do("let stay longer", chromedp.Navigate(w.address+"/people"), runa.says("tormod, Tormod Vik"), button("Extend"), until(time.Now().AddDate(0, 0, 40).Format(time.DateOnly)), modal(), gone("The access of Tormod Vik"))
	if all, err = w.client("runa").Guests.List(t.Context()); err != nil || all[0].Until.Before(time.Now().AddDate(0, 0, 39)) {
		t.Errorf("it lasts until %s, %v", all[0].Until, err)
	}
	guest := w.page(t, "tormod")
	guest.do("what a guest sees", guest.says("You are a guest here until"), gone("House rules"), chromedp.Navigate(w.address+"/repositories"), guest.says("tide-board"), gone("fare-desk"))

	// Who leaves: what of theirs runs is said, and stopped where that is wanted.
	w.must(w.as("mats", "", "launch", "tide-board", "--name", "left"), 0, "is ready")
	astrid := w.page(t, "astrid")
	shut := func(name string) chromedp.Action[chromedp.Void] {
		return clicked(`//*[@role="row"][*[.="` + name + `"]]//button[normalize-space(.)="Close"]`)
	}
	astrid.do("an account is closed", chromedp.Navigate(w.address+"/people"), shut("mats"), astrid.says("Of theirs there runs, at "), astrid.says("an hour: left."), clicked(`//label[contains(., "Stop it too")]`), modal(), gone("Close the account of"))
	w.until(w.client("astrid"), "left.mats", 20*time.Second, inPhase("stopped"))
	if p, err := w.client("astrid").People.List(t.Context()); err != nil || !slices.ContainsFunc(p, func(p wire.Person) bool { return p.Name == "mats" && p.Closed }) {
		t.Errorf("mats's account is open, %v", err)
	}
	astrid.do("one with nothing", shut("peder"), astrid.says("Nothing of theirs runs."), button("Cancel"))

	runa.do("a team's secret", chromedp.Navigate(w.address+"/secrets?view=team"), button("Set a secret of team Timetable"), seen("#name"), still("#name"), chromedp.SendKeys(chromedp.CSS("#name"), "GAUGE_KEY"), chromedp.SendKeys(chromedp.CSS("#value"), "changeme"), clicked(`//label[contains(., "all its people's workspaces")]`), modal(), runa.says("$GAUGE_KEY"), runa.says("all its people"), runa.says("what an example has"))
	ingrid := w.page(t, "ingrid")
	ingrid.do("what becomes of it", chromedp.Navigate(w.address+"/secrets?view=explained&repository=tide-board"), ingrid.says("your team Timetable's, for all repositories"))
	ingrid.do("of a name that is not there", seen(`input[aria-label^="A name"]`), chromedp.SendKeys(chromedp.CSS(`input[aria-label^="A name"]`), "GAUGE_KEYS\r"), ingrid.says("is it GAUGE_KEY?"))
	ingrid.do("what she usually wants", chromedp.Navigate(w.address+"/you"), clicked(`//section[@aria-label="What you usually want"]//button`), seen("#shell"), still("#shell"), chromedp.SendKeys(chromedp.CSS("#shell"), "zsh"), modal(), gone("Name in commits"), ingrid.says("Shell: zsh"))
}

// A launch link lets in whoever has no account, as a guest of its maker's team in what it
// launches alone, as many as it says and no longer than it lasts; paused, or with a maker
// who may bring in nobody any more, it lets in none.
func TestGuestsByALaunchLink(t *testing.T) {
	t.Parallel()
	w := simWorld(t)
	w.must(w.as("solveig", "", "launch-link", "add", "berth-planner", "--guests", "72h"), 4, "a bound and an end")
	w.must(w.as("ingrid", "", "launch-link", "add", "tide-board", "--guests", "72h", "--most", "2", "--for", "48h"), 4)
	w.must(w.as("runa", "", "launch-link", "add", "tide-board", "--guests", "72h", "--most", "2", "--for", "48h", "--team", "Fares"), 4, "guests of Fares")
	at := strings.TrimSpace(w.must(w.as("runa", "", "launch-link", "add", "tide-board", "--size", "small", "--guests", "72h", "--most", "2", "--for", "48h", "--title", "A look at the board"), 0, "/go/", "Timetable and guests of theirs, each for 3 days"))
	at = at[strings.Index(at, "http"):]
	at, _, _ = strings.Cut(at, "\n")
	id := at[strings.LastIndex(at, "/")+1:]
	w.must(w.as("mats", "", "launch-link", "use", at), 4, "for Timetable") // it is for its team beside
	p := openPage(t)
	p.do("who has no account comes in as a guest", chromedp.Navigate(at), p.says("Come in as a guest of Timetable"), clicked(`//a[contains(@href, "/enrol#go-")]`), p.says("You will be a guest of the team Timetable, with access until"),
		seen("#name"), chromedp.SendKeys(chromedp.CSS("#name"), "tormod"), chromedp.SendKeys(chromedp.CSS("#full_name"), "Tormod Vik"), chromedp.SendKeys(chromedp.CSS("#email"), "tormod@elsewhere.example"), chromedp.SendKeys(chromedp.CSS("#password"), demo.Password+"\r"),
		p.says("you have no credential for it"), p.says("Git hosts"))
	w.must(w.as("runa", "", "guest", "list"), 0, "tormod", "tide-board", "small", "runa")
	w.must(w.as("tormod", demo.GitToken("ingrid"), "credential", "put", strings.TrimPrefix(w.git, "http://"), "--username", "ingrid"), 0)
	p.do("and has one of it", chromedp.Navigate(at), button("Launch it"), holds(`location.pathname === "/bench/tide-board.tormod"`))
	w.must(w.as("tormod", "", "launch", "tide-board", "--size", "large"), 4)
	w.must(w.as("tormod", "", "repository", "list"), 0, "tide-board")
	w.must(w.as("tormod", "", "launch", "fare-desk"), 3)

	stranger := w.client("runa").People
	enrol := func(name string) int {
		_, err := stranger.UseEnrolment(t.Context(), wire.EnrolmentUse{Key: "go-" + id, Name: name, FullName: "Somebody Else", Email: name + "@elsewhere.example", Password: demo.Password})
		if p := wire.ProblemOf(err); p != nil {
			return p.Status
		}
		return 201
	}
	for _, c := range []struct {
		who, stdin, line string
		status           int
	}{
		{"runa", "", "launch-link pause " + id, 404},
		{"runa", "", "launch-link resume " + id, 409}, // the name is taken
		{"astrid", "", "person change runa --role developer", 404},
		{"astrid", "", "person change runa --role lead", 409},
	} {
		w.must(w.as(c.who, c.stdin, strings.Fields(c.line)...), 0)
		if got := enrol("ingrid"); got != c.status {
			t.Errorf("after %s it is answered with %d", c.line, got)
		}
	}
	if got := enrol("trygve"); got != 201 {
		t.Errorf("the second is answered with %d", got)
	}
	if got := enrol("ylva"); got != 404 {
		t.Errorf("the third of two is answered with %d", got)
	}
	if got := enrol("go-" + id); got != 404 {
		t.Errorf("a strange name is answered with %d", got)
	}
	w.must(w.as("runa", "", "launch-link", "list"), 0, "Timetable and guests")
	runa := w.page(t, "runa")
	runa.do("its maker sees how many came", chromedp.Navigate(w.address+"/launch-links"), runa.says("Timetable, and guests for 3 days (2 so far)"))
	zero := 0
	if _, err := w.client("runa").LaunchLinks.Change(t.Context(), id, wire.LaunchLinkChange{PeopleMost: &zero}); wire.ProblemOf(err) == nil || wire.ProblemOf(err).Status != 409 {
		t.Errorf("its bound is taken away: %v", err)
	}
	w.must(w.as("runa", "", "launch-link", "remove", id, "--yes"), 0)
	p.do("withdrawn it lets nobody in", chromedp.Navigate(w.address+"/enrol#go-"+id), chromedp.Reload(), p.says("cannot be used"))
}
