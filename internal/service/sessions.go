package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"regexp"
	"strings"
	"time"

	"yardbench/internal/core/definition"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/plain"
	"yardbench/internal/core/policy"
	"yardbench/internal/steward"
	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
	"yardbench/internal/wire"
)

var terminalLabel = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,31}$`)

// Open opens a command or a terminal in the actor's own workspace. The stream
// is the caller's to close. An operator sees other people's workspaces and
// does not get into them: their secrets are in there.
func (s *Service) Open(ctx context.Context, a Actor, ref string, in wire.Run) (*steward.Conn, error) {
	w, _, err := s.findTo(ctx, a, ref, policy.UseWorkspace, "open a terminal or run commands in")
	if err != nil {
		return nil, err
	}
	if err := lifecycle.Permit(lifecycle.Use, w.Phase, w.Plan.Adopted != nil); err != nil {
		return nil, fromRoom(err)
	}
	w.NextPlan = nil // the body in use, not what a rebuild is making
	session, _, err := s.Sessions.Of(ctx, w)
	if err != nil {
		return nil, err
	}
	r := steward.Request{Kind: steward.Run, Process: session, Columns: in.Columns, Rows: in.Rows}
	r.Process.Argv = in.Argv
	if len(in.Argv) == 0 {
		r.Kind, r.ID = steward.Terminal, in.Terminal
		if r.ID == "" {
			r.ID = "main"
		}
		if !terminalLabel.MatchString(r.ID) {
			return nil, invalid(quote(r.ID)+" is no label for a terminal", "use lower-case letters, digits and dashes, at most 32")
		}
		if script, ok := s.greeting(ctx, w); ok {
			r.Process.Argv = []string{"/bin/sh", "-c", script + "exec \"$SHELL\""}
		}
		r.Process.Env["TERM"], r.Process.Env["COLORTERM"] = "xterm-256color", "truecolor"
	}
	c, err := s.Hub.Ask(ctx, outside.Link(w.ID, w.Body), r)
	if err != nil {
		return nil, fromRoom(err)
	}
	err = s.Store.Write(ctx, func(tx *store.Tx) error {
		return tx.Journal(ctx, "workspace."+string(r.Kind), w.ID, w.OwnerID, a.ID, map[string]any{})
	})
	if err != nil {
		c.Stream.Close()
		return nil, err
	}
	return c, nil
}

// greeting is what a new terminal begins with, as a shell's script: what a
// person should know of the workspace, and what the definition runs when
// somebody attaches (postAttachCommand).
func (s *Service) greeting(ctx context.Context, w store.Workspace) (script string, ok bool) {
	conditions, err := s.Store.Read().Conditions(ctx, w.ID)
	if err != nil {
		return "", false // the terminal is worth more than its greeting
	}
	for _, c := range conditions {
		if c.Kind == lifecycle.RebuildDue {
			script += "printf '%s\\n' " + plain.Word("A rebuild is due, since the definition changed: "+c.Reason) + " " + plain.Word("Rebuild with: yardbench rebuild "+w.Name) + "\n"
		}
	}
	for _, layer := range w.Plan.Definition.At(definition.PostAttach) {
		for i, c := range layer.Commands {
			var words []string
			for _, a := range c.Argv() {
				words = append(words, plain.Word(a))
			}
			script += strings.Join(words, " ")
			if i < len(layer.Commands)-1 {
				script += " &"
			}
			script += "\n"
		}
		if len(layer.Commands) > 1 {
			script += "wait\n"
		}
	}
	return script, script != ""
}

// CopyLog writes a launch sheet's whole log to w: each step's title, then its
// log. sheet 0 is the newest; step 0 is all of them. With follow it goes on
// until the sheet has ended; from leaves out so many bytes; flush is called when there is nothing more for
// the moment.
func (s *Service) CopyLog(ctx context.Context, a Actor, ref string, sheet, step int, from int64, follow bool, w io.Writer, flush func()) error {
	ws, err := s.find(ctx, a, ref)
	if err != nil {
		return err
	}
	return s.copyLog(ctx, ws, sheet, step, follow, &beyond{w, from}, flush)
}

// beyond passes on what comes after so many bytes.
type beyond struct {
	w    io.Writer
	left int64
}

func (b *beyond) Write(p []byte) (int, error) {
	skip := min(b.left, int64(len(p)))
	b.left -= skip
	if int(skip) == len(p) {
		return len(p), nil
	}
	n, err := b.w.Write(p[skip:])
	return n + int(skip), err
}

func (s *Service) copyLog(ctx context.Context, ws store.Workspace, sheet, step int, follow bool, w io.Writer, flush func()) error {
	sh, err := s.sheet(ctx, ws, sheet)
	if err != nil {
		return err
	}
	watch := s.Bus.Watch()
	defer watch.Close()
	f := logFollower{s: s, w: ws, step: step, out: w, at: map[int]int64{}}
	for {
		// What the records say is read before the files: a step that has
		// ended by then has its whole log there.
		if sh, err = s.sheet(ctx, ws, sh.Number); err != nil {
			return err
		}
		if err := f.copy(ctx, sh); err != nil {
			return err
		}
		flush()
		if !follow || sh.EndedAt != nil {
			return nil
		}
		select {
		case <-ctx.Done():
			return nil
		case <-watch.C:
			watch.Take()
		case <-time.After(10 * time.Second): // a keeper that died without a word
		}
	}
}

func (s *Service) sheet(ctx context.Context, w store.Workspace, number int) (store.Sheet, error) {
	if number == 0 {
		return s.Store.Read().CurrentSheet(ctx, w.ID)
	}
	rows, err := s.Store.Read().Sheets(ctx, w.ID)
	for _, sh := range rows {
		if sh.Number == number {
			return sh, nil
		}
	}
	if err == nil {
		err = notFound("launch sheet", fmt.Sprint(number), "see them with: yardbench show "+w.Name)
	}
	return store.Sheet{}, err
}

// logFollower copies the logs of a sheet's steps, going on where it was.
type logFollower struct {
	s       *Service
	w       store.Workspace
	step    int
	out     io.Writer
	at      map[int]int64 // by step: how much was copied; present: its title was
	current int
}

func (f *logFollower) copy(ctx context.Context, sh store.Sheet) error {
	steps, err := f.s.Store.Read().Steps(ctx, sh.ID)
	if err != nil {
		return err
	}
	for _, st := range steps {
		if st.Parent != 0 || (f.step != 0 && st.Number != f.step) || st.Number < f.current {
			continue
		}
		f.current = st.Number
		if _, titled := f.at[st.Number]; !titled {
			f.at[st.Number] = 0
			if f.step == 0 {
				if _, err := fmt.Fprintf(f.out, "== %s\n", st.Title); err != nil {
					return err
				}
			}
		}
		err := f.part(f.s.Keeper.LogPath(f.w.ID, sh.Number, st.Number), st.Number)
		if errors.Is(err, os.ErrNotExist) {
			if err = nil; st.EndedAt != nil && f.s.now().Sub(*st.EndedAt) > 24*time.Hour {
				_, err = fmt.Fprintln(f.out, "[its log is kept no longer]")
			}
		}
		if err != nil {
			return err
		}
		if st.EndedAt == nil {
			return nil // the next one begins when this one has ended
		}
	}
	return nil
}

func (f *logFollower) part(path string, step int) error {
	file, err := os.Open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	if st, err := file.Stat(); err == nil && st.Size() < f.at[step] {
		f.at[step] = 0 // the step began anew
	}
	if _, err := file.Seek(f.at[step], io.SeekStart); err != nil {
		return err
	}
	n, err := io.Copy(f.out, file)
	f.at[step] += n
	return err
}
