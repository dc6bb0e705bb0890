// Package cli is the command line: Cobra commands over the client, and their
// output. Tables for people, --json for programs; progress and colour on a
// terminal only.
package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"text/template"
	"time"
	"unicode"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"yardbench/client"
	"yardbench/internal/core/plain"
	"yardbench/internal/durable"
	"yardbench/wire"
)

// The commands, by what they are about.
type (
	workspaceCommands  struct{ *app }
	linkCommands       struct{ *app }
	operationCommands  struct{ *app }
	errandCommands     struct{ *app }
	fileCommands       struct{ *app }
	adoptCommands      struct{ *app }
	definitionCommands struct{ *app }
	portCommands       struct{ *app }
	attentionCommands  struct{ *app }
	recordingCommands  struct{ *app }
	rulesCommands      struct{ *app }
	journalCommands    struct{ *app }
	prebuildCommands   struct{ *app }
	peopleCommands     struct{ *app }
	secretCommands     struct{ *app }
	guestCommands      struct{ *app }
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
	exitLater     = 8   // not now: asked again later it may go well
	exitNotBegun  = 125 // of run and enter: what was to run was not begun
	exitInterrupt = 130 // Ctrl-C; what was asked for goes on
	exitCutOff    = 255 // of run and enter: what runs was lost sight of
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
	json     bool   // what is printed is for programs
	form     string // in which form
	template *template.Template
	quiet    bool
	wide     bool   // tables for people have more columns
	noHead   bool   // tables have no head
	service  string // which of several services; empty is the one signed in to last
	yes      bool   // nothing that cannot be undone is asked about
	noInput  bool   // nobody is there to be asked
	address  string
	running  *cobra.Command
	asked    string // the command that was meant, as it is written
	began    bool   // what the command does has begun: the command line was right
	carries  bool   // the exit code is that of what ran
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
	asked, err := root.ExecuteContextC(ctx)
	a.asked = asked.CommandPath()
	a.json = a.json || !a.began && slices.Contains(args, "--json") // where the rest of the line was not read
	return a.report(err)
}

// report says an error and picks its exit code.
func (a *app) report(err error) int {
	var code exit
	switch {
	case err == nil:
		return 0
	case errors.As(err, &code):
		return int(code)
	case errors.Is(err, context.Canceled):
		return exitInterrupt
	}
	p, n := a.told(err)
	if a.carries {
		switch n {
		case exitAway, exitLater, exitError:
			n = exitCutOff
		default:
			n = exitNotBegun
		}
	}
	a.say(p, n)
	return n
}

// told is what an error is told as, with its exit code.
func (a *app) told(err error) (*wire.Problem, int) {
	var p *wire.Problem
	var away *client.Unreachable
	var u usage
	switch {
	case errors.As(err, &p):
		code := exitError
		switch p.Status {
		case http.StatusNotFound:
			code = exitNotFound
		case http.StatusUnauthorized:
			code = exitSignIn
		case http.StatusBadRequest, http.StatusForbidden, http.StatusConflict, http.StatusPreconditionFailed, http.StatusUnprocessableEntity:
			code = exitRefused
		case http.StatusTooManyRequests, http.StatusBadGateway, http.StatusServiceUnavailable, http.StatusGatewayTimeout, http.StatusInsufficientStorage:
			code = exitLater
		}
		return p, code
	case errors.As(err, &away):
		what, next, _ := strings.Cut(away.Error(), "\n")
		return &wire.Problem{Type: wire.ProblemPrefix + "away", Title: "The service does not answer", Detail: what, Next: next}, exitAway
	case !a.began, errors.As(err, &u):
		return &wire.Problem{Type: wire.ProblemPrefix + "command-line", Title: "The command line is wrong", Detail: err.Error(), Next: "see: " + cmp.Or(a.asked, "yardbench") + " --help"}, exitUsage
	}
	what, next, _ := strings.Cut(err.Error(), "\n")
	return &wire.Problem{Type: wire.ProblemPrefix + "here", Title: "It failed here", Detail: what, Next: next}, exitError
}

// say says a problem on standard error: with --json as one object on one line.
func (a *app) say(p *wire.Problem, code int) {
	if a.json && (a.form == "" || strings.HasPrefix(a.form, "json")) {
		_ = json.NewEncoder(a.err).Encode(struct { // standard error may be closed
			*wire.Problem
			ExitCode int `json:"exit_code"`
		}{p, code})
		return
	}
	text := cmp.Or(p.Detail, p.Title)
	for _, l := range p.Limits {
		text += fmt.Sprintf("\n  %s, %s: %s", l.Kind, l.Whose, l.Text)
		if l.Line > 0 {
			text += fmt.Sprintf(" (line %d of the house rules, version %d)", l.Line, p.RulesVersion)
		}
	}
	for _, e := range p.Errors {
		text += "\n  " + flagOf(a.running, e.Field) + ": " + e.Detail
	}
	if next := nextSteps(p); next != "" {
		text += "\n" + next
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
		Version: orUnknown(wire.Version()),
	}
	root.SetVersionTemplate("yardbench {{.Version}}\n")
	root.PersistentFlags().BoolVar(&a.json, "json", false, "print JSON for programs")
	root.PersistentFlags().BoolVar(&a.yes, "yes", false, "do not ask whether what cannot be undone is meant")
	root.PersistentFlags().BoolVar(&a.noInput, "no-input", false, "ask nothing, and read nothing: what would have to be asked is refused")
	root.PersistentFlags().StringVar(&a.address, "address", "", "the service's address (default: where you signed in; or YARDBENCH_ADDRESS)")
	root.PersistentFlags().StringVarP(&a.form, "output", "o", "", "print for programs: json, jsonl (one object a line), name, or template=TEXT (a template of Go, over each); or wide: for people, with more columns")
	root.PersistentFlags().BoolVar(&a.noHead, "no-head", false, "tables without their head")
	root.PersistentFlags().StringVar(&a.service, "service", "", "which of several services you are signed in to, by the name that you gave it (default: the one signed in to last; or YARDBENCH_SERVICE)")
	root.PersistentFlags().BoolVarP(&a.quiet, "quiet", "q", false, "no progress, and of what is made its name alone")
	root.AddGroup(&cobra.Group{ID: "work", Title: "Workspaces:"}, &cobra.Group{ID: "mine", Title: "You:"}, &cobra.Group{ID: "service", Title: "The service:"})
	for group, commands := range map[string][]*cobra.Command{
		"work":    {(workspaceCommands{a}).launch(), (linkCommands{a}).launchLink(), (errandCommands{a}).errand(), (workspaceCommands{a}).list(), (workspaceCommands{a}).show(), (workspaceCommands{a}).enter(), (workspaceCommands{a}).terminal(), (workspaceCommands{a}).look(), (recordingCommands{a}).recording(), (workspaceCommands{a}).run(), (sshCommands{a}).ssh(), (fileCommands{a}).copy(), (workspaceCommands{a}).logs(), (workspaceCommands{a}).start(), (workspaceCommands{a}).stop(), (workspaceCommands{a}).rebuild(), (workspaceCommands{a}).remove(), (workspaceCommands{a}).wait(), (workspaceCommands{a}).hold(), (workspaceCommands{a}).allowPush(), (operationCommands{a}).tell(), (operationCommands{a}).heed(), (operationCommands{a}).operation(), (portCommands{a}).port(), (portCommands{a}).lookLink(), (portCommands{a}).forward(), (portCommands{a}).open(), (workspaceCommands{a}).service(), (workspaceCommands{a}).bench()},
		"mine":    {(peopleCommands{a}).signIn(), (peopleCommands{a}).signOut(), (peopleCommands{a}).whoami(), (peopleCommands{a}).me(), (peopleCommands{a}).password(), (peopleCommands{a}).enrol(), (secretCommands{a}).secret(), (peopleCommands{a}).credential(), (peopleCommands{a}).token(), (sshCommands{a}).key(), (rulesCommands{a}).cost()},
		"service": {(attentionCommands{a}).attention(), (peopleCommands{a}).repository(), (peopleCommands{a}).branch(), (definitionCommands{a}).definition(), (definitionCommands{a}).starter(), (prebuildCommands{a}).prebuild(), (adoptCommands{a}).container(), (adoptCommands{a}).adopt(), (adoptCommands{a}).letGo(), (adoptCommands{a}).quarantine(), (peopleCommands{a}).person(), (peopleCommands{a}).program(), (peopleCommands{a}).team(), (peopleCommands{a}).enrolment(), (guestCommands{a}).guest(), (peopleCommands{a}).provider(), (gitHostCommands{a}).gitHost(), (rulesCommands{a}).rules(), (journalCommands{a}).journal(), (journalCommands{a}).webhook(), (serviceCommands{a}).keys(), (serviceCommands{a}).backup(), (serviceCommands{a}).doctor(), (serviceCommands{a}).version(), (serviceCommands{a}).config(), (serviceCommands{a}).yard(), (serviceCommands{a}).serve()},
	} {
		for _, c := range commands {
			c.GroupID = group
			root.AddCommand(c)
		}
	}
	root.AddCommand((serviceCommands{a}).demo(), (serviceCommands{a}).openapi(), (serviceCommands{a}).lifecycle(), (serviceCommands{a}).problems(), (serviceCommands{a}).settings())
	root.SetHelpCommand(helper())
	root.InitDefaultHelpCmd()
	root.InitDefaultCompletionCmd()
	_ = root.RegisterFlagCompletionFunc("output", cobra.FixedCompletions(append(forms, templateForm), cobra.ShellCompDirectiveNoFileComp|cobra.ShellCompDirectiveNoSpace)) // the flag is there
	_ = root.RegisterFlagCompletionFunc("service", func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		return slices.Sorted(maps.Keys(readSignIns().Services)), cobra.ShellCompDirectiveNoFileComp
	}) // the flag is there
	a.completeFlags(root)
	a.strict(root)
	return root
}

// signIns are what is kept of sign-ins, readable by their owner only.
type signIns struct {
	Last     string                `json:"last"` // the one that is meant where none is named
	Services map[string]signedInAt `json:"services"`
}

// signedInAt is a sign-in at one service.
type signedInAt struct {
	Address string `json:"address"`
	Name    string `json:"name"`
	Token   string `json:"token"`
	// Renewed is when it was given that value.
	Renewed time.Time `json:"renewed,omitzero"`
}

// usualService is the name of the one that nobody gave a name.
const usualService = "main"

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

func readSignIns() (f signIns) {
	if p, err := signInPath(); err == nil {
		if b, err := os.ReadFile(p); err == nil {
			_ = json.Unmarshal(b, &f) // a damaged file is as good as none
		}
	}
	if f.Services == nil {
		f.Services = map[string]signedInAt{}
	}
	return f
}

// named is the name of the service that is meant.
func (a *app) named(f signIns) string {
	return cmp.Or(a.service, os.Getenv("YARDBENCH_SERVICE"), f.Last, usualService)
}

// signedIn is the sign-in at the service that is meant; the zero one where there is
// none.
func signedIn(a *app) signedInAt {
	f := readSignIns()
	return f.Services[a.named(f)]
}

// keepSignIn keeps a sign-in under the name of the service that is meant, or forgets it,
// where it is the zero one.
func keepSignIn(a *app, in signedInAt) error {
	return changeSignIns(2*renewWithin, func(f *signIns) bool {
		name := a.named(*f)
		if in == (signedInAt{}) {
			delete(f.Services, name)
			if f.Last = ""; len(f.Services) == 1 {
				for only := range f.Services {
					f.Last = only
				}
			}
		} else {
			f.Services[name], f.Last = in, name
		}
		return true
	})
}

// changeSignIns changes what is kept of sign-ins, one command after the other: it waits for
// another's turn so long at most. Nothing is written where do says so.
func changeSignIns(wait time.Duration, do func(*signIns) bool) error {
	p, err := signInPath()
	if err == nil {
		err = os.MkdirAll(filepath.Dir(p), 0o700)
	}
	if err != nil {
		return err
	}
	lock, err := os.OpenFile(p+".lock", os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	defer lock.Close()
	for end := time.Now().Add(wait); ; time.Sleep(20 * time.Millisecond) {
		if err = syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err == nil {
			break
		}
		if time.Now().After(end) {
			return fmt.Errorf("another command changes %s: %w", p, err)
		}
	}
	f := readSignIns()
	if !do(&f) {
		return nil
	}
	b, err := json.Marshal(f)
	if err != nil {
		return err
	}
	return durable.Write(p, b, 0o600)
}

const (
	// renewEach is how old the value of a sign-in gets: a copy of it is worth no more.
	renewEach = 24 * time.Hour
	// renewWithin bounds what a command waits for a newer one.
	renewWithin = 5 * time.Second
)

// renewSignIn gives the sign-in at the service that is meant another value, once its own is a
// day old. Where that cannot be, or another command is at it, the old one is as good as it was.
func renewSignIn(a *app) {
	if f := signedIn(a); f.Token == "" || time.Since(f.Renewed) < renewEach {
		return
	}
	_ = changeSignIns(0, func(all *signIns) bool {
		name := a.named(*all)
		f := all.Services[name]
		if f.Token == "" || time.Since(f.Renewed) < renewEach {
			return false // another command has done it
		}
		c, err := client.New(f.Address, f.Token)
		if err != nil {
			return false
		}
		ctx, cancel := context.WithTimeout(context.Background(), renewWithin)
		defer cancel()
		in, err := c.Self.Renew(ctx)
		if answered := (*wire.Problem)(nil); err != nil && !errors.As(err, &answered) {
			return false
		}
		if f.Renewed = time.Now(); err == nil { // a service that says no is asked again tomorrow
			f.Token = in.Token
		}
		all.Services[name] = f
		return true
	})
}

// client is for the service that one is signed in to.
func (a *app) client() (*client.Client, error) {
	f := signedIn(a)
	address := a.address
	if address == "" {
		address = os.Getenv("YARDBENCH_ADDRESS")
	}
	token, kept := os.Getenv("YARDBENCH_TOKEN"), false
	if address == "" || address == f.Address {
		address = f.Address
		if token == "" && f.Token != "" {
			renewSignIn(a)
			f = signedIn(a)
			token, kept = f.Token, true
		}
	}
	if address == "" {
		p := &wire.Problem{Status: 401, Detail: "you are not signed in", Next: "sign in with: yardbench sign-in ADDRESS"}
		if all := readSignIns(); len(all.Services) > 0 {
			known := slices.Sorted(maps.Keys(all.Services))
			p.Detail, p.Next = fmt.Sprintf("you are signed in to no service that you call %q", plain.Line(a.named(all), 40)), "you are to: "+strings.Join(known, ", ")
		}
		return nil, p
	}
	c, err := client.New(address, token)
	if err == nil {
		c.Zone = tellIn
	}
	if err == nil && kept {
		c.Renewed = func() string {
			if now := signedIn(a); now.Address == f.Address && now.Name == f.Name {
				return now.Token
			}
			return token // another has signed in here meanwhile
		}
	}
	return c, err
}

// print writes v as JSON where --json was given, and calls table otherwise.
func (a *app) print(v any, table func()) error {
	if !a.json {
		table()
		return nil
	}
	return a.toProgram(v)
}

func isTerminal(w any) bool {
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// readHidden reads a value from the terminal without echo, or from standard
// input where that is no terminal. A closing line end is not part of it.
func (a *app) readHidden(prompt string) (string, error) {
	if a.noInput {
		return "", usage{errors.New("this is read from the terminal or standard input: leave --no-input out")}
	}
	if isTerminal(a.in) {
		fmt.Fprint(a.err, prompt)
		b, err := term.ReadPassword(int(a.in.Fd()))
		fmt.Fprintln(a.err)
		return string(b), err
	}
	b, err := io.ReadAll(io.LimitReader(a.in, 1<<20))
	return strings.TrimSuffix(strings.TrimSuffix(string(b), "\n"), "\r"), err
}
