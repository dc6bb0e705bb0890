package service

import (
	"bytes"
	"cmp"
	"context"
	"io"
	"maps"
	"net"
	"path"
	"regexp"
	"strconv"
	"strings"
	"time"

	"yardbench/internal/core/definition"
	"yardbench/internal/core/journal"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/plain"
	"yardbench/internal/core/policy"
	"yardbench/internal/fault"
	"yardbench/internal/reconcile"
	"yardbench/internal/session"
	"yardbench/internal/steward"
	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
	"yardbench/internal/yard"
	"yardbench/wire"
)

// Sessions opens terminals and commands in workspaces, and what stands beside them.
type Sessions struct {
	hub      reconcile.Stewards
	yard     observer
	printed  serviceLogs // nil where the yard runs no services
	sessions *session.Sessions
	store    *store.Store
	views    *views
	now      func() time.Time
	seats    seats

	recordings *Recordings
}

var terminalLabel = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,31}$`)

// Open opens a command or a terminal in the actor's own workspace. The stream
// is the caller's to close. An operator sees other people's workspaces and
// does not get into them, as their secrets are in there, but where the house rules let
// operators enter with a reason. Whom its owner lets look at a
// terminal gets to that. Of a terminal the seat at it is given.
func (s *Sessions) Open(ctx context.Context, a Actor, ref string, in wire.Run) (*steward.Conn, *Seat, error) {
	if in.Reason != "" {
		if w, others, err := s.enters(ctx, a, ref, in.Reason); err != nil {
			return nil, nil, err
		} else if others {
			return s.enter(ctx, a, w, in)
		}
	}
	c, seat, err := s.own(ctx, a, ref, in)
	if err == nil || len(in.Argv) > 0 {
		return c, seat, err
	}
	w, l, ok, lerr := s.look(ctx, a, ref, cmp.Or(in.Terminal, "main"))
	if lerr != nil || !ok {
		return nil, nil, cmp.Or(lerr, err)
	}
	return s.lookAt(ctx, a, w, l, in)
}

// own opens a command or a terminal in the actor's own workspace.
func (s *Sessions) own(ctx context.Context, a Actor, ref string, in wire.Run) (*steward.Conn, *Seat, error) {
	return s.open(ctx, a, ref, "", func(w store.Workspace, r *steward.Request) error { return s.ask(ctx, w, r, in) })
}

// ask makes a request of what is asked for: a command or a terminal.
func (s *Sessions) ask(ctx context.Context, w store.Workspace, r *steward.Request, in wire.Run) error {
	r.Columns, r.Rows, r.Process.Argv = in.Columns, in.Rows, in.Argv
	if err := place(&r.Process, in); err != nil {
		return err
	}
	plain := len(in.Argv) > 0 && !in.TTY
	if plain && (in.Typist == "" || in.Terminal == "") { // it ends with its connection
		return nil
	}
	if r.From, r.Life, r.Typist = max(0, in.From), in.Life, in.Typist; len(in.Life) > 64 || len(in.Typist) > 64 {
		return invalid("this is no terminal to come back to", "open it without typist and life")
	}
	if plain {
		if r.ID = in.Terminal; !terminalLabel.MatchString(r.ID) {
			return invalid(quote(r.ID)+" is no label for a command", "use lower-case letters, digits and dashes, at most 32")
		}
		return nil
	}
	r.ID = in.Terminal
	if r.ID == "" {
		r.ID = "main"
	}
	if r.ID == "main" && in.TTY { // one of its own
		r.ID = "run-" + store.NewID()[:8]
	}
	return s.terminal(ctx, w, r, "xterm-256color")
}

// Shell is what somebody asks for who comes in by SSH.
type Shell struct {
	Command       string // for the user's shell; "" is the shell itself
	TTY           bool
	Terminal      string // the label of one that lives on; "" is one that ends with its connection
	Term          string // its kind, as TERM
	Columns, Rows int
	Env           map[string]string
}

// Enter opens a command or a terminal as [Sessions.Open] does, for the door of SSH.
func (s *Sessions) Enter(ctx context.Context, a Actor, ref string, in Shell) (*steward.Conn, *Seat, error) {
	return s.open(ctx, a, ref, "", func(w store.Workspace, r *steward.Request) error {
		r.Process.Command, r.Columns, r.Rows = in.Command, in.Columns, in.Rows
		if err := place(&r.Process, wire.Run{Env: in.Env}); err != nil || !in.TTY {
			return err
		}
		if r.ID = in.Terminal; r.ID == "" {
			r.ID, r.Passing = "ssh-"+store.NewID()[:8], true
		}
		return s.terminal(ctx, w, r, cmp.Or(in.Term, "xterm-256color"))
	})
}

// Errand has the workspace's helper do something of its own, as the workspace's
// user; see the protocol for what there is.
func (s *Sessions) Errand(ctx context.Context, a Actor, ref, errand string, args ...string) (*steward.Conn, error) {
	c, _, err := s.open(ctx, a, ref, "", func(_ store.Workspace, r *steward.Request) error {
		r.Process.Errand, r.Process.Argv = errand, args
		return nil
	})
	return c, err
}

// Bring has a helper in the actor's own workspace listen on a port of its loopback. What
// it gives carries yamux; see [steward.Listen].
func (s *Sessions) Bring(ctx context.Context, a Actor, ref string, port int) (*steward.Pipe, error) {
	if err := checkPort(port); err != nil {
		return nil, err
	}
	c, err := s.Errand(ctx, a, ref, steward.Listen, "tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
	if err != nil {
		return nil, err
	}
	return steward.NewPipe(c), nil
}

// terminal makes a request one for a terminal.
func (s *Sessions) terminal(ctx context.Context, w store.Workspace, r *steward.Request, term string) error {
	r.Kind = steward.Terminal
	if !terminalLabel.MatchString(r.ID) {
		return invalid(quote(r.ID)+" is no label for a terminal", "use lower-case letters, digits and dashes, at most 32")
	}
	if len(r.Process.Argv) == 0 && r.Process.Command == "" { // a shell, not a program that would take it for its input
		first, err := s.store.Read().FirstLine(ctx, w.ID)
		if err != nil {
			return err
		}
		r.First = first
		if script, ok := s.greeting(ctx, w); ok {
			r.Process.Argv = []string{"/bin/sh", "-c", script + "exec \"$SHELL\""}
		}
	}
	r.Process.Env["TERM"], r.Process.Env["COLORTERM"] = term, "truecolor"
	return nil
}

// unwritten is what the journal has no entry of.
const unwritten = "-"

// open has a workspace's steward do what build makes a request for. The journal calls
// it by what, or by what is asked.
func (s *Sessions) open(ctx context.Context, a Actor, ref, what string, build func(store.Workspace, *steward.Request) error) (*steward.Conn, *Seat, error) {
	w, _, err := s.views.findTo(ctx, a, ref, policy.UseWorkspace, "open a terminal or run commands in")
	if err != nil {
		return nil, nil, err
	}
	if err := lifecycle.Permit(lifecycle.Use, w.Phase, w.Plan.Adopted != nil); err != nil {
		return nil, nil, about(ref, a, fromRoom(err))
	}
	w.NextPlan = nil // the body in use, not what a rebuild is making
	session, opened, err := s.sessions.Of(ctx, w)
	if err != nil {
		return nil, nil, err
	}
	r := steward.Request{Kind: steward.Run, Process: session}
	if err := build(w, &r); err != nil {
		return nil, nil, err
	}
	return s.begin(ctx, a, w, r, what, opened.Given)
}

// begin has a workspace's steward do what is asked; see open.
func (s *Sessions) begin(ctx context.Context, a Actor, w store.Workspace, r steward.Request, what string, given []store.Secret) (*steward.Conn, *Seat, error) {
	r.Recorded = r.Kind == steward.Terminal && s.recordings.recorded(ctx)
	c, err := s.hub.Ask(ctx, outside.Link(w.ID, w.Body), r)
	if err != nil {
		return nil, nil, fromRoom(err)
	}
	if r.Recorded {
		s.recordings.keep(ctx, w, r.ID)
	}
	if what = cmp.Or(what, r.Process.Errand, string(r.Kind)); what != unwritten {
		err = s.store.Write(ctx, func(tx *store.Tx) error {
			if err := tx.SecretsUsed(ctx, given); err != nil {
				return err
			}
			return tx.Journal(ctx, w.ID, w.OwnerID, a.ID, journal.SessionOpened{What: what, Secrets: r.Process.Secrets})
		})
	}
	if err != nil {
		c.Stream.Close()
		return nil, nil, err
	}
	if r.Kind != steward.Terminal {
		return c, nil, nil
	}
	return c, s.sit(a, w, r.ID, false, c), nil
}

var variableName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]{0,127}$`)

// place puts where a command runs, and with which variables, into its process.
func place(p *steward.Process, in wire.Run) error {
	size := 0
	for name, value := range in.Env {
		if size += len(name) + len(value); !variableName.MatchString(name) || strings.ContainsRune(value, 0) {
			return at(invalid(quote(name)+" is no variable", ""), "/env", "letters, digits and underlines, not a digit first")
		}
	}
	if len(in.Env) > 64 || size > 64<<10 {
		return at(invalid("there are too many variables", ""), "/env", "at most 64, of 64 KiB together")
	}
	if strings.ContainsRune(in.Folder, 0) || len(in.Folder) > 4096 {
		return at(invalid("this is no folder", ""), "/folder", "a path, from the workspace folder")
	}
	if p.Env == nil {
		p.Env = map[string]string{}
	}
	maps.Copy(p.Env, in.Env)
	switch {
	case path.IsAbs(in.Folder):
		p.Folder = path.Clean(in.Folder)
	case in.Folder != "":
		p.Folder = path.Join(p.Folder, in.Folder)
	}
	return nil
}

// greeting is what a new terminal begins with, as a shell's script: what a
// person should know of the workspace, and what the definition runs when
// somebody attaches (postAttachCommand).
func (s *Sessions) greeting(ctx context.Context, w store.Workspace) (script string, ok bool) {
	conditions, err := s.store.Read().Conditions(ctx, w.ID)
	if err != nil {
		return "", false // the terminal is worth more than its greeting
	}
	usual, err := s.store.Read().UsualOf(ctx, w.OwnerID)
	if err != nil {
		return "", false
	}
	if usual.Shell != "" {
		shell := plain.Word(usual.Shell)
		script += "if yardbench_shell=$(command -v " + shell + "); then SHELL=$yardbench_shell; export SHELL; unset yardbench_shell; else printf '%s\\n' " + plain.Word("Your usual shell, "+usual.Shell+", is not in this workspace's image: this is its user's own.") + "; fi\n"
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

// observer looks at what the yard has of a workspace.
type observer interface {
	Observe(ctx context.Context, workspace string) (yard.Observation, error)
}

// serviceLogs reads what services printed.
type serviceLogs interface {
	ServiceLog(ctx context.Context, workspace string, number int, service string, lines int, to io.Writer) error
}

// Services tells of the services beside a workspace, in the order in which
// they start.
func (s *Sessions) Services(ctx context.Context, a Actor, ref string) ([]wire.Service, error) {
	w, err := s.views.find(ctx, a, ref)
	if err != nil {
		return nil, err
	}
	out := []wire.Service{}
	c := w.Plan.Definition.Compose
	if c == nil {
		return out, nil
	}
	o, err := s.yard.Observe(ctx, w.ID)
	if err != nil {
		return nil, fromRoom(err)
	}
	for _, v := range c.Services {
		x := wire.Service{Name: v.Name, Image: v.Image, Ports: append([]int{}, v.Ports...), Needs: []string{}, State: "absent"}
		if v.Build != nil {
			x.Image = v.Build.Dockerfile
		}
		for _, n := range v.Needs {
			x.Needs = append(x.Needs, n.Service+" "+strings.TrimPrefix(n.Condition, "service_"))
		}
		if state, ok := o.Services[w.Body][v.Name]; ok {
			if x.State, x.Problem = serviceState(state); w.Phase == lifecycle.Stopped && state.Body == lifecycle.Ended {
				x.State, x.Problem = "ended", "" // it was stopped with the workspace
			}
		}
		out = append(out, x)
	}
	return out, nil
}

// ServiceLog gives the newest lines of a service's log.
func (s *Sessions) ServiceLog(ctx context.Context, a Actor, ref, name string) ([]byte, error) {
	w, err := s.views.find(ctx, a, ref)
	if err != nil {
		return nil, err
	}
	if !hasService(w, name) {
		return nil, invalid("beside "+quote(w.Name)+" there is no service "+quote(name), "see them", fault.Do("list-services", w.Name))
	}
	var out bytes.Buffer
	if s.printed == nil {
		return nil, invalid("this yard keeps no logs of services", "")
	}
	if err := s.printed.ServiceLog(ctx, w.ID, w.Body, name, serviceLogLines, &out); err != nil {
		return nil, fromRoom(err)
	}
	return out.Bytes(), nil
}

// serviceState is how a service stands, in a word, and why it ended badly.
func serviceState(s yard.ServiceState) (state, problem string) {
	switch {
	case s.Body == lifecycle.Created:
		return "made", ""
	case s.Body == lifecycle.Ended && s.ExitCode == 0:
		return "ended", ""
	case s.Body == lifecycle.Ended:
		return "failed", s.Problem
	case s.Health != "":
		return s.Health, ""
	}
	return "running", ""
}

// serviceLogLines bounds what is shown of a service's log.
const serviceLogLines = 2000

func hasService(w store.Workspace, name string) bool {
	if c := w.Plan.Definition.Compose; c != nil {
		for _, v := range c.Services {
			if v.Name == name {
				return true
			}
		}
	}
	return false
}
