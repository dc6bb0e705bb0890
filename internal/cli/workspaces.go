package cli

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/internal/core/definition"
	"yardbench/internal/core/operation"
	"yardbench/internal/core/rules"
	"yardbench/wire"
)

// withClient is the common frame of a command that calls the service.
func (a *app) withClient(do func(cmd *cobra.Command, api *client.Client, args []string) error) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) error {
		api, err := a.client()
		if err != nil {
			return err
		}
		return do(cmd, api, args)
	}
}

// completionTime bounds what a press of a key waits for.
const completionTime = time.Second

// names completes the names of one's workspaces.
func (a *app) names(cmd *cobra.Command, args []string, _ string) (out []string, _ cobra.ShellCompDirective) {
	if len(args) > 0 && !strings.HasSuffix(cmd.Use, "...") {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	if api, err := a.client(); err == nil {
		ctx, cancel := context.WithTimeout(cmd.Context(), completionTime)
		defer cancel()
		ws, _ := api.Workspaces.List(ctx, client.ListQuery{}) // completion that fails completes nothing
		for _, w := range ws {
			if !slices.Contains(args, w.Name) {
				out = append(out, w.Name+"\t"+w.Phase)
			}
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// repositoryNames completes the names of repositories.
func (a *app) repositoryNames(cmd *cobra.Command, args []string, _ string) (out []string, _ cobra.ShellCompDirective) {
	if api, err := a.client(); err == nil && len(args) == 0 {
		ctx, cancel := context.WithTimeout(cmd.Context(), completionTime)
		defer cancel()
		rs, _ := api.Repositories.List(ctx) // completion that fails completes nothing
		for _, r := range rs {
			out = append(out, r.Name)
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// preflight says what a launch would come to.
func (a workspaceCommands) preflight(p wire.Preflight) {
	line := func(k, format string, args ...any) {
		fmt.Fprintf(a.out, "%-12s%s\n", k, clean(fmt.Sprintf(format, args...)))
	}
	line("launch", "%s at %s (%.10s)", p.Repository, p.Branch, p.Commit)
	line("definition", "%s, image from %s, folder %s", cmp.Or(p.Definition, "none"), p.Image, p.Folder)
	if len(p.Services) > 0 {
		line("services", "%s", strings.Join(p.Services, ", "))
	}
	if len(p.Beside) > 0 {
		line("beside", "%s", strings.Join(p.Beside, ", "))
	}
	if p.Needs != "" {
		line("needs", "%s", p.Needs)
	}
	if len(p.SetUp) > 0 {
		line("set-up", "%s", strings.Join(p.SetUp, ", "))
	}
	for _, f := range p.Findings {
		line("finding", "%s", definition.Finding(f))
	}
	if p.Prepared != nil {
		line("prepared", "image %d of %s", p.Prepared.Number, behind(*p.Prepared))
	} else {
		line("prepared", "none: %s", p.Scratch)
	}
	if p.UsualMS > 0 {
		line("ready in", "%s usually, %s at worst of 19 in 20", took(time.Duration(p.UsualMS)*time.Millisecond), took(time.Duration(p.SlowMS)*time.Millisecond))
	} else {
		line("ready in", "not known: nobody has launched it so yet")
	}
	line("size", "%s, %s an hour, its disk with it", p.Size, money(p.HourMicros, p.Currency))
	line("rest", "after %s without a sign of work", rules.Duration(time.Duration(p.RestAfterS)*time.Second))
	for _, m := range p.Missing {
		line("missing", "secret %s: %s; give it with: yardbench secret put %s --for %s", m.Name, m.Description, m.Name, p.Repository)
	}
	for _, l := range p.Limits {
		mark := ""
		if l.Over {
			mark = " — over"
		}
		line("limit", "%s, %s: %s%s", l.Kind, l.Whose, l.Text, mark)
	}
	if p.Refused {
		fmt.Fprintln(a.out, a.paint(text.FgRed, "it would be refused: a limit is exceeded"))
	}
}

// cores is a number of cores, in thousandths, for people.
func cores(milli int64) string {
	if milli == 1000 {
		return "1 core"
	}
	return rules.Thousandths(milli) + " cores"
}

// behind says how old a prepared image is.
func behind(p wire.Prepared) string {
	s := when(p.MadeAt)
	switch p.Behind {
	case 0:
		return s + ", at the branch's head"
	case 1:
		return s + ", 1 commit behind"
	}
	return fmt.Sprintf("%s, %d commits behind", s, p.Behind)
}

// money writes millionths of a currency's unit, to the cent where that says it.
func money(micros int64, currency string) string {
	if micros%10_000 != 0 && micros < 1_000_000 {
		return fmt.Sprintf("%s %s", rules.Money((micros+50)/100*100).Decimal(), currency)
	}
	return cents(micros) + " " + currency
}

func (a workspaceCommands) launch() *cobra.Command {
	var in wire.Launch
	var detach, dry bool
	var rest string
	c := &cobra.Command{
		Use: "launch REPOSITORY", Short: "Launch a workspace and watch it come up",
		Long:    "Launch a workspace from a repository's own environment definition and watch it come up, step by step. Ctrl-C leaves it coming up.",
		Example: "  yardbench launch tide-board\n  yardbench launch tide-board --branch storm-warnings --name storm\n  yardbench launch tide-board --size large --rest-after 2h --dry-run", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			in.Repository = args[0]
			if rest != "" {
				d, err := rules.ParseDuration(rest)
				if err != nil {
					return usage{fmt.Errorf("--rest-after: %w", err)}
				}
				in.RestAfterS = int64(d / time.Second)
			}
			if dry {
				p, err := api.Workspaces.Preflight(cmd.Context(), in)
				if err != nil {
					return err
				}
				if err := a.print(p, func() { a.preflight(p) }); err != nil || !p.Refused {
					return err
				}
				return exit(exitRefused)
			}
			w, err := api.Workspaces.Launch(cmd.Context(), in)
			if err != nil {
				return err
			}
			if !a.json {
				fmt.Fprintf(a.out, "%s is accepted: %s at %s (%.10s), from %s, size %s at %s an hour\n", w.Name, w.Repository, w.Branch, w.Commit, cmp.Or(w.Definition, "the usual image"), w.Size, money(w.HourMicros, w.Currency))
				if w.Prepared != nil {
					fmt.Fprintf(a.out, "served by prepared image %d of %s\n", w.Prepared.Number, behind(*w.Prepared))
				} else if w.Scratch != "" {
					fmt.Fprintf(a.out, "from scratch: %s\n", w.Scratch)
				}
			}
			if detach {
				return a.print(w, func() { fmt.Fprintf(a.out, "see how it is with: yardbench show %s\n", w.Name) })
			}
			return a.follow(cmd.Context(), api, w)
		}),
		ValidArgsFunction: a.repositoryNames,
	}
	c.Flags().StringVar(&in.Branch, "branch", "", "the branch (default: the repository's own)")
	c.Flags().StringVar(&in.Definition, "definition", "", "the definition under .devcontainer of that name (default: the first one)")
	c.Flags().StringSliceVar(&in.Beside, "beside", nil, "further repositories to clone beside it, as NAME or NAME@BRANCH")
	c.Flags().StringVar(&in.Name, "name", "", "the workspace's name (default: the repository's)")
	c.Flags().StringVar(&in.Size, "size", "", "a size of the house rules (default: their usual one)")
	c.Flags().StringVar(&rest, "rest-after", "", "put it to rest after so long without a sign of work, like 45min")
	c.Flags().BoolVar(&dry, "dry-run", false, "only say what it would come to: definition, prepared image, time, price, secrets, limits")
	c.Flags().BoolVar(&detach, "no-wait", false, "return as soon as it is accepted")
	return c
}

func (a workspaceCommands) show() *cobra.Command {
	type shown struct {
		wire.Workspace
		NewestSheet wire.Sheet `json:"newest_sheet"`
	}
	return &cobra.Command{
		Use: "show NAME", Short: "Show a workspace and its newest launch sheet", Example: "  yardbench show tide-board", Args: cobra.ExactArgs(1), ValidArgsFunction: a.names,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			w, err := api.Workspaces.Show(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			sh, err := api.Workspaces.Sheet(cmd.Context(), args[0], 0)
			if err != nil {
				return err
			}
			return a.print(shown{w, sh}, func() {
				line := func(k, v string) { fmt.Fprintf(a.out, "%-16s%s\n", k, clean(v)) }
				line("workspace", w.Name+" of "+w.Owner)
				line("state", state(w.Phase, w.FailedIn, w.Conditions)+", since "+when(w.PhaseAt))
				if w.Cause != "" {
					line("cause", w.Cause)
				}
				for _, c := range w.Conditions {
					line(c.Kind, c.Reason)
				}
				for _, k := range w.Asks {
					told := k.Absent
					if k.Says != "" {
						told += fmt.Sprintf("; the program says: %q", k.Says)
					}
					line("asks", fmt.Sprintf("for %s, since %s; %s; give it with: yardbench secret put %s --for %s", k.Name, when(k.Since), told, k.Name, w.Repository))
				}
				if w.Adopted != "" {
					line("counted under", w.Repository)
					line("container", w.Adopted+", made by others from image "+w.Image)
				} else {
					line("repository", fmt.Sprintf("%s, branch %s, made from %.10s", w.Repository, w.Branch, w.Commit))
					line("definition", w.Definition+", image from "+w.Image)
				}
				line("folder", w.Folder+", as "+cmp.Or(w.User, "the image's user"))
				if w.Prepared != nil {
					line("prepared", fmt.Sprintf("image %d of %s", w.Prepared.Number, behind(*w.Prepared)))
				} else if w.Scratch != "" {
					line("prepared", "none: "+w.Scratch)
				}
				disk := rules.Bytes(w.DiskBytes) + " disk"
				if w.Adopted != "" {
					disk = "its disk not counted"
				}
				line("size", fmt.Sprintf("%s: %s, %s memory, %s", w.Size, cores(w.CoresMilli), rules.Bytes(w.MemoryBytes), disk))
				line("cost", fmt.Sprintf("%s so far, %s of it idle; %s an hour", money(w.CostMicros, w.Currency), money(w.IdleMicros, w.Currency), money(w.HourMicros, w.Currency)))
				if r := w.Rest; r != nil {
					line("awake", fmt.Sprintf("%s, %s; put to rest %s without another sign", r.LastSign, when(r.LastSignAt), when(r.StopsAt)))
				}
				if w.RemovesAt != nil {
					line("removed", when(*w.RemovesAt)+", unless work in it exists nowhere else")
				}
				line("last 24 h", strip(w.Day, time.Now())+"   # worked in, - idle, . at rest")
				if len(w.Ports) > 0 {
					line("ports", strings.Trim(fmt.Sprint(w.Ports), "[]")+"; see: yardbench port list "+w.Name)
				}
				end := "under way"
				if sh.EndedAt != nil {
					end = sh.Outcome + " in " + took(sh.EndedAt.Sub(sh.StartedAt))
				}
				fmt.Fprintf(a.out, "\nlaunch sheet %d: %s, %s, %s\n", sh.Number, sh.Kind, when(sh.StartedAt), end)
				p := &progress{a: a.app}
				for _, s := range nested(sh.Steps) {
					if s.EndedAt == nil {
						fmt.Fprintf(a.out, "  … %s, for %s so far\n", clean(s.Title), took(time.Since(s.StartedAt)))
						continue
					}
					fmt.Fprintln(a.out, p.line(s))
				}
				if sh.Hint != "" {
					fmt.Fprintln(a.out, clean(sh.Hint))
				}
			})
		}),
	}
}

// nested puts the parts of a step behind it.
func nested(steps []wire.Step) (out []wire.Step) {
	for _, s := range steps {
		if s.Parent != 0 {
			continue
		}
		out = append(out, s)
		for _, p := range steps {
			if p.Parent == s.Number {
				out = append(out, p)
			}
		}
	}
	return out
}

func (a workspaceCommands) logs() *cobra.Command {
	var follow bool
	var sheet int
	var from int64
	var service string
	c := &cobra.Command{
		Use: "logs NAME", Short: "Print the log of a launch sheet, secrets masked",
		Long:    "Print the log of a launch sheet, secrets masked: each step's title after ==, then its log. With --json, one object a line.",
		Example: "  yardbench logs tide-board\n  yardbench logs tide-board --follow\n  yardbench logs tide-board --sheet 1\n  yardbench logs route-notes --of levels", Args: cobra.ExactArgs(1), ValidArgsFunction: a.names,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			out := a.forPeople()
			if a.json {
				lines := &jsonLines{out: json.NewEncoder(a.out)}
				defer lines.Close()
				out = lines
			}
			if service != "" {
				return api.Workspaces.CopyServiceLog(cmd.Context(), args[0], service, out)
			}
			return api.Workspaces.CopyLog(cmd.Context(), args[0], sheet, 0, from, follow, out)
		}),
	}
	c.Flags().BoolVarP(&follow, "follow", "f", false, "go on until the launch sheet has ended")
	c.Flags().StringVar(&service, "of", "", "the newest lines of a service beside it, instead")
	c.Flags().IntVar(&sheet, "sheet", 0, "the number of the launch sheet (default: the newest)")
	c.Flags().Int64Var(&from, "from", 0, "leave out so many bytes: those that you have")
	c.MarkFlagsMutuallyExclusive("of", "follow")
	c.MarkFlagsMutuallyExclusive("of", "sheet")
	return c
}

// jsonLines turns a log into one JSON object a line.
type jsonLines struct {
	out  *json.Encoder
	held []byte
}

func (j *jsonLines) Write(p []byte) (int, error) {
	j.held = append(j.held, p...)
	for {
		line, rest, whole := bytes.Cut(j.held, []byte("\n"))
		if !whole {
			return len(p), nil
		}
		if err := j.out.Encode(map[string]string{"line": string(line)}); err != nil {
			return 0, err
		}
		j.held = append([]byte(nil), rest...)
	}
}

// Close passes on a last line without an end.
func (j *jsonLines) Close() {
	if len(j.held) > 0 {
		_, _ = j.Write([]byte("\n")) // standard output may be closed
	}
}

func (a workspaceCommands) start() *cobra.Command {
	return a.plainVerb(operation.Start, "Start stopped workspaces, or try failed ones again", "  yardbench start tide-board\n  yardbench start tide-board berth-planner\n  yardbench start --where state=stopped", client.Workspaces.Start)
}

func (a workspaceCommands) stop() *cobra.Command {
	return a.plainVerb(operation.Stop, "Stop workspaces; their files stay", "  yardbench stop tide-board\n  yardbench stop tide-board berth-planner\n  yardbench stop --where all,state=idle,team=Decks --why 'the yard is full'", client.Workspaces.Stop)
}

// plainVerb asks a verb, with which nothing goes, of one workspace or of many.
func (a workspaceCommands) plainVerb(v operation.Verb, short, example string, one func(client.Workspaces, context.Context, string) (wire.Workspace, error)) *cobra.Command {
	var m many
	c := &cobra.Command{
		Use: string(v) + " NAME...", Short: short, Example: example, ValidArgsFunction: a.names,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			if !m.one(args) {
				return operationCommands{a.app}.ask(cmd, api, args, m, wire.NewOperation{Verb: string(v)}, "")
			}
			return a.followed(cmd.Context(), api)(one(api.Workspaces, cmd.Context(), args[0]))
		}),
	}
	m.flags(c)
	return c
}

// followed follows what was asked of a workspace, if it was accepted.
func (a workspaceCommands) followed(ctx context.Context, api *client.Client) func(wire.Workspace, error) error {
	return func(w wire.Workspace, err error) error {
		if err != nil {
			return err
		}
		return a.follow(ctx, api, w)
	}
}

func (a workspaceCommands) rebuild() *cobra.Command {
	var in wire.Rebuild
	var m many
	c := &cobra.Command{
		Use: "rebuild NAME...", Short: "Make workspaces' containers anew from their branches' heads",
		Long: "Make workspaces' containers anew from the definition at the branch's head. The workspace folder stays; the home folder does not. " +
			"The old container stays in use until the new one runs, and a rebuild that fails leaves it as it was.",
		Example: "  yardbench rebuild tide-board\n  yardbench rebuild tide-board --new-files\n  yardbench rebuild --where 'all,state=rebuild due,repository=tide-board' --why 'a mended base image'", ValidArgsFunction: a.names,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			question := ""
			if in.NewFiles {
				question = "Make %s anew, and drop all files in the workspace folder?"
			}
			if !m.one(args) {
				return operationCommands{a.app}.ask(cmd, api, args, m, wire.NewOperation{Verb: string(operation.Rebuild), NewFiles: in.NewFiles, Discard: in.Discard}, question)
			}
			if in.NewFiles {
				if err := a.sure("drop the files of "+args[0], fmt.Sprintf(question, clean(args[0]))); err != nil {
					return err
				}
			}
			return a.followed(cmd.Context(), api)(api.Workspaces.Rebuild(cmd.Context(), args[0], in))
		}),
	}
	c.Flags().BoolVar(&in.NewFiles, "new-files", false, "drop the workspace folder too and clone anew")
	c.Flags().BoolVar(&in.Discard, "discard", false, "with --new-files: even when work in it exists nowhere else")
	m.flags(c)
	return c
}

// sure asks whether something that cannot be undone is meant, unless yes says so.
func (a *app) sure(what, question string) error {
	if a.yes {
		return nil
	}
	if a.noInput || !isTerminal(a.in) {
		return usage{fmt.Errorf("say --yes to %s without being asked", what)}
	}
	fmt.Fprintf(a.err, "%s [y/N] ", a.paint(text.Bold, question))
	answer, _ := bufio.NewReader(a.in).ReadString('\n') // no answer is a no
	if s := strings.ToLower(strings.TrimSpace(answer)); s != "y" && s != "yes" {
		fmt.Fprintln(a.err, "nothing is done")
		return exit(exitRefused)
	}
	return nil
}

func (a workspaceCommands) remove() *cobra.Command {
	var discard bool
	var m many
	c := &cobra.Command{
		Use: "remove NAME...", Short: "Remove workspaces with their files",
		Long:    "Remove workspaces with their files. It is refused while work in one is not committed, not pushed, or cannot be looked at; --discard gives that up.",
		Example: "  yardbench remove tide-board\n  yardbench remove tide-board berth-planner --yes\n  yardbench remove --where state=stopped,branch=storm-warnings", ValidArgsFunction: a.names,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			question := "Remove %s with all files?"
			if discard {
				question = "Remove %s with all files and whatever in them exists nowhere else?"
			}
			if !m.one(args) {
				return operationCommands{a.app}.ask(cmd, api, args, m, wire.NewOperation{Verb: string(operation.Remove), Discard: discard}, question)
			}
			if err := a.sure("remove "+args[0], fmt.Sprintf(question, clean(args[0]))); err != nil {
				return err
			}
			return a.followed(cmd.Context(), api)(api.Workspaces.Remove(cmd.Context(), args[0], discard))
		}),
	}
	c.Flags().BoolVar(&discard, "discard", false, "even when work in it exists nowhere else")
	m.flags(c)
	return c
}
