package service

import (
	"context"
	"errors"
	"io"
	"net"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"yardbench/internal/core/bench"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/plain"
	"yardbench/internal/fault"
	"yardbench/internal/steward"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Benches are the work areas of workspaces: which programs serve languages and debug
// there, and those programs themselves, run as the workspace's user.
type Benches struct {
	sessions *Sessions
	files    *Files
	views    *views
}

const (
	benchProbe     = 20 * time.Second
	definitionMost = 1 << 20
	mainsMost      = 20
)

// Show tells what holds in a workspace: by its definition as it stands there now, which
// may be another than it was launched by.
func (s *Benches) Show(ctx context.Context, a Actor, ref string) (wire.Bench, error) {
	b, from, err := s.read(ctx, a, ref)
	if err != nil {
		return wire.Bench{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, benchProbe)
	defer cancel()
	conn, err := s.run(ctx, a, ref, unwritten, b.Probe(), true)
	if err != nil {
		return wire.Bench{}, err
	}
	defer conn.Stream.Close()
	stop := context.AfterFunc(ctx, func() { conn.Stream.Close() })
	defer stop()
	go func() { _ = conn.SendFrame(steward.NoMore, nil) }() // it may leave its input unread
	said, err := gather(conn, 64<<10)
	if err != nil {
		return wire.Bench{}, fromRoom(err)
	}
	languages, adapters := bench.There(string(said.out))
	out := wire.Bench{Definition: from, PassedOver: append([]string{}, b.PassedOver...), Languages: []wire.BenchLanguage{}, Adapters: []wire.BenchAdapter{}, Debugging: []wire.Debugging{}, Problems: append([]string{}, b.Problems...)}
	e := b.Editor
	out.Editor = wire.BenchEditor{TabSize: e.TabSize, Tabs: e.Tabs, Rulers: e.Rulers, Trim: e.Trim, FinalNewline: e.FinalNewline, FormatOnSave: e.FormatsOnSave}
	for _, l := range b.Languages {
		out.Languages = append(out.Languages, wire.BenchLanguage{ID: l.ID, Files: l.Files, Program: plain.Line(languages[l.ID], 80), Own: l.Own, Line: l.Line()})
	}
	for _, x := range b.Adapters {
		out.Adapters = append(out.Adapters, wire.BenchAdapter{ID: x.ID, There: adapters[x.ID], Own: x.Own, Line: x.Line()})
	}
	if len(b.Configurations) == 0 && adapters["python"] {
		b.Configurations = s.offers(ctx, a, ref)
	}
	for _, c := range b.Configurations {
		out.Debugging = append(out.Debugging, wire.Debugging{Name: c.Name, Adapter: c.Adapter, Request: c.Request, With: c.With, Port: c.Port, Found: c.Found})
	}
	return out, nil
}

// read reads what the definition in the workspace says of its bench. A definition that
// is not to be read, or is wrong, is told and leaves what is usual.
func (s *Benches) read(ctx context.Context, a Actor, ref string) (b bench.Bench, from string, err error) {
	w, err := s.views.find(ctx, a, ref)
	if err != nil {
		return b, "", err
	}
	b, _ = bench.Read(nil) // what is usual is right
	def := w.Plan.Definition
	if def.Path == "" {
		return b, "", nil
	}
	file, err := s.files.Open(ctx, a, Path{Ref: ref, Path: path.Join(def.TreeFolder(), def.Path)})
	if f, ok := errors.AsType[*fault.Fault](err); ok && lifecycle.Permit(lifecycle.Use, w.Phase, w.Plan.Adopted != nil) == nil {
		b.Problems = append(b.Problems, def.Path+" is not read: "+f.Detail) // what is usual holds
		return b, "", nil
	}
	if err != nil {
		return b, "", err
	}
	defer file.Close()
	text, err := io.ReadAll(io.LimitReader(file, definitionMost))
	if err != nil {
		return b, "", err
	}
	now, err := bench.Read(text)
	if err != nil {
		b.Problems = append(b.Problems, def.Path+": "+err.Error())
		return b, def.Path, nil
	}
	return now, def.Path, nil
}

// offers are ways to begin debugging that the tree holds. What cannot be searched
// offers none.
func (s *Benches) offers(ctx context.Context, a Actor, ref string) []bench.Configuration {
	var mains []string
	tests := false
	look := func(named, text string, found func(string)) {
		_ = s.files.Search(ctx, a, Path{Ref: ref}, Search{Named: named, Text: text, Exact: true, Limit: mainsMost}, func(f wire.Found) error {
			if f.Path != "" && len(f.Raw) == 0 {
				found(f.Path)
			}
			return nil
		})
	}
	look("*.py", "if __name__ ==", func(p string) {
		if !slices.Contains(mains, p) {
			mains = append(mains, p)
		}
	})
	look("test_*.py", "", func(string) { tests = true })
	slices.SortFunc(mains, func(a, b string) int {
		if d := strings.Count(a, "/") - strings.Count(b, "/"); d != 0 {
			return d
		}
		return strings.Compare(a, b)
	})
	return bench.Offers(mains, tests)
}

// Language begins the program that serves a language. The stream is the caller's to
// close, and the program ends with it.
func (s *Benches) Language(ctx context.Context, a Actor, ref, id string) (*steward.Conn, error) {
	b, _, err := s.read(ctx, a, ref)
	if err != nil {
		return nil, err
	}
	l, ok := b.Language(id)
	if !ok {
		return nil, notFound("language", id, "the workspace's bench has them")
	}
	return s.run(ctx, a, ref, "language-server", l.Script(), true)
}

// Debugger begins a debug adapter, or finds the one that listens on a port of the
// workspace's loopback already. The stream is the caller's to close; an adapter that was
// begun ends with it.
func (s *Benches) Debugger(ctx context.Context, a Actor, ref, id string, port int) (*steward.Conn, error) {
	if port != 0 {
		if err := checkPort(port); err != nil {
			return nil, err
		}
		c, _, err := s.sessions.open(ctx, a, ref, "debugger", func(_ store.Workspace, r *steward.Request) error {
			r.Process.Errand, r.Process.Argv = steward.Connect, []string{"tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port))}
			return nil
		})
		return c, err
	}
	b, _, err := s.read(ctx, a, ref)
	if err != nil {
		return nil, err
	}
	x, ok := b.Adapter(id)
	if !ok {
		return nil, notFound("debug adapter", id, "the workspace's bench has them")
	}
	return s.run(ctx, a, ref, "debugger", x.Script(), false)
}

// run runs a script of ours as the workspace's user, in its folder. One
// that works for an editor alone is no sign of work, and is given no secrets.
func (s *Benches) run(ctx context.Context, a Actor, ref, what, script string, editor bool) (*steward.Conn, error) {
	c, _, err := s.sessions.open(ctx, a, ref, what, func(_ store.Workspace, r *steward.Request) error {
		r.Process.Argv = []string{"/bin/sh", "-c", script}
		if r.Process.Quiet = editor; editor {
			for name := range r.Process.Secrets {
				delete(r.Process.Env, name)
			}
			r.Process.Secrets, r.Process.Files = nil, nil
		}
		return nil
	})
	return c, err
}
