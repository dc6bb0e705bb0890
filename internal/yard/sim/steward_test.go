package sim

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"yardbench/internal/steward"
	"yardbench/internal/steward/outside"
	"yardbench/internal/yard"
)

// A simulated steward speaks the protocol: it comes with its body, does
// set-up commands once, echoes in a terminal, and goes with its body.
func TestSteward(t *testing.T) {
	y, err := New("a", nil, Options{Images: theImages})
	if err != nil {
		t.Fatal(err)
	}
	defer y.Close()
	hub := y.Links()
	news := make(chan string, 16)
	hub.Changed = func(link string) { news <- link }
	if err := hub.Open("w-b1", "token"); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	spec := yard.Body{Workspace: "w", Number: 1, Volume: 1, Image: "skerryline/base:1"}
	if err := errors.Join(y.Make(ctx, spec), y.Start(ctx, "w", 1), hub.Await(ctx, "w-b1")); err != nil {
		t.Fatal(err)
	}
	ask := func(r steward.Request) (string, steward.Exit) {
		t.Helper()
		c, err := hub.Ask(ctx, "w-b1", r)
		if err != nil {
			t.Fatal(err)
		}
		defer c.Stream.Close()
		var out bytes.Buffer
		x, err := outside.Follow(ctx, c, &out)
		if err != nil {
			t.Fatal(err)
		}
		return out.String(), x
	}
	if out, x := ask(steward.Request{Kind: steward.CloneTo, URL: "http://git.skerryline.example/x.git", Branch: "main"}); x.Code != 0 || !strings.Contains(out, "simulated clone") {
		t.Errorf("a clone prints %q and ends with %+v", out, x)
	}
	one := steward.Request{Kind: steward.SetUp, ID: "s.1", Process: steward.Process{Argv: []string{"/bin/sh", "-c", "echo printed && exit 4"}}}
	if out, x := ask(one); out != "printed\n" || x.Code != 4 {
		t.Errorf("a command prints %q and ends with %+v", out, x)
	}
	if out, x := ask(one); out != "" || x.Code != 4 {
		t.Errorf("asked again it is run again: %q, %+v", out, x)
	}
	if out, x := ask(steward.Request{Kind: steward.Run, Process: steward.Process{Argv: []string{"echo", "x"}}}); out != "x\n" || x.Code != 0 {
		t.Errorf("a run prints %q and ends with %+v", out, x)
	}
	if _, err := hub.Ask(ctx, "w-b1", steward.Request{Kind: steward.Dial, Port: 8000}); err == nil || !strings.Contains(err.Error(), "nothing listens on port 8000") {
		t.Errorf("a port is answered %v", err)
	}
	w, err := hub.Ask(ctx, "w-b1", steward.Request{Kind: steward.Work})
	if err != nil {
		t.Fatal(err)
	}
	var report steward.WorkReport
	if err := w.Receive(&report); err != nil || !report.Clean() {
		t.Errorf("its work is %+v, %v", report, err)
	}
	for _, c := range []struct {
		script string
		want   steward.WorkReport
	}{
		{"touch levels; touch times", steward.WorkReport{Uncommitted: []string{"levels", "times"}}},
		{"rm times && rm nothing", steward.WorkReport{Uncommitted: []string{"levels"}}},
		{"git commit -m tides", steward.WorkReport{Unpushed: []string{"simulated -m tides"}}},
		{"git push", steward.WorkReport{}},
		{"touch x; git stash", steward.WorkReport{Stashes: 1}},
	} {
		ask(steward.Request{Kind: steward.Run, Process: steward.Process{Argv: []string{"sh", "-c", c.script}}})
		w, err := hub.Ask(ctx, "w-b1", steward.Request{Kind: steward.Work})
		if err != nil {
			t.Fatal(err)
		}
		var got steward.WorkReport
		if err := w.Receive(&got); err != nil || fmt.Sprint(got) != fmt.Sprint(c.want) {
			t.Errorf("after %s its work is %+v, %v", c.script, got, err)
		}
	}
	ask(steward.Request{Kind: steward.Run, Process: steward.Process{Argv: []string{"sh", "-c", "listen 8000; listen 8001; hush 8001; listen far"}}})
	dial, err := hub.Ask(ctx, "w-b1", steward.Request{Kind: steward.Dial, Port: 8000})
	if err != nil {
		t.Fatal(err)
	}
	fmt.Fprint(dial.Stream, "GET /board HTTP/1.1\r\nHost: x\r\n\r\n")
	if page, err := io.ReadAll(dial.Stream); err != nil || !strings.Contains(string(page), "GET /board came to 8000") {
		t.Errorf("the port answers %q, %v", page, err)
	}
	term, err := hub.Ask(ctx, "w-b1", steward.Request{Kind: steward.Terminal, ID: "main"})
	if err != nil {
		t.Fatal(err)
	}
	if err := term.SendFrame(steward.Input, []byte("echo the mast\rexit\r")); err != nil {
		t.Fatal(err)
	}
	var screen strings.Builder
	for {
		k, p, err := term.ReceiveFrame()
		if err != nil || k == steward.Ended {
			break
		}
		screen.Write(p)
	}
	if s := screen.String(); !strings.Contains(s, "This workspace is simulated") || !strings.Contains(s, "\r\nthe mast\r\n$ ") {
		t.Errorf("the terminal shows %q", s)
	}
	watch, err := hub.Ask(ctx, "w-b1", steward.Request{Kind: steward.Watch})
	if err != nil {
		t.Fatal(err)
	}
	var st steward.Status
	if err := watch.Receive(&st); err != nil || st.TypedMS < 0 || st.TypedMS > 10_000 || len(st.Ports) != 1 || st.Ports[0].Number != 8000 {
		t.Errorf("what was typed is told as %+v, %v", st, err)
	}
	y.Kill("w", 1, "out of memory")
	for end := time.Now().Add(10 * time.Second); hub.Connected("w-b1"); time.Sleep(10 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("its steward stays when its body has ended")
		}
	}
	if err := y.Start(ctx, "w", 1); err != nil {
		t.Fatal(err)
	}
	if err := hub.Await(ctx, "w-b1"); err != nil {
		t.Errorf("started again its steward does not come: %v", err)
	}
	for range 3 { // it came, went and came
		if link := <-news; link != "w-b1" {
			t.Errorf("news of %s", link)
		}
	}
	if err := hub.Close("w-b1"); err != nil || hub.Connected("w-b1") {
		t.Errorf("closed, its link is still there, %v", err)
	}
}
