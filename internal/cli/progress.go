package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"golang.org/x/term"

	"yardbench/client"
	"yardbench/wire"
)

// follow shows the launch sheet of what was just asked for until it has
// ended, and tells how it ended. Ctrl-C leaves it going on.
func (a *app) follow(ctx context.Context, api *client.Client, w wire.Workspace) error {
	p := &progress{a: a, said: map[string]bool{}, live: isTerminal(a.err) && !a.json && !a.quiet}
	defer p.tick()()
	var last wire.Workspace
	err := api.Watch(ctx, func() (bool, error) {
		sheet, err := api.Workspaces.Sheet(ctx, name(w), w.Sheet)
		if err != nil {
			return false, err
		}
		p.show(sheet)
		// Somebody's own files come while the workspace is ready already.
		own := len(sheet.Steps) > 0 && sheet.Steps[len(sheet.Steps)-1].Title == wire.OwnFilesTitle
		if sheet.EndedAt == nil && !own {
			return false, nil
		}
		if p.sheet = sheet; sheet.EndedAt == nil {
			p.sheet.Outcome = "done"
		}
		last, err = api.Workspaces.Show(ctx, name(w))
		return true, err
	})
	p.end()
	var gone *wire.Problem
	switch {
	case ctx.Err() != nil:
		fmt.Fprintf(a.err, "\n%s goes on by itself; see how it is with: yardbench show %s\n", w.Name, w.Name)
		return exit(exitInterrupt)
	case errors.As(err, &gone) && gone.Status == 404 && w.Wanted == "removed":
		if a.json {
			return a.print(w, nil)
		}
		if w.Adopted != "" {
			fmt.Fprintf(a.out, "%s is let go; its container goes on\n", w.Name)
			return nil
		}
		if !a.quiet {
			fmt.Fprintf(a.out, "%s is removed\n", w.Name)
		}
		return nil
	case err != nil:
		return err
	}
	if a.json {
		if err := a.print(last, nil); err != nil {
			return err
		}
	}
	if p.sheet.Outcome != "done" {
		return a.failure(ctx, api, p.sheet, last)
	}
	if a.quiet && !a.json {
		fmt.Fprintln(a.out, name(last))
	} else if !a.json {
		if p.sheet.Hint != "" {
			fmt.Fprintln(a.out, clean(p.sheet.Hint))
		}
		a.result(last)
	}
	return nil
}

// failure says which step failed and why, with the end of its log.
func (a *app) failure(ctx context.Context, api *client.Client, sh wire.Sheet, w wire.Workspace) error {
	if a.json {
		return exit(exitFailed)
	}
	if sh.Outcome == "interrupted" {
		fmt.Fprintf(a.err, "yardbench: this %s of %s was given up: %s\n", sh.Kind, w.Name, sh.Cause)
		return exit(exitFailed)
	}
	for _, s := range sh.Steps {
		if s.Outcome != "failed" || s.Parent != 0 {
			continue
		}
		var log strings.Builder
		if err := api.Workspaces.CopyLog(ctx, name(w), sh.Number, s.Number, 0, false, &log); err == nil {
			lines := strings.Split(strings.TrimSpace(log.String()), "\n")
			for _, l := range lines[max(0, len(lines)-12):] {
				if l != sh.Cause { // said below
					fmt.Fprintln(a.err, "    "+clean(l))
				}
			}
		}
	}
	fmt.Fprintf(a.err, "yardbench: %s of %s failed: %s\n", sh.Kind, w.Name, clean(sh.Cause))
	switch {
	case w.Adopted != "":
		fmt.Fprintf(a.err, "again from here: yardbench start %s\ngive it up: yardbench let-go %s\n", name(w), name(w))
	case w.Phase == "ready":
		fmt.Fprintf(a.err, "the workspace is as it was before; correct the cause and rebuild again\n")
	default:
		fmt.Fprintf(a.err, "the whole log: yardbench logs %s\nagain from here: yardbench start %s\nafter a push: yardbench rebuild %s\ngive it up: yardbench remove %s\n", w.Name, w.Name, w.Name, w.Name)
	}
	return exit(exitFailed)
}

// result says how things stand, and what to type next.
func (a *app) result(w wire.Workspace) {
	for _, c := range w.Conditions {
		if c.Kind == "adopted" {
			continue // it is known, and stays so
		}
		fmt.Fprintln(a.out, a.paint(text.FgYellow, c.Kind+": "+clean(c.Reason)))
	}
	switch {
	case w.Phase == "ready" && w.Adopted != "":
		fmt.Fprintf(a.out, "%s is %s; %s enters it with: yardbench enter %s\n", name(w), a.paint(text.FgGreen, "ready"), w.Owner, w.Name)
	case w.Phase == "ready":
		fmt.Fprintf(a.out, "%s is %s at %s\n", w.Name, a.paint(text.FgGreen, "ready"), w.Folder)
		fmt.Fprintf(a.out, "  in the browser   %s/bench/%s\n", signedIn(a).Address, w.Name)
		fmt.Fprintf(a.out, "  a terminal       yardbench enter %s\n", w.Name)
		fmt.Fprintf(a.out, "  one command      yardbench run %s -- git status\n", w.Name)
		fmt.Fprintf(a.out, "  to rest          yardbench stop %s\n", w.Name)
	default:
		fmt.Fprintf(a.out, "%s is %s\n", w.Name, w.Phase)
	}
}

// progress prints a launch sheet as it grows: each step once, when it has
// ended; on a terminal also what runs now, in a last line that is rewritten.
type progress struct {
	mu    sync.Mutex
	a     *app
	now   []wire.Step // what runs
	said  map[string]bool
	live  bool
	drawn bool
	sheet wire.Sheet
}

func (p *progress) show(sh wire.Sheet) {
	if p.a.json || p.a.quiet {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.wipe()
	p.now = nil
	if sh.Waits != "" && !p.said[sh.Waits] {
		p.said[sh.Waits] = true
		fmt.Fprintln(p.a.err, p.a.paint(text.FgYellow, "  it waits: "+clean(sh.Waits)))
	}
	for _, s := range nested(sh.Steps) { // a step's parts come behind it
		switch {
		case s.EndedAt == nil:
			p.now = append(p.now, s)
		case s.Parent != 0 || !hasParts(sh, s.Number):
			p.once(s, p.line(s), s.Attempt)
		}
		// A step with parts is told when all its parts were.
		if last := s.Parent; last != 0 && lastPart(sh, s) {
			if parent := byNumber(sh, last); parent.EndedAt != nil {
				p.once(parent, p.line(parent), parent.Attempt)
			}
		}
	}
	p.draw()
}

// draw rewrites the last line: what runs, and for how long so far.
func (p *progress) draw() {
	if !p.live || len(p.now) == 0 {
		return
	}
	p.wipe()
	s := p.now[len(p.now)-1]
	line := fmt.Sprintf("  … %s  %s", clean(s.Title), took(time.Since(s.StartedAt)))
	if width, _, err := term.GetSize(2); err == nil && text.RuneWidthWithoutEscSequences(line) > width-1 {
		line = text.Trim(line, width-1)
	}
	fmt.Fprint(p.a.err, line)
	p.drawn = true
}

// tick keeps the last line's time running, until the returned function is called.
func (p *progress) tick() (stop func()) {
	ticker, over := time.NewTicker(250*time.Millisecond), make(chan struct{})
	go func() {
		for {
			select {
			case <-ticker.C:
				p.mu.Lock()
				p.draw()
				p.mu.Unlock()
			case <-over:
				return
			}
		}
	}()
	return func() { ticker.Stop(); close(over) }
}

func (p *progress) once(s wire.Step, line string, attempt int) {
	if k := fmt.Sprint(s.Number, "/", attempt); !p.said[k] {
		p.said[k] = true
		fmt.Fprintln(p.a.err, line)
	}
}

// end takes the last line away for good.
func (p *progress) end() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.wipe()
	p.now = nil
}

func (p *progress) wipe() {
	if p.drawn {
		fmt.Fprint(p.a.err, "\r\x1b[K")
		p.drawn = false
	}
}

func (p *progress) line(s wire.Step) string {
	// Parts stand before the step they make up, in the order of the ending.
	mark := p.a.paint(text.FgGreen, "✓")
	switch s.Outcome {
	case "failed":
		mark = p.a.paint(text.FgRed, "✗")
	case "interrupted", "skipped":
		mark = "–"
	}
	indent, width := "  ", 52
	if s.Parent != 0 {
		indent, width = "      ", 48
	}
	title := clean(s.Title)
	if text.RuneWidthWithoutEscSequences(title) > width {
		title = text.Trim(title, width-1) + "…"
	}
	line := indent + mark + " " + text.Pad(title, width, ' ') + fmt.Sprintf("%12s", took(s.EndedAt.Sub(s.StartedAt)))
	if s.Cached {
		line += "  cached"
	}
	if s.Bytes > 0 {
		line += "  " + volume(s.Bytes)
	}
	if took := s.EndedAt.Sub(s.StartedAt).Milliseconds(); s.UsualMS > 0 && !s.Cached && took > 1000 && took > s.SlowMS {
		line += "  usually " + tookMS(s.UsualMS)
	}
	if s.Attempt > 1 {
		line += fmt.Sprintf("  attempt %d", s.Attempt)
	}
	if s.Outcome == "failed" && s.Cause != "" && (s.Title == wire.OwnFilesTitle || s.Title == wire.LuggageTitle) { // the launch goes on, and says nothing of it below
		line += "\n" + indent + "  " + clean(s.Cause)
	}
	return line
}

func tookMS(ms int64) string { return took(time.Duration(ms) * time.Millisecond) }

func hasParts(sh wire.Sheet, n int) bool {
	for _, s := range sh.Steps {
		if s.Parent == n {
			return true
		}
	}
	return false
}

func lastPart(sh wire.Sheet, s wire.Step) bool {
	for _, o := range sh.Steps {
		if o.Parent == s.Parent && o.Number > s.Number {
			return false
		}
	}
	return true
}

func byNumber(sh wire.Sheet, n int) wire.Step {
	for _, s := range sh.Steps {
		if s.Number == n {
			return s
		}
	}
	return wire.Step{}
}

// name is how to ask for a workspace again, whoever owns it.
func name(w wire.Workspace) string { return w.Name + "." + w.Owner }
