package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"yardbench/client"
	"yardbench/wire"
)

func quiet(t *testing.T) (*app, *bytes.Buffer, *bytes.Buffer) {
	t.Helper()
	t.Setenv("YARDBENCH_CONFIG", t.TempDir())
	t.Setenv("YARDBENCH_ADDRESS", "")
	t.Setenv("YARDBENCH_TOKEN", "")
	t.Setenv("YARDBENCH_SERVICE", "")
	var out, errs bytes.Buffer
	return &app{out: &out, err: &errs, began: true}, &out, &errs
}

// Exit codes mean something, and are what docs/cli.md says.
func TestExitCodes(t *testing.T) {
	doc, err := os.ReadFile("../../docs/cli.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		err  error
		code int
		says string
	}{
		{nil, 0, ""},
		{errors.New("odd"), 1, "odd"},
		{usage{errors.New("which?")}, 2, "yardbench --help"},
		{&wire.Problem{Status: 404, Detail: "no such"}, 3, "no such"},
		{fmt.Errorf("around: %w", &wire.Problem{Status: 409, Detail: "taken", Next: "choose another", Errors: []wire.FieldProblem{{Field: "not pushed", Detail: "abc \x1b[2J x"}}}), 4, "taken\n  not pushed: abc [2J x\nchoose another"},
		{&wire.Problem{Status: 401, Detail: "sign in"}, 5, "sign in"},
		{exit(6), 6, ""},
		{&client.Unreachable{Address: "http://x", Err: errors.New("refused")}, 7, "http://x"},
		{context.Canceled, 130, ""},
		{&wire.Problem{Status: 500, Detail: "ouch"}, 1, "ouch"},
		{&wire.Problem{Status: 503, Detail: "busy"}, 8, "busy"},
		{&wire.Problem{Status: 429, Detail: "too often"}, 8, "too often"},
	} {
		a, _, errs := quiet(t)
		if got := a.report(c.err); got != c.code || !strings.Contains(errs.String(), c.says) {
			t.Errorf("%v gives exit code %d and says %q", c.err, got, errs.String())
		}
		if !strings.Contains(string(doc), fmt.Sprintf("| %d |", c.code)) {
			t.Errorf("docs/cli.md does not tell of exit code %d", c.code)
		}
	}
}

// Every command says what it is for and has an example; every one that may be
// seen is told of in docs/cli.md.
func TestEveryCommandIsExplained(t *testing.T) {
	doc, err := os.ReadFile("../../docs/cli.md")
	if err != nil {
		t.Fatal(err)
	}
	a, _, _ := quiet(t)
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		if c.Hidden || c.Name() == "help" || c.Name() == "completion" {
			return
		}
		if c.Runnable() && c.Annotations[groupMark] == "" {
			if c.Short == "" || !strings.Contains(c.Example, c.CommandPath()) {
				t.Errorf("%q has no example", c.CommandPath())
			}
			if !strings.Contains(string(doc), "`"+c.CommandPath()) {
				t.Errorf("docs/cli.md does not tell of %q", c.CommandPath())
			}
		}
		for _, sub := range c.Commands() {
			walk(sub)
		}
	}
	walk(a.root())
}

// Without a terminal there is no progress and no colour; a step is told once,
// when it has ended, its parts before it.
func TestProgressWithoutATerminal(t *testing.T) {
	a, _, out := quiet(t)
	p := progress{a: a, said: map[string]bool{}}
	start := time.Date(2026, 3, 2, 8, 0, 0, 0, time.UTC)
	at := func(ms int) *time.Time { e := start.Add(time.Duration(ms) * time.Millisecond); return &e }
	image := wire.Step{Number: 1, Title: "Image", Attempt: 1, StartedAt: start}
	part := wire.Step{Number: 2, Parent: 1, Title: "[1/2] RUN \x1b]0;evil\x07true", Attempt: 1, StartedAt: start, EndedAt: at(1500), Outcome: "done", Cached: true}
	p.show(wire.Sheet{Steps: []wire.Step{image}})
	p.show(wire.Sheet{Steps: []wire.Step{image, part}})
	image.EndedAt, image.Outcome = at(2000), "done"
	network := wire.Step{Number: 3, Title: "Network", Attempt: 2, StartedAt: *at(2000), EndedAt: at(75000), Outcome: "failed"}
	p.show(wire.Sheet{Steps: []wire.Step{image, part, network}})
	p.show(wire.Sheet{Steps: []wire.Step{image, part, network}})
	lines := strings.Split(strings.TrimSpace(out.String()), "\n")
	if len(lines) != 3 || strings.ContainsAny(out.String(), "\x1b\x07\r") {
		t.Fatalf("it shows\n%q", out.String())
	}
	for i, words := range [][]string{{"✓ [1/2] RUN", "1.50 s", "cached"}, {"✓ Image", "2.00 s"}, {"✗ Network", "73.0 s", "attempt 2"}} {
		for _, w := range words {
			if !strings.Contains(lines[i], w) {
				t.Errorf("line %d is %q, without %q", i+1, lines[i], w)
			}
		}
	}
}

func TestForPeople(t *testing.T) {
	for d, want := range map[time.Duration]string{-time.Second: "0.00 s", 84 * time.Millisecond: "0.08 s", 12 * time.Second: "12.0 s", 125 * time.Second: "2 min 05 s", 3*time.Hour + 4*time.Minute: "3 h 04 min"} {
		if got := took(d); got != want {
			t.Errorf("%s reads %q", d, got)
		}
	}
	a, out, _ := quiet(t)
	table := a.table(a.out, "NAME", "STATE")
	table.row("tide", "ready")
	table.row("berth-planner", state("failed", "preparing", []wire.Condition{{Kind: "set-up failed"}}))
	table.print()
	if want := "NAME            STATE\ntide            ready\nberth-planner   failed in preparing, set-up failed\n"; out.String() != want {
		t.Errorf("the table is\n%s\nnot\n%s", out.String(), want)
	}
}

// A sign-in is kept for its owner alone, and its token goes to the service it
// is for, not to another one that is named.
func TestSignInIsKept(t *testing.T) {
	a, _, _ := quiet(t)
	if _, err := a.client(); err == nil || a.report(err) != exitSignIn {
		t.Errorf("without a sign-in: %v", err)
	}
	if err := keepSignIn(a, signedInAt{Address: "http://127.0.0.1:7080", Name: "ingrid", Token: "yb_x"}); err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(os.Getenv("YARDBENCH_CONFIG"), "sign-in.json")
	if st, err := os.Stat(path); err != nil || st.Mode().Perm() != 0o600 {
		t.Errorf("it is kept as %v, %v", st.Mode(), err)
	}
	if got := signedIn(a); got.Token != "yb_x" {
		t.Errorf("it is read as %+v", got)
	}
	// Another service has a name; the one signed in to last is meant without one.
	a.service = "north"
	if err := keepSignIn(a, signedInAt{Address: "http://127.0.0.1:7081", Name: "ingrid", Token: "yb_y"}); err != nil {
		t.Fatal(err)
	}
	a.service = "south"
	if _, err := a.client(); err == nil || !strings.Contains(err.Error(), "main, north") {
		t.Errorf("a service that is not known: %v", err)
	}
	if a.service = ""; signedIn(a).Token != "yb_y" {
		t.Errorf("without a name %+v is meant", signedIn(a))
	}
	if a.service = "main"; signedIn(a).Token != "yb_x" {
		t.Errorf("the first is %+v", signedIn(a))
	}
	a.service = "north"
	if err := keepSignIn(a, signedInAt{}); err != nil { // signed out
		t.Fatal(err)
	}
	if a.service = ""; signedIn(a).Token != "yb_x" {
		t.Errorf("when one is left, %+v is meant", signedIn(a))
	}
	a.address = "http://elsewhere.example"
	c, err := a.client()
	if err != nil || strings.Contains(fmt.Sprintf("%+v", *c), "yb_x") {
		t.Errorf("another service is given the token: %+v, %v", c, err)
	}
	// A command that was stopped while it renews its sign-in holds up none.
	a.address = ""
	lock, err := os.Open(path + ".lock")
	if err == nil {
		err = syscall.Flock(int(lock.Fd()), syscall.LOCK_EX)
	}
	if err != nil {
		t.Fatal(err)
	}
	began := time.Now()
	if _, err := a.client(); err != nil || time.Since(began) > 2*time.Second {
		t.Errorf("beside another command: %v after %s", err, time.Since(began))
	}
	lock.Close()
	if err := os.WriteFile(path, []byte("{"), 0o600); err != nil {
		t.Fatal(err)
	}
	if got := signedIn(a); got.Token != "" {
		t.Errorf("a damaged file is read as %+v", got)
	}
}

// Amounts, days and details as people read them.
func TestWordsForPeople(t *testing.T) {
	for micros, want := range map[int64]string{0: "0.00 EUR", 61_232: "0.0612 EUR", 60_000: "0.06 EUR", 1_234_567: "1.23 EUR", 999_995_000: "1000.00 EUR"} {
		if got := money(micros, "EUR"); got != want {
			t.Errorf("%d is %q, not %q", micros, got, want)
		}
	}
	now := time.Date(2026, 11, 2, 12, 0, 0, 0, time.UTC)
	day := []wire.Stretch{{From: now.Add(-30 * time.Hour), To: now.Add(-22*time.Hour - 30*time.Minute), State: "idle"}, {From: now.Add(-5 * time.Hour), To: now.Add(-3 * time.Hour), State: "active"}, {From: now.Add(-3 * time.Hour), To: now, State: "idle"}}
	if got := strip(day, now); got != "--.................##---" {
		t.Errorf("the day is drawn %q", got)
	}
	for n, want := range map[int]string{0: "at the branch's head", 1: "1 commit behind", 7: "7 commits behind"} {
		if got := behind(wire.Prepared{Behind: n}); !strings.HasSuffix(got, want) {
			t.Errorf("%d behind is %q", n, got)
		}
	}
	if got := details(map[string]any{"to": "ready", "cause": "", "over": false, "changes": []any{"a"}, "from": "starting"}); got != `changes ["a"], from starting, to ready` {
		t.Errorf("details read %q", got)
	}
	if got := details(map[string]any{"secrets": map[string]any{"B": 2.0, "A": 1.0}}); got != "secrets A version 1, B version 2" {
		t.Errorf("what a terminal was given reads %q", got)
	}
	next := now
	if got := triggers(wire.PrebuildPlan{OnPush: true, Timetable: "30 5 * * *", NextAt: &next}); !strings.HasPrefix(got, "on push, by timetable 30 5 * * *, next ") || !strings.HasSuffix(got, ", by hand") {
		t.Errorf("a plan's triggers read %q", got)
	}
	if givenTo(wire.Secret{Level: "repository", Repository: "tide-board"}) != "everybody in tide-board" || givenTo(wire.Secret{Level: "person", Everywhere: true}) != "all your workspaces" || givenTo(wire.Secret{Level: "person", Repositories: []string{"a", "b"}}) != "a, b" ||
		givenTo(wire.Secret{Level: "team", Team: "Decks", Everywhere: true, Branches: []string{"release/*"}}) != "everybody of Decks, on release/*" || givenTo(wire.Secret{Level: "house", Repositories: []string{"a"}}) != "everybody in a" {
		t.Error("whom a secret is given to reads wrongly")
	}
}

// The preflight says everything once, and marks what is over.
func TestPreflightForPeople(t *testing.T) {
	a, out, _ := quiet(t)
	workspaceCommands{a}.preflight(wire.Preflight{Repository: "tide-board", Branch: "main", Commit: "0123456789abcdef", Definition: "d.json", Image: "Dockerfile", Folder: "/x", Scratch: "there is no prepared image for this branch yet",
		SetUp: []string{"onCreateCommand"}, Size: "small", Currency: "EUR", HourMicros: 60_000, RestAfterS: 2700, Findings: []wire.DefinitionFinding{{Severity: "warning", Path: "d.json", Line: 3, Column: 2, What: "odd"}}, Missing: []wire.WantedSecret{{Name: "KEY", Description: "opens it"}},
		Limits: []wire.LimitLine{{Kind: "running", Whose: "ingrid", Text: "3 used + 1 asked of 3 allowed", Over: true}}, Refused: true})
	for _, want := range []string{"tide-board at main (0123456789)", "none: there is no prepared image", "not known: nobody has launched it so yet", "0.06 EUR an hour", "after 45 min without", "warning: odd", "secret put KEY --for tide-board", "allowed — over", "it would be refused"} {
		if strings.Count(out.String(), want) != 1 {
			t.Errorf("%q is not said once:\n%s", want, out)
		}
	}
}

// A word that there is no command for, under any command that holds others, is
// told, and is no success; so is one too many, or an option that there is not.
func TestWrongWords(t *testing.T) {
	tried := 0
	try := func(args ...string) (code int, said string) {
		t.Helper()
		tried++
		a, out, errs := quiet(t)
		a.began = false
		root := a.root()
		root.SetArgs(args)
		root.SetOut(a.out)
		root.SetErr(a.err)
		code = a.report(root.ExecuteContext(t.Context()))
		if out.Len() > 0 && code != 0 {
			t.Errorf("%v prints %q beside its refusal", args, out)
		}
		return code, errs.String()
	}
	a, _, _ := quiet(t)
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		path := strings.Fields(c.CommandPath())[1:]
		if c.HasSubCommands() && c.Name() != "ssh" { // which takes a workspace's name as well
			if code, said := try(append(path, "delete-it")...); code != exitUsage || !strings.Contains(said, "delete-it") {
				t.Errorf("%v delete-it gives %d and says %q", path, code, said)
			}
		}
		if c.Runnable() && !c.DisableFlagParsing {
			want := exitUsage
			if carries(c) {
				want = exitNotBegun
			}
			if code, said := try(append(path, "--no-such-option")...); code != want || !strings.Contains(said, "no-such-option") {
				t.Errorf("%v --no-such-option gives %d and says %q", path, code, said)
			}
		}
		for _, sub := range c.Commands() {
			walk(sub)
		}
	}
	walk(a.root())
	if tried < 100 {
		t.Errorf("only %d were tried", tried)
	}
	for line, says := range map[string]string{
		"secret delete KEY":                 "it has explain, import, list, put, remove",
		"secret lst":                        "write yardbench secret list, if that is meant",
		"lanch tide-board":                  "write yardbench launch, if that is meant",
		"person lst":                        "under yardbench person",
		"help lanch":                        "write yardbench launch",
		"show":                              "write: yardbench show NAME",
		"show a b":                          "2 words do not fit behind yardbench show",
		"list --stat ready":                 "write --state, if that is meant",
		"secret put X --for a --everywhere": "everywhere",
		"launch":                            "yardbench launch REPOSITORY",
		"wait x --until tomorrow":           "not signed in",
		"journal list --limit many":         "many",
		"completion fsh":                    "write yardbench completion fish",
	} {
		t.Setenv("YARDBENCH_CONFIG", t.TempDir())
		code, said := try(strings.Fields(line)...)
		if want := map[bool]int{true: exitSignIn, false: exitUsage}[says == "not signed in"]; code != want || !strings.Contains(said, says) {
			t.Errorf("%s gives %d and says %q, not %q", line, code, said, says)
		}
	}
	if code, _ := try("secret"); code != 0 {
		t.Errorf("a command that holds others gives %d alone", code)
	}
}

// With --json every way out is one object on standard error.
func TestProblemsForPrograms(t *testing.T) {
	for _, c := range []struct {
		err  error
		code int
		kind string
	}{
		{errors.New("odd\nlook"), 1, "here"},
		{usage{errors.New("which?")}, 2, "command-line"},
		{&wire.Problem{Type: wire.ProblemPrefix + "not-found", Title: "Not Found", Status: 404, Detail: "no such"}, 3, "not-found"},
		{&client.Unreachable{Address: "http://x", Err: errors.New("refused")}, 7, "away"},
	} {
		a, _, errs := quiet(t)
		a.json = true
		code := a.report(c.err)
		var said struct {
			Type, Title, Detail, Next string
			ExitCode                  int `json:"exit_code"`
		}
		if err := json.Unmarshal(errs.Bytes(), &said); err != nil || code != c.code || said.ExitCode != c.code || said.Type != wire.ProblemPrefix+c.kind || said.Title == "" || said.Detail == "" || strings.Count(errs.String(), "\n") != 1 {
			t.Errorf("%v gives %d and says %s, %v", c.err, code, errs, err)
		}
	}
}

// What carries a program's exit code keeps few for itself.
func TestCarriedExitCodes(t *testing.T) {
	for _, c := range []struct {
		err  error
		code int
	}{
		{nil, 0}, {exit(3), 3}, {exit(127), 127}, {&wire.Problem{Status: 404}, exitNotBegun}, {&wire.Problem{Status: 409}, exitNotBegun}, {usage{errors.New("x")}, exitNotBegun},
		{&wire.Problem{Status: 503}, exitCutOff}, {&client.Unreachable{Err: errors.New("x")}, exitCutOff}, {errors.New("broken pipe"), exitCutOff}, {context.Canceled, exitInterrupt},
	} {
		a, _, _ := quiet(t)
		a.carries = true
		if code := a.report(c.err); code != c.code {
			t.Errorf("%v gives %d, not %d", c.err, code, c.code)
		}
	}
}

// What programs read, in each form.
func TestFormsOfOutput(t *testing.T) {
	rows := []wire.WorkspaceRow{{Name: "tide-board", Owner: "ingrid", Phase: "ready", CostMicros: 12345678901234567}, {Name: "deck-log", Owner: "peder", Phase: "stopped"}}
	for form, want := range map[string]string{
		"name":                         "tide-board.ingrid\ndeck-log.peder\n",
		"jsonl":                        `"name":"tide-board"`,
		"json":                         "[\n  {\n    \"id\": \"\",\n    \"name\": \"tide-board\"",
		"template={{.name}}/{{.team}}": "tide-board/\ndeck-log/\n", // of no team
		"template={{.name}} is {{.phase}} at {{.cost_micros}}": "tide-board is ready at 12345678901234567\ndeck-log is stopped at 0\n",
	} {
		a, out, _ := quiet(t)
		a.form = form
		if err := a.readForm(); err != nil {
			t.Fatal(err)
		}
		if err := a.print(rows, nil); err != nil || !strings.Contains(out.String(), want) || form == "jsonl" && strings.Count(out.String(), "\n") != 2 {
			t.Errorf("as %s it is\n%s\n%v", form, out, err)
		}
	}
	for form, says := range map[string]string{"jsno": "write json", "xml": "one of json, jsonl, name", "template={{": "no template"} {
		a, _, _ := quiet(t)
		a.form = form
		if err := a.readForm(); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("form %s: %v", form, err)
		}
	}
	a, _, _ := quiet(t)
	a.form, a.json = "template={{.name.colour}}", false
	if err := a.readForm(); err != nil {
		t.Fatal(err)
	}
	if err := a.print(rows, nil); err == nil || !strings.Contains(err.Error(), "colour") {
		t.Errorf("a member of what has none: %v", err)
	}
	a, _, _ = quiet(t)
	a.form, a.json = "name", true
	if err := a.readForm(); err == nil {
		t.Error("two forms are taken")
	}
	for thing, want := range map[string]string{`{"id":"a1","door":"cli"}`: "a1", `{"host":"x"}`: "x", `{"version":3}`: "3", `{"odd":1}`: "", `[]`: "", `{"name":"a\u001b[31m"}`: "a[31m"} {
		a, out, _ := quiet(t)
		a.form, a.json = "name", true
		if err := a.print(json.RawMessage(thing), nil); err != nil || strings.TrimSpace(out.String()) != want {
			t.Errorf("%s is called %q, %v", thing, out, err)
		}
	}
}

// No press of a key offers files of this machine where none belong, and none waits
// long for a service that does not answer.
func TestCompletionOffersNoFiles(t *testing.T) {
	silent, err := net.Listen("tcp", "127.0.0.1:0") // it takes calls, and says nothing
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	var took time.Duration
	complete := func(words ...string) string {
		t.Helper()
		a, out, _ := quiet(t)
		t.Setenv("YARDBENCH_ADDRESS", "http://"+silent.Addr().String())
		t.Setenv("YARDBENCH_TOKEN", "yb_x")
		root := a.root()
		root.SetArgs(append([]string{"__complete"}, words...))
		root.SetOut(a.out)
		root.SetErr(a.err)
		began := time.Now()
		if err := root.ExecuteContext(t.Context()); err != nil {
			t.Errorf("%v: %v", words, err)
		}
		if took = time.Since(began); took > completionTime+2*time.Second {
			t.Errorf("%v takes %s", words, took)
		}
		if !strings.Contains(out.String(), "\n:") && !strings.HasPrefix(out.String(), ":") {
			t.Errorf("%v completes nothing at all: %q", words, out)
		}
		return out.String()
	}
	a, _, _ := quiet(t)
	seen := 0
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		path := strings.Fields(c.CommandPath())[1:]
		c.LocalFlags().VisitAll(func(f *pflag.Flag) {
			if f.Value.Type() == "bool" || len(path) == 0 {
				return
			}
			seen++
			if _, there := c.GetFlagCompletionFunc(f.Name); !there {
				t.Errorf("%v --%s completes files", path, f.Name)
			}
		})
		for _, sub := range c.Commands() {
			if !sub.Hidden && sub.Name() != "completion" {
				walk(sub)
			}
		}
	}
	walk(a.root())
	if seen < 40 {
		t.Errorf("%d flags were looked at", seen)
	}
	for line, want := range map[string]string{
		"list --sort": "phase_at", "enrolment add --role": "auditor", "list --state": "set-up failed", "wait x --until": "removed", "list -o": "jsonl", "cost --by": "repository",
	} {
		words := append(strings.Fields(line), "")
		if got := complete(words...); !strings.Contains(got, want) || strings.HasSuffix(strings.TrimSpace(got), ":0") {
			t.Errorf("%s completes\n%s", line, got)
		}
	}
	for line, asks := range map[string]bool{"list --team": true, "show": true, "stop a": true, "launch": true, "token remove": false, "sign-in": false, "launch x --branch": true} {
		if got := complete(append(strings.Fields(line), "")...); strings.HasSuffix(strings.TrimSpace(got), ":0") {
			t.Errorf("%s offers files:\n%s", line, got)
		}
		if asks != (took > completionTime/2) {
			t.Errorf("%s asks the service: %v, after %s", line, !asks, took)
		}
	}
}

// A dotenv file is read as such, with dollar signs as they are; what is wrong is told
// without repeating any of it.
func TestDotenv(t *testing.T) {
	names, values, err := readDotenv("# of the tide\nexport A=one\nB='two words' # not this\nC=\"a\nb\"\nD=pa$$word$A\nE=\"\\$x\"\nF=\n")
	if err != nil || strings.Join(names, " ") != "A B C D E F" {
		t.Fatalf("it reads %v, %v", names, err)
	}
	for name, want := range map[string]string{"A": "one", "B": "two words", "C": "a\nb", "D": "pa$$word$A", "E": "$x", "F": ""} {
		if values[name] != want {
			t.Errorf("%s reads %q, not %q", name, values[name], want)
		}
	}
	for _, bad := range []string{"", "# nothing", "A=\"hunter2"} {
		if _, _, err := readDotenv(bad); err == nil || strings.Contains(err.Error(), "hunter2") {
			t.Errorf("of %q it says %v", bad, err)
		}
	}
}
