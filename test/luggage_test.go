package test

import (
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"yardbench/internal/demo"
)

// What of somebody's home folder is to go along goes from workspace to workspace: over
// stops, rebuilds and removals, the newer counting, and nothing that is not theirs alone,
// nor to or from what a pull request proposes.
func TestLuggage(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	mine := func(line string) string { return w.must(w.as("ingrid", "", strings.Fields(line)...), 0) }
	in := func(ws, command string) string {
		t.Helper()
		return w.must(w.as("ingrid", "", "run", ws, "--", "sh", "-c", command), 0)
	}
	if got := mine("me luggage"); !strings.Contains(got, "nothing goes along") {
		t.Errorf("at first: %s", got)
	}
	for _, wrong := range []string{"/etc/passwd", "~", "../x", "~/.own-files"} {
		w.must(w.as("ingrid", "", "me", "luggage", "--add", wrong), 4, "--add")
	}
	w.must(w.as("ingrid", "", "me", "luggage", "--remove", "~/x"), 2, "none of what goes along")
	w.must(w.as("astrid", "hush-of-the-house", "secret", "put", "SLIP", "--of-house", "--everywhere"), 0)
	mine("launch tide-board --name quay")
	mine("me luggage --add ~/.tides --add .config/tide/ --add ~/link")
	in("quay", `echo one > ~/.tides; mkdir -p ~/.config/tide/deep; echo two > ~/.config/tide/deep/b; chmod 700 ~/.config/tide/deep/b; echo "x $SLIP" > ~/.config/tide/slip; head -c 600000 /dev/zero > ~/.config/tide/big; ln -s /etc/passwd ~/link; ln -s ../../../etc ~/.config/tide/out`)
	mine("stop quay")
	w.must(w.as("ingrid", "", "me", "luggage"), 0, "~/.tides  ~/.config/tide", "~/.config/tide/deep/b", "slip", "secret SLIP, which is not yours alone", "larger than 512 KiB")

	// Another workspace has it, as it was; a pull request's has not.
	mine("launch tide-board --name berth")
	if got := in("berth", `cat ~/.tides ~/.config/tide/deep/b; stat -c %a ~/.config/tide/deep/b; stat -c %U ~/.tides; ls -A ~/.config/tide; ls ~/link 2>&1; true`); !strings.HasPrefix(got, "one\ntwo\n700\ncrew\ndeep\n") || !strings.Contains(got, "No such file") {
		t.Errorf("it came as %s", got)
	}
	w.must(w.as("ingrid", "", "show", "berth"), 0, "Your luggage")
	mine("launch tide-board --branch " + demo.AskedRef + " --name proposal")
	in("proposal", `test ! -e ~/.tides; echo planted > ~/.tides`)
	mine("stop proposal")
	if got := mine("me luggage --json"); strings.Contains(got, "proposal") || !strings.Contains(got, `"from": "quay"`) {
		t.Errorf("after a proposal there is kept: %s", got)
	}

	// The newer counts, and what an image has is nobody's: over a removal, and a rebuild.
	in("berth", `echo three > ~/.tides`)
	mine("rebuild berth")
	if got := in("berth", "cat ~/.tides"); got != "three\n" {
		t.Errorf("after the rebuild: %s", got)
	}
	in("berth", `echo four > ~/.tides; rm -r ~/.config/tide/deep`)
	w.must(w.as("ingrid", "", "remove", "berth", "--yes", "--discard"), 0)
	mine("start quay")
	if got := in("quay", "cat ~/.tides ~/.config/tide/deep/b"); got != "four\ntwo\n" {
		t.Errorf("after a start: %s", got)
	}

	// What something else stands in the way of stays, and harms nothing.
	in("quay", `rm ~/.tides; ln -s /tmp/elsewhere ~/.tides`)
	mine("stop quay")
	mine("start quay")
	if got := in("quay", "readlink ~/.tides"); got != "/tmp/elsewhere\n" {
		t.Errorf("what was in the way: %s", got)
	}
	w.must(w.as("ingrid", "", "show", "quay"), 0, "ready", "not all that goes with you came")

	// A service that is killed goes on; what is taken out is forgotten; the house may let nothing go along.
	in("quay", `rm ~/.tides; echo five > ~/.tides`)
	w.kill()
	w.start()
	w.until(w.client("ingrid"), "quay", slack*20*time.Second, inPhase("ready"))
	mine("stop quay")
	mine("me luggage --remove ~/.config/tide")
	if got := mine("me luggage"); !strings.Contains(got, "~/.tides") || strings.Contains(got, "deep") {
		t.Errorf("what is left: %s", got)
	}
	mine("launch tide-board --name berth")
	if got := in("berth", "cat ~/.tides; ls -A ~/.config/tide 2>&1; true"); !strings.HasPrefix(got, "five\n") || strings.Contains(got, "deep") {
		t.Errorf("what goes along then: %s", got)
	}
	w.rules("\nsign_in:", "\nworkspaces: {luggage: none}\nsign_in:")
	w.must(w.as("ingrid", "", "me", "luggage", "--add", "~/.more"), 4, "house rules let nothing")
	mine("launch tide-board --name bare")
	in("bare", "test ! -e ~/.tides")
}

// It is said and taken back in the console, too.
func TestLuggageInTheBrowser(t *testing.T) {
	w := simWorld(t)
	p := w.page(t, "ingrid")
	add := func(path string) chromedp.Action[chromedp.Void] {
		return chromedp.Steps(button("Add a path"), seen("#path"), still("#path"), chromedp.SendKeys(chromedp.CSS("#path"), path), modal())
	}
	p.do("what is none is refused", chromedp.Navigate(w.address+"/you"), p.says("Nothing goes along."), add("/etc/passwd"), p.says("is not in the home folder"))
	p.do("what is one is there", chromedp.Navigate(w.address+"/you"), add("~/.tides"), p.says("Nothing is kept yet"), p.says("0 MiB of at most 4 MiB."))
	w.must(w.as("ingrid", "", "me", "luggage"), 0, "~/.tides")
	p.do("and goes along no more", clicked(`//*[@aria-label="Have ~/.tides go along no more"]`), p.says("What is kept of it is forgotten."), modal(), p.says("Nothing goes along."))
	w.rules("\nsign_in:", "\nworkspaces: {luggage: none}\nsign_in:")
	p.do("where the house lets nothing", chromedp.Navigate(w.address+"/you"), p.says("The house rules let nothing of a home folder go along."))
}
