package test

import (
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
)

// Somebody who leads a team beside their own sees to its workspaces, in the console and
// on the command line, from when it is said until it is not.
func TestSeveralTeamsAtTheDoors(t *testing.T) {
	t.Parallel()
	w := simWorld(t)
	w.must(w.as("marit", "", "launch", "fare-desk", "--name", "till"), 0, "is ready")
	w.must(w.as("frida", "", "launch", "deck-log", "--name", "oar"), 0, "is ready")
	w.must(w.as("hauk", "", "whoami"), 0, "Harbour; leads Fares")
	w.must(w.as("hauk", "", "list", "--all"), 0, "till")
	if all := w.must(w.as("hauk", "", "list", "--all"), 0); strings.Contains(all, "oar") {
		t.Errorf("hauk sees a workspace of Decks:\n%s", all)
	}
	w.must(w.as("hauk", "x", "secret", "put", "FARE_KEY", "--of-team", "Fares", "--everywhere"), 0)
	w.must(w.as("hauk", "x", "secret", "put", "HARBOUR_KEY", "--of-team", "Harbour", "--everywhere"), 4, "does not allow")
	w.must(w.as("embla", "", "secret", "list", "--of-team", "Decks"), 0, "none")
	w.must(w.as("embla", "", "list", "--all"), 4, "your own workspaces only")
	w.must(w.as("hauk", "", "stop", "till.marit"), 0, "is stopped")
	w.must(w.as("hauk", "", "start", "till.marit"), 4, "does not allow")
	w.must(w.as("astrid", "", "person", "change", "hauk", "--also", "Timetable,Decks", "--leads", "Fares,Decks"), 0, "hauk is developer, team Harbour; leads Decks; leads Fares; Timetable")
	w.must(w.as("hauk", "", "list", "--all"), 0, "oar")
	w.must(w.as("astrid", "", "person", "change", "hauk", "--also", "Ghosts"), 3, "Ghosts")

	p := w.page(t, "hauk")
	p.do("a developer who leads another team sees its people and workspaces", chromedp.Navigate(w.address+"/people"), p.says("Marit Dahl"), p.says("leads Fares"), chromedp.Navigate(w.address+"/fleet"), p.says("till"), p.says("oar"))
	o := w.page(t, "astrid")
	o.do("an operator takes a team away in the list", chromedp.Navigate(w.address+"/people"), o.says("Hauk Tveit"), options("Teams that hauk is also in", "leads Decks"))
	for end := time.Now().Add(slack * 10 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		all := w.must(w.as("hauk", "", "list", "--all"), 0, "till")
		if !strings.Contains(all, "oar") {
			break
		}
		if time.Now().After(end) {
			t.Fatalf("hauk sees a workspace of Decks still:\n%s", all)
		}
	}
	w.must(w.as("astrid", "", "person", "change", "hauk", "--also", ""), 0, "hauk is developer, team Harbour, and")
	w.must(w.as("hauk", "", "list", "--all"), 4, "your own workspaces only")
	w.must(w.as("astrid", "", "journal", "list", "--kind", "person.changed", "--json"), 0, "Fares (leads it)")
}
