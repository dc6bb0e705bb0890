package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"time"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/page"
	"yardbench/internal/fault"
	"yardbench/internal/store"
	"yardbench/wire"
)

func (s *views) sheet(ctx context.Context, w store.Workspace, number int) (store.Sheet, error) {
	if number == 0 {
		return s.store.Read().CurrentSheet(ctx, w.ID)
	}
	sh, err := s.store.Read().SheetByNumber(ctx, w.ID, number)
	if errors.Is(err, store.ErrNotFound) {
		err = notFound("launch sheet", strconv.Itoa(number), "see them", fault.Do("list-sheets", w.Name))
	}
	return sh, err
}

func (s *views) copyLog(ctx context.Context, ws store.Workspace, sheet, step int, follow bool, w io.Writer, flush func()) error {
	sh, err := s.sheet(ctx, ws, sheet)
	if err != nil {
		return err
	}
	watch := s.bus.Watch()
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

// logFollower copies the logs of a sheet's steps, going on where it was.
type logFollower struct {
	s       *views
	w       store.Workspace
	step    int
	out     io.Writer
	at      map[int]int64 // by step: how much was copied; present: its title was
	current int
}

func (f *logFollower) copy(ctx context.Context, sh store.Sheet) error {
	steps, err := f.s.store.Read().Steps(ctx, sh.ID)
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
		err := f.part(f.s.keeper.Logs.LogPath(f.w.ID, sh.Number, st.Number), st.Number)
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

// CopyLog writes a launch sheet's whole log to w: each step's title, then its
// log. sheet 0 is the newest; step 0 is all of them. With follow it goes on
// until the sheet has ended; from leaves out so many bytes; flush is called when there is nothing more for
// the moment.
func (s *Workspaces) CopyLog(ctx context.Context, a Actor, ref string, sheet, step int, from int64, follow bool, w io.Writer, flush func()) error {
	ws, err := s.views.find(ctx, a, ref)
	if err != nil {
		return err
	}
	return s.views.copyLog(ctx, ws, sheet, step, follow, &beyond{w, from}, flush)
}

// sheetKind orders a workspace's launch sheets, the newest first.
var sheetKind = page.Kind[store.Sheet]{Name: "sheets", Usual: "-number", ID: func(s store.Sheet) string { return s.ID },
	Orders: []page.Order[store.Sheet]{{Name: "number", Key: func(s store.Sheet) string { return page.Number(int64(s.Number)) }}}}

// Sheets lists a workspace's launch sheets, the newest first.
func (s *Workspaces) Sheets(ctx context.Context, a Actor, ref string, ask page.Ask) (out Part[wire.SheetRow], err error) {
	w, err := s.views.find(ctx, a, ref)
	if err != nil {
		return out, err
	}
	rows, err := s.store.Read().Sheets(ctx, w.ID)
	if err != nil {
		return out, err
	}
	part, err := PartOf(sheetKind, rows, ask)
	out = Part[wire.SheetRow]{Items: []wire.SheetRow{}, Next: part.Next}
	for _, sh := range part.Items {
		out.Items = append(out.Items, sheetRow(sh))
	}
	return out, err
}

// Sheet is one of a workspace's launch sheets; 0 is the newest.
func (s *Workspaces) Sheet(ctx context.Context, a Actor, ref string, number int) (v wire.Sheet, err error) {
	w, err := s.views.find(ctx, a, ref)
	if err != nil {
		return v, err
	}
	sh, err := s.views.sheet(ctx, w, number)
	if err != nil {
		return v, err
	}
	steps, err := s.store.Read().Steps(ctx, sh.ID)
	if err != nil {
		return v, err
	}
	v = sheetView(sh, steps)
	if sh.EndedAt == nil {
		conditions, err := s.store.Read().Conditions(ctx, w.ID)
		if err != nil {
			return v, err
		}
		for _, c := range conditions {
			if c.Kind == lifecycle.WaitsForYard {
				v.Waits = c.Reason
			}
		}
	}
	return v, s.views.timed(ctx, &v, w, sh, steps)
}
