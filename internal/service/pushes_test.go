package service

import (
	"net/http"
	"testing"
	"time"

	"yardbench/internal/core/lifecycle"
	"yardbench/wire"
)

// The news of a push counts only with its repository's mark, fresh and whole.
func TestPushes(t *testing.T) {
	s, ingrid, astrid := bare(t)
	ctx := t.Context()
	addWorkspace(t, s, ingrid, "tide", lifecycle.Stopped)
	if _, err := s.Pushes.NewPushKey(ctx, ingrid, "tide-board", ""); status(err) != 403 {
		t.Errorf("a developer makes a push key: %v", err)
	}
	k, err := s.Pushes.NewPushKey(ctx, astrid, "tide-board", "")
	if err != nil {
		t.Fatal(err)
	}
	in := wire.Push{Repository: "http://git.skerryline.example/x", Branch: "main", Commit: "0123456789"}
	body := []byte(`{"any":"bytes"}`)
	now := time.Now().UTC().Format(time.RFC3339)
	good := PushMark(k.Key, now, body)
	if out, err := s.Pushes.Pushed(ctx, in, body, now, good); err != nil || out.Runs != 0 {
		t.Errorf("a good mark without a plan is answered %+v, %v", out, err)
	}
	other := in
	other.Repository = "http://git.skerryline.example/other"
	old := time.Now().Add(-6 * time.Minute).UTC().Format(time.RFC3339)
	for what, err := range map[string]error{
		"another body":       second(s.Pushes.Pushed(ctx, in, []byte(`{}`), now, good)),
		"another repository": second(s.Pushes.Pushed(ctx, other, body, now, good)),
		"another time":       second(s.Pushes.Pushed(ctx, in, body, time.Now().Add(time.Minute).UTC().Format(time.RFC3339), good)),
		"an old one":         second(s.Pushes.Pushed(ctx, in, body, old, PushMark(k.Key, old, body))),
		"another key":        second(s.Pushes.Pushed(ctx, in, body, now, PushMark("guess", now, body))),
		"no mark":            second(s.Pushes.Pushed(ctx, in, body, now, "")),
		"no time":            second(s.Pushes.Pushed(ctx, in, body, "", PushMark(k.Key, "", body))),
	} {
		if status(err) != http.StatusUnauthorized {
			t.Errorf("%s is answered %v", what, err)
		}
	}
	if _, err := s.Pushes.NewPushKey(ctx, astrid, "tide-board", ""); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Pushes.Pushed(ctx, in, body, now, good); status(err) != http.StatusUnauthorized {
		t.Errorf("the key that was replaced is answered %v", err)
	}
}
