// Package cli is the command line: Cobra commands over the client, and their
// output. Tables for people, --json for programs; progress and colour on a
// terminal only.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"unicode"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"yardbench/internal/client"
	"yardbench/internal/durable"
	"yardbench/internal/wire"
)

// The commands, by what they are about.
type (
	workspaceCommands  struct{ *app }
	adoptCommands      struct{ *app }
	definitionCommands struct{ *app }
	portCommands       struct{ *app }
	rulesCommands      struct{ *app }
	journalCommands    struct{ *app }
	prebuildCommands   struct{ *app }
	peopleCommands     struct{ *app }
	serviceCommands    struct{ *app }
)

// Exit codes, as documented in docs/cli.md.
const (
	exitError     = 1   // anything not named below
	exitUsage     = 2   // the command line is wrong
	exitNotFound  = 3   // what was named does not exist
	exitRefused   = 4   // refused: wrong input, a conflict, no right
	exitSignIn    = 5   // not signed in
	exitFailed    = 6   // the workspace failed to come up, or failed on its way
	exitAway      = 7   // the service does not answer
	exitInterrupt = 130 // Ctrl-C; what was asked for goes on
)

// exit is an error that only carries an exit code: all was said already.
type exit int

func (e exit) Error() string { return fmt.Sprintf("exit code %d", int(e)) }

// usage is an error of the command line itself.
type usage struct{ error }

// app is what commands share.
type app struct {
	in       *os.File
	out, err io.Writer
	json     bool
	address  string
}

// Main runs the command line and gives the exit code.
func Main(args []string) int {
	ctx, cancel := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer cancel()
	a := &app{in: os.Stdin, out: os.Stdout, err: os.Stderr}
	root := a.root()
	root.SetArgs(args)
	root.SetOut(a.out)
	root.SetErr(a.err)
	return a.report(root.ExecuteContext(ctx))
}

// report says an error and picks its exit code.
func (a *app) report(err error) int {
	var code exit
	var p *wire.Problem
	var away *client.Unreachable
	var u usage
	switch {
	case err == nil:
		return 0
	case errors.As(err, &code):
		return int(code)
	case errors.Is(err, context.Canceled):
		return exitInterrupt
	case errors.As(err, &p):
		a.say(p)
		switch p.Status {
		case 404:
			return exitNotFound
		case 401:
			return exitSignIn
		case 400, 403, 409, 422, 429:
			return exitRefused
		}
		return exitError
	case errors.As(err, &away):
		a.say(err)
		return exitAway
	case errors.As(err, &u), strings.HasPrefix(err.Error(), "unknown command"), strings.HasPrefix(err.Error(), "unknown flag"), strings.HasPrefix(err.Error(), "unknown shorthand"),
		strings.HasPrefix(err.Error(), "flag needs"), strings.HasPrefix(err.Error(), "invalid argument"), strings.HasPrefix(err.Error(), "accepts "), strings.HasPrefix(err.Error(), "requires "):
		a.say(err)
		fmt.Fprintln(a.err, "see: yardbench --help")
		return exitUsage
	}
	a.say(err)
	return exitError
}

func (a *app) say(err error) {
	var p *wire.Problem
	if errors.As(err, &p) && a.json {
		enc := json.NewEncoder(a.err)
		_ = enc.Encode(p) // standard error may be closed
		return
	}
	text := err.Error()
	if errors.As(err, &p) {
		text = p.Detail
		if text == "" {
			text = p.Title
		}
		for _, e := range p.Errors {
			text += "\n  " + e.Field + ": " + e.Detail
		}
		if p.Next != "" {
			text += "\n" + p.Next
		}
	}
	fmt.Fprintln(a.err, "yardbench: "+clean(text))
}

// clean keeps what comes from repositories and workspaces from steering the
// terminal.
func clean(s string) string {
	return strings.Map(func(r rune) rune {
		if r == '\n' || r == '\t' || unicode.IsPrint(r) || unicode.Is(unicode.Zs, r) {
			return r
		}
		return -1
	}, s)
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:           "yardbench",
		Short:         "Development workspaces, launched from the definitions in your repositories",
		SilenceErrors: true, SilenceUsage: true,
	}
	root.PersistentFlags().BoolVar(&a.json, "json", false, "print JSON for programs")
	root.PersistentFlags().StringVar(&a.address, "address", "", "the service's address (default: where you signed in; or YARDBENCH_ADDRESS)")
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return usage{err} })
	root.AddGroup(&cobra.Group{ID: "work", Title: "Workspaces:"}, &cobra.Group{ID: "mine", Title: "You:"}, &cobra.Group{ID: "service", Title: "The service:"})
	for group, commands := range map[string][]*cobra.Command{
		"work":    {(workspaceCommands{a}).launch(), (workspaceCommands{a}).list(), (workspaceCommands{a}).show(), (workspaceCommands{a}).enter(), (workspaceCommands{a}).run(), (workspaceCommands{a}).logs(), (workspaceCommands{a}).start(), (workspaceCommands{a}).stop(), (workspaceCommands{a}).rebuild(), (workspaceCommands{a}).remove(), (workspaceCommands{a}).hold(), (portCommands{a}).ports(), (portCommands{a}).forward(), (workspaceCommands{a}).services()},
		"mine":    {(peopleCommands{a}).signIn(), (peopleCommands{a}).signOut(), (peopleCommands{a}).password(), (peopleCommands{a}).enrol(), (peopleCommands{a}).secret(), (peopleCommands{a}).credential(), (peopleCommands{a}).token(), (rulesCommands{a}).cost()},
		"service": {(peopleCommands{a}).repos(), (definitionCommands{a}).definition(), (definitionCommands{a}).starter(), (prebuildCommands{a}).prebuild(), (adoptCommands{a}).adopt(), (adoptCommands{a}).letGo(), (peopleCommands{a}).people(), (rulesCommands{a}).rules(), (journalCommands{a}).journal(), (journalCommands{a}).webhook(), (serviceCommands{a}).doctor(), (serviceCommands{a}).serve()},
	} {
		for _, c := range commands {
			c.GroupID = group
			root.AddCommand(c)
		}
	}
	root.AddCommand((serviceCommands{a}).demo(), (serviceCommands{a}).openapi(), (serviceCommands{a}).lifecycle())
	return root
}

// signInFile is what is kept of a sign-in, readable by its owner only.
type signInFile struct {
	Address string `json:"address"`
	Name    string `json:"name"`
	Token   string `json:"token"`
}

func signInPath() (string, error) {
	if dir := os.Getenv("YARDBENCH_CONFIG"); dir != "" {
		return filepath.Join(dir, "sign-in.json"), nil
	}
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", err
	}
	return filepath.Join(dir, "yardbench", "sign-in.json"), nil
}

func readSignIn() (f signInFile) {
	if p, err := signInPath(); err == nil {
		if b, err := os.ReadFile(p); err == nil {
			_ = json.Unmarshal(b, &f) // a damaged file is as good as none
		}
	}
	return f
}

func (f signInFile) save() error {
	p, err := signInPath()
	if err != nil {
		return err
	}
	b, err := json.Marshal(f)
	if err != nil {
		return err
	}
	return durable.Write(p, b, 0o600)
}

// client is for the service that one is signed in to.
func (a *app) client() (*client.Client, error) {
	f := readSignIn()
	address := a.address
	if address == "" {
		address = os.Getenv("YARDBENCH_ADDRESS")
	}
	token := os.Getenv("YARDBENCH_TOKEN")
	if address == "" || address == f.Address {
		address = f.Address
		if token == "" {
			token = f.Token
		}
	}
	if address == "" {
		return nil, &wire.Problem{Status: 401, Detail: "you are not signed in", Next: "sign in with: yardbench sign-in ADDRESS"}
	}
	return client.New(address, token)
}

// print writes v as JSON where --json was given, and calls table otherwise.
func (a *app) print(v any, table func()) error {
	if !a.json {
		table()
		return nil
	}
	enc := json.NewEncoder(a.out)
	enc.SetIndent("", "  ")
	return enc.Encode(v)
}

func isTerminal(w any) bool {
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// readHidden reads a value from the terminal without echo, or from standard
// input where that is no terminal. A closing line end is not part of it.
func (a *app) readHidden(prompt string) (string, error) {
	if isTerminal(a.in) {
		fmt.Fprint(a.err, prompt)
		b, err := term.ReadPassword(int(a.in.Fd()))
		fmt.Fprintln(a.err)
		return string(b), err
	}
	b, err := io.ReadAll(io.LimitReader(a.in, 1<<20))
	return strings.TrimSuffix(strings.TrimSuffix(string(b), "\n"), "\r"), err
}
