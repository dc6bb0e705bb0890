package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strings"
	"sync/atomic"
	"syscall"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"yardbench/client"
	"yardbench/wire"
)

func (a workspaceCommands) enter() *cobra.Command {
	var label, why string
	c := &cobra.Command{
		Use: "enter NAME", Short: "Open a terminal in a workspace, or join the one left open",
		Long: "Open a terminal in the workspace folder, as the definition's user. A terminal outlives a lost connection or a closed window: " +
			"entering again joins it where it was. It ends when its shell does. Ctrl-^ twice leaves it and comes back here; what runs in it goes on.",
		Example: "  yardbench enter tide-board\n  yardbench enter tide-board --terminal second\n  yardbench enter tide-board.ingrid --why 'her build hangs, and she asked'", Args: cobra.ExactArgs(1), ValidArgsFunction: a.names,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			if !isTerminal(a.in) {
				return usage{fmt.Errorf("enter needs a terminal here; for piped input: yardbench run %s -- sh", args[0])}
			}
			in := wire.Run{Terminal: label, Wake: true, Reason: why}
			in.Columns, in.Rows = size()
			return a.session(cmd.Context(), api, args[0], in, true)
		}),
	}
	c.Flags().StringVar(&label, "terminal", "", "which terminal, by a label of your own (default: main)")
	c.Flags().StringVar(&why, "why", "", whyEnter)
	return c
}

func (a workspaceCommands) run() *cobra.Command {
	var in wire.Run
	var env []string
	c := &cobra.Command{
		Use: "run NAME -- COMMAND [ARGUMENT...]", Short: "Run one command in a workspace",
		Long: "Run one command in the workspace folder, as the definition's user. Input, output and the exit code are passed through. " +
			"127 is also what is given where there is no such program, 125 where it was not begun, 255 where it was lost sight of.",
		Example: "  yardbench run tide-board -- make check\n  yardbench run tide-board -- sh -c 'wc -l *.py' > lines.txt\n  yardbench run --folder docs --env LANG=nb_NO.UTF-8 tide-board -- make\n  yardbench run --tty tide-board -- vi Makefile", Args: cobra.MinimumNArgs(2), ValidArgsFunction: a.names,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			argv := args[1:]
			if argv[0] == "--" {
				argv = argv[1:]
			}
			if len(argv) == 0 {
				return usage{errors.New("name a command to run: yardbench run NAME -- COMMAND")}
			}
			in.Argv, in.Wake = argv, true
			for _, e := range env {
				name, value, given := strings.Cut(e, "=")
				if !given {
					value = os.Getenv(name)
				}
				if in.Env == nil {
					in.Env = map[string]string{}
				}
				in.Env[name] = value
			}
			if in.TTY {
				if !isTerminal(a.in) {
					return usage{errors.New("--tty needs a terminal here; leave it out for piped input")}
				}
				in.Columns, in.Rows = size()
			}
			return a.session(cmd.Context(), api, args[0], in, in.TTY)
		}),
	}
	c.Flags().StringVar(&in.Reason, "why", "", whyEnter)
	c.Flags().BoolVar(&in.TTY, "tty", false, "run it in a terminal, for programs that want one")
	c.Flags().StringVar(&in.Folder, "folder", "", "where it is run: a path, from the workspace folder")
	c.Flags().StringArrayVar(&env, "env", nil, "a variable, NAME=VALUE, or NAME alone for the value that it has here; given again, both")
	c.Flags().SetInterspersed(false) // what follows NAME belongs to the command
	return c
}

const whyEnter = "why you enter somebody else's workspace, which its owner reads (operators, where the house rules let them)"

// size is the size of the terminal here; 0 by 0 means the usual one.
func size() (columns, rows int) {
	if fd := int(os.Stdout.Fd()); term.IsTerminal(fd) {
		columns, rows, _ = term.GetSize(fd) // 0 by 0 it is then
	}
	return columns, rows
}

// leaveKey is the key (Ctrl-^) that leaves a terminal when it is pressed twice.
const leaveKey = 0x1e

// leaves tells where in what was typed somebody leaves, and whether the last key of
// it was the first of the two; -1 is nowhere. before tells that of what came before.
func leaves(typed []byte, before bool) (at int, last bool) {
	for i, b := range typed {
		if b != leaveKey {
			before = false
			continue
		}
		if before {
			return i, false
		}
		before = true
	}
	return -1, before
}

// session passes input and output until the command or shell has ended, and
// gives its exit code. raw is for a terminal here.
func (a workspaceCommands) session(ctx context.Context, api *client.Client, ref string, in wire.Run, raw bool) error {
	s, err := api.Workspaces.Open(ctx, ref, in)
	if err != nil {
		return err
	}
	defer s.Close()
	stop := context.AfterFunc(ctx, func() { s.Close() })
	defer stop()
	s.Lost = func(why error) {
		switch {
		case why == nil:
		case raw:
			fmt.Fprint(a.err, "\r\nyardbench: the connection is lost; what runs in the terminal goes on, and it is being connected again\r\n")
		case !a.quiet:
			fmt.Fprintln(a.err, "yardbench: the connection is lost; what runs goes on for 90 seconds, and it is being connected again")
		}
	}
	if raw {
		old, err := term.MakeRaw(int(a.in.Fd()))
		if err != nil {
			return fmt.Errorf("use the terminal: %w", err)
		}
		defer term.Restore(int(a.in.Fd()), old) //nolint:errcheck // nothing is left to be done about it
	}
	var left atomic.Bool
	frames := make(chan frame)
	quit := make(chan struct{})
	defer close(quit)
	send := func(f frame) bool {
		select {
		case frames <- f:
			return true
		case <-quit:
			return false
		}
	}
	go func() { // the one sender
		for {
			select {
			case f := <-frames:
				if s.Send(f.kind, f.p) != nil {
					return // the receiver says why
				}
			case <-quit:
				return
			}
		}
	}()
	go func() {
		buf, once := make([]byte, 32<<10), false
		for {
			n, err := a.in.Read(buf)
			if raw && n > 0 {
				at := 0
				if at, once = leaves(buf[:n], once); at >= 0 {
					left.Store(true)
					s.Close()
					return
				}
			}
			if n > 0 && !send(frame{'i', append([]byte(nil), buf[:n]...)}) {
				return
			}
			if err != nil {
				if errors.Is(err, io.EOF) {
					send(frame{'c', nil})
				}
				return
			}
		}
	}()
	if raw {
		resized := make(chan os.Signal, 1)
		signal.Notify(resized, syscall.SIGWINCH)
		defer signal.Stop(resized)
		go func() {
			for {
				select {
				case <-resized:
					if w, h, err := term.GetSize(int(os.Stdout.Fd())); err == nil {
						body, _ := json.Marshal(map[string]int{"columns": w, "rows": h}) // two numbers always marshal
						if !send(frame{'r', body}) {
							return
						}
					}
				case <-quit:
					return
				}
			}
		}()
	}
	recorded := false
	for {
		kind, p, err := s.Receive()
		if err != nil {
			if ctx.Err() != nil {
				return exit(exitInterrupt)
			}
			if left.Load() {
				fmt.Fprintf(a.err, "\r\nleft; what runs in the terminal goes on\r\n")
				return nil
			}
			var p *wire.Problem
			if !errors.As(err, &p) && raw {
				return fmt.Errorf("%w\r\nwhat runs in the terminal goes on; join it again with: yardbench enter %s", err, ref)
			}
			return err
		}
		switch kind {
		case 'o':
			_, err = a.out.Write(p)
		case 'e':
			_, err = a.err.Write(p)
		case 'q':
			if !raw {
				return errors.New("more was printed than is kept while the connection was lost: what came is not whole, and the command is ended")
			}
		case 'w':
			var here wire.Lookers
			if raw && json.Unmarshal(p, &here) == nil { // in the window's title: the screen is the program's
				_, err = fmt.Fprintf(a.err, "\x1b]2;%s: %s\x07", clean(ref), who(here.Lookers))
				if here.Recorded != recorded && err == nil {
					recorded = here.Recorded
					_, err = fmt.Fprintf(a.err, "\r\n\x1b[7m %s \x1b[0m\r\n", map[bool]string{true: "what this terminal prints is recorded from now on", false: "it is not recorded any more"}[recorded])
				}
			}
		case 'x':
			var x struct {
				Code    int    `json:"code"`
				Problem string `json:"problem"`
			}
			if err := json.Unmarshal(p, &x); err != nil {
				return err
			}
			if x.Problem != "" {
				fmt.Fprintln(a.err, "yardbench: "+clean(x.Problem))
			}
			if x.Code == 0 {
				return nil
			}
			return exit(x.Code)
		}
		if err != nil {
			return err
		}
	}
}

type frame struct {
	kind byte
	p    []byte
}
