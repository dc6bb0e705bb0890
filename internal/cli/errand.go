package cli

import (
	"archive/tar"
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/internal/core/plain"
	"yardbench/wire"
)

// errand is one command, to be run in a workspace of its own.
type errand struct {
	launch  wire.Launch
	argv    []string
	bring   []string // paths in the workspace, from its folder
	into    string   // the folder here that they are brought to
	timeout time.Duration
}

const (
	leaseEach     = 15 * time.Second // where the service does not say how long a lease is
	errandGoodbye = 30 * time.Second // for its removal, after Ctrl-C too
	outputKept    = 64 << 10         // of each command, with --each
	bringMost     = 4 << 30          // bytes that are brought at once
	thingsMost    = 1_000_000        // files and folders
)

// errandResult is what came of one, as --each prints it.
type errandResult struct {
	Line       int     `json:"line"`
	Repository string  `json:"repository"`
	Branch     string  `json:"branch,omitempty"`
	Workspace  string  `json:"workspace,omitempty"`
	ExitCode   int     `json:"exit_code"`
	Output     string  `json:"output,omitempty"` // the end of it
	Cut        bool    `json:"output_cut,omitempty"`
	Brought    string  `json:"brought,omitempty"` // the folder
	Seconds    float64 `json:"seconds"`
	Error      string  `json:"error,omitempty"`
}

func (a errandCommands) errand() *cobra.Command {
	var e errand
	var each string
	var atOnce int
	c := &cobra.Command{
		Use: "errand REPOSITORY[@BRANCH] -- COMMAND [ARGUMENT...]", Short: "Run one command in a workspace of its own, and remove that",
		Long: "Launch a workspace, from the newest prepared image where there is one, run a command in it with its output and exit code passed through, bring files back, and remove it, whatever happens: " +
			"also when this ends by Ctrl-C or is killed. 125 is given where the command was not begun, 255 where it was lost sight of or its time was over.\n\n" +
			"With --each FILE one is run for each line REPOSITORY[@BRANCH] [ARGUMENT...], its arguments behind those of the command; what came of each is printed as an object of JSON on a line. What would go over a limit waits for one of these to end.",
		Example: "  yardbench errand tide-board -- make check\n  yardbench errand tide-board@storm-warnings --bring report --into out -- make report\n  yardbench errand --each branches.txt --at-once 3 -- make check",
		Args:    cobra.MinimumNArgs(1), ValidArgsFunction: a.repositoryNames,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			if each == "" {
				target := args[0]
				if cmd.ArgsLenAtDash() == 0 {
					return usage{errors.New("say from which repository: yardbench errand REPOSITORY -- COMMAND")}
				}
				e.argv = args[1:]
				if err := e.check(); err != nil {
					return err
				}
				e.launch.Repository, e.launch.Branch, _ = strings.Cut(target, "@")
				a.carries = true
				code, _, err := a.errandOf(cmd.Context(), api, e)
				if err != nil {
					return err
				}
				if code != 0 {
					return exit(code)
				}
				return nil
			}
			if at := cmd.ArgsLenAtDash(); at > 0 {
				return usage{errors.New("with --each the repositories stand in the file: leave " + args[0] + " out")}
			}
			e.argv = args
			if err := e.check(); err != nil {
				return err
			}
			return a.errandsOf(cmd.Context(), api, e, each, atOnce)
		}),
	}
	c.Flags().StringVar(&e.launch.Size, "size", "", "a size of the house rules (default: their usual one)")
	c.Flags().StringVar(&e.launch.Definition, "definition", "", "the definition under .devcontainer of that name (default: the first one)")
	c.Flags().DurationVar(&e.timeout, "timeout", time.Hour, "how long it may take, from the launch; it is removed then")
	c.Flags().StringArrayVar(&e.bring, "bring", nil, "a file or folder to bring back, from the workspace folder; given again, both")
	c.Flags().StringVar(&e.into, "into", ".", "the folder here that it is brought to")
	c.Flags().StringVar(&each, "each", "", "run one for each line of a file; - is standard input")
	c.Flags().IntVar(&atOnce, "at-once", 4, "with --each: how many at once")
	return c
}

// check says what is wrong with the flags.
func (e errand) check() error {
	switch {
	case len(e.argv) == 0:
		return usage{errors.New("name a command to run: yardbench errand REPOSITORY -- COMMAND")}
	case e.timeout < time.Minute || e.timeout > 24*time.Hour:
		return usage{errors.New("--timeout is from 1m to 24h")}
	case slices.ContainsFunc(e.bring, func(p string) bool { return !filepath.IsLocal(p) }):
		return usage{errors.New("--bring takes paths within the workspace folder")}
	}
	return nil
}

// errandOf runs one errand and gives the exit code of its command.
func (a errandCommands) errandOf(ctx context.Context, api *client.Client, e errand) (code int, name string, err error) {
	e.launch.Errand = &wire.NewErrand{Seconds: int64(e.timeout / time.Second)}
	w, err := api.Workspaces.Launch(ctx, e.launch)
	if err != nil {
		return 0, "", err
	}
	ref := w.Name + "." + w.Owner
	over, cancel := context.WithTimeout(ctx, e.timeout)
	defer cancel()
	var renewing sync.WaitGroup
	renewing.Go(func() {
		for {
			each := leaseEach
			if lease, err := api.Workspaces.RenewLease(over, ref); err == nil && lease.LeaseS > 0 { // it is renewed four times before anybody misses it
				each = time.Duration(lease.LeaseS) * time.Second / 4
			}
			select {
			case <-over.Done():
				return
			case <-time.After(each):
			}
		}
	})
	defer func() {
		cancel()
		renewing.Wait()
		last, done := context.WithTimeout(context.WithoutCancel(ctx), errandGoodbye)
		defer done()
		if rerr := a.gone(last, api, ref); rerr != nil {
			fmt.Fprintf(a.err, "yardbench: %s is not removed by this, and goes by itself in a minute: %s\n", ref, clean(rerr.Error()))
		}
	}()
	up := *a.app
	up.out, up.json = io.Discard, false // the command's output is the only one
	if err := up.follow(over, api, w); err != nil {
		if failed := exit(0); errors.As(err, &failed) && failed == exitFailed {
			err = exit(exitNotBegun)
		}
		return 0, w.Name, a.ended(ctx, over, err)
	}
	code, err = workspaceCommands{a.app}.command(over, api, ref, e.argv)
	if err != nil {
		return 0, w.Name, a.ended(ctx, over, err)
	}
	if len(e.bring) > 0 {
		if err := a.brought(over, api, ref, e.bring, e.into); err != nil {
			return code, w.Name, a.ended(ctx, over, err)
		}
	}
	return code, w.Name, nil
}

// gone removes a workspace and waits until nothing is left of it.
func (a errandCommands) gone(ctx context.Context, api *client.Client, ref string) error {
	_, err := api.Workspaces.Remove(ctx, ref, true)
	for err == nil {
		if _, err = api.Workspaces.Show(ctx, ref); err == nil {
			select {
			case <-ctx.Done():
				err = ctx.Err()
			case <-time.After(100 * time.Millisecond):
			}
		}
	}
	var p *wire.Problem
	if errors.As(err, &p) && p.Type == wire.ProblemPrefix+"not-found" {
		return nil
	}
	return err
}

// ended says of an error that comes of the time being over that it does.
func (a errandCommands) ended(ctx, over context.Context, err error) error {
	if ctx.Err() == nil && errors.Is(over.Err(), context.DeadlineExceeded) {
		return errors.New("its time was over; give it more with --timeout")
	}
	return err
}

// command runs a command and gives its exit code.
func (a workspaceCommands) command(ctx context.Context, api *client.Client, ref string, argv []string) (int, error) {
	err := a.session(ctx, api, ref, wire.Run{Argv: argv}, false)
	var code exit
	if errors.As(err, &code) {
		if ctx.Err() != nil {
			return 0, err
		}
		return int(code), nil
	}
	return 0, err
}

// brought brings files and folders of a workspace to a folder here.
func (a errandCommands) brought(ctx context.Context, api *client.Client, ref string, paths []string, into string) error {
	if err := os.MkdirAll(into, 0o777); err != nil {
		return err
	}
	root, err := os.OpenRoot(into)
	if err != nil {
		return err
	}
	defer root.Close()
	for i, p := range paths {
		if paths[i] = path.Clean(p); err == nil {
			_, err = api.Files.Show(ctx, ref, p, false) // what is not there would be left out
		}
	}
	if err == nil {
		err = fileCommands{a.app}.fetch(ctx, api, ref, "", paths, root, 0)
	}
	if err != nil {
		return fmt.Errorf("%s cannot be brought: %s", strings.Join(paths, ", "), err) // the command has run, whatever is the matter
	}
	return nil
}

// unpack writes an archive of a workspace's to a folder here, and nothing outside
// of it: files and folders alone, without their owners.
func unpack(r io.Reader, root *os.Root) error {
	left, things := int64(bringMost), 0
	t := tar.NewReader(r)
	for {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			_, err = io.Copy(io.Discard, r) // what pads it
			return err
		}
		if err != nil {
			return fmt.Errorf("what is brought is no archive: %w", err)
		}
		if things++; things > thingsMost {
			return fmt.Errorf("more than %d files and folders are brought", thingsMost)
		}
		name := filepath.Clean(h.Name)
		if !filepath.IsLocal(name) {
			return fmt.Errorf("%q is not within what was asked for", plain.Line(h.Name, 100))
		}
		switch h.Typeflag {
		case tar.TypeDir:
			err = root.MkdirAll(name, 0o777)
		case tar.TypeReg:
			if left -= h.Size; left < 0 {
				return fmt.Errorf("more than %d GiB is brought", bringMost>>30)
			}
			err = writeFile(root, name, h.FileInfo().Mode().Perm(), h.ModTime, t)
		} // links lead elsewhere: they are left out
		if err != nil {
			return err
		}
	}
}

func writeFile(root *os.Root, name string, mode os.FileMode, at time.Time, r io.Reader) error {
	if err := root.MkdirAll(filepath.Dir(name), 0o777); err != nil {
		return err
	}
	f, err := root.OpenFile(name, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, mode|0o200)
	if err != nil {
		return err
	}
	if _, err := io.Copy(f, r); err != nil {
		f.Close()
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	return root.Chtimes(name, at, at)
}

// errandsOf runs an errand for each line of a file, some at once.
func (a errandCommands) errandsOf(ctx context.Context, api *client.Client, e errand, file string, atOnce int) error {
	if atOnce < 1 || atOnce > 64 {
		return usage{errors.New("--at-once is from 1 to 64")}
	}
	in := io.Reader(a.in)
	if file != "-" {
		f, err := os.Open(file)
		if err != nil {
			return err
		}
		defer f.Close()
		in = f
	}
	var lines [][]string
	s := bufio.NewScanner(in)
	for s.Scan() {
		if words := strings.Fields(s.Text()); len(words) > 0 && !strings.HasPrefix(words[0], "#") {
			lines = append(lines, words)
		}
		if len(lines) > 10_000 {
			return usage{errors.New("--each takes at most 10,000 lines")}
		}
	}
	if err := s.Err(); err != nil {
		return fmt.Errorf("read %s: %w", file, err)
	}
	a.quiet = true
	var mu sync.Mutex
	freed := make(chan struct{}) // closed and made anew when one has ended
	running, bad := 0, false
	turns, all := make(chan struct{}, atOnce), sync.WaitGroup{}
	for n, words := range lines {
		select {
		case <-ctx.Done():
		case turns <- struct{}{}:
		}
		if ctx.Err() != nil {
			break
		}
		all.Go(func() {
			defer func() { <-turns }()
			one := e
			one.launch.Repository, one.launch.Branch, _ = strings.Cut(words[0], "@")
			one.argv = append(slices.Clone(e.argv), words[1:]...)
			if len(e.bring) > 0 {
				one.into = filepath.Join(e.into, fmt.Sprint(n+1))
			}
			var r errandResult
			for alone := 0; ; {
				mu.Lock()
				next := freed
				running++
				mu.Unlock()
				var over bool
				r, over = a.oneOf(ctx, api, one)
				mu.Lock()
				running--
				if alone++; running > 0 {
					alone = 0
				}
				if !over {
					close(freed)
					freed = make(chan struct{})
				}
				mu.Unlock()
				if !over || alone > 1 { // nothing of these could make room, nor did anybody else
					break
				}
				select {
				case <-ctx.Done():
				case <-next:
				case <-time.After(10 * time.Second):
				}
			}
			r.Line = n + 1
			mu.Lock()
			defer mu.Unlock()
			bad = bad || r.ExitCode != 0
			_ = json.NewEncoder(a.out).Encode(r) // standard output may be closed
		})
	}
	all.Wait()
	switch {
	case ctx.Err() != nil:
		return exit(exitInterrupt)
	case bad:
		return exit(exitError)
	}
	return nil
}

// oneOf runs one of many errands. over tells that a limit keeps it from being
// begun.
func (a errandCommands) oneOf(ctx context.Context, api *client.Client, e errand) (r errandResult, over bool) {
	began := time.Now()
	null, err := os.Open(os.DevNull)
	if err != nil {
		return errandResult{ExitCode: exitNotBegun, Error: err.Error()}, false
	}
	defer null.Close()
	end := &tail{most: outputKept}
	quiet := *a.app
	quiet.in, quiet.out, quiet.err, quiet.carries, quiet.json = null, end, end, true, false
	code, name, err := errandCommands{&quiet}.errandOf(ctx, api, e)
	r = errandResult{Repository: e.launch.Repository, Branch: e.launch.Branch, Workspace: name, ExitCode: code, Output: strings.ToValidUTF8(string(end.kept), "\uFFFD"), Cut: end.cut, Seconds: time.Since(began).Round(time.Millisecond).Seconds()}
	if err == nil {
		if len(e.bring) > 0 {
			r.Brought = e.into
		}
		return r, false
	}
	var p *wire.Problem
	var interrupted exit
	switch {
	case errors.As(err, &p) && p.Type == wire.ProblemPrefix+"over-limit":
		r.ExitCode, r.Error, over = exitNotBegun, p.Error(), true
	case errors.As(err, &interrupted):
		r.ExitCode, r.Error = int(interrupted), "it did not come up, or was interrupted"
	case errors.As(err, &p) && name == "":
		r.ExitCode, r.Error = exitNotBegun, p.Error()
	default:
		r.ExitCode, r.Error = exitCutOff, err.Error()
	}
	return r, over
}

// tail keeps the end of what is written to it.
type tail struct {
	mu   sync.Mutex
	kept []byte
	most int
	cut  bool
}

func (t *tail) Write(p []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.kept = append(t.kept, p...)
	if more := len(t.kept) - t.most; more > 0 {
		t.kept, t.cut = append(t.kept[:0], t.kept[more:]...), true
	}
	return len(p), nil
}
