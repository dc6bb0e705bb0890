package cli

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/internal/core/plain"
	"yardbench/wire"
)

// remotePlace is a path in a workspace: NAME:PATH.
var remotePlace = regexp.MustCompile(`^([a-z][a-z0-9-]*(?:\.[a-z][a-z0-9]*)?):(.*)$`)

// listing has a shell say the size, the time and the name of each file beneath $1 in
// the folder $0, in words that every find and stat understands.
const listing = `cd "$0" 2>/dev/null && [ -e "$1" ] && exec find "$1" -type f -exec stat -c '%s %Y %n' {} +`

func (a fileCommands) copy() *cobra.Command {
	c := &cobra.Command{
		Use: "copy FROM TO", Short: "Copy files and folders into a workspace, or out of one",
		Long: "Copy a file or folder into a folder, keeping its name: out of a workspace, from NAME:PATH, or into one, to NAME:PATH. Paths in a workspace are from its workspace folder. " +
			"What is there already with the same size and time is left out: a copy that was cut off goes on where it was, file by file. Links are left out.",
		Example: "  yardbench copy tide-board:report .\n  yardbench copy levels.csv tide-board:data\n  yardbench copy charts tide-board:", Args: cobra.ExactArgs(2), ValidArgsFunction: a.places,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			from, to := remotePlace.FindStringSubmatch(args[0]), remotePlace.FindStringSubmatch(args[1])
			if (from == nil) == (to == nil) {
				return usage{errors.New("one of the two is in a workspace: write it as NAME:PATH, the other as a path here")}
			}
			var copied copied
			var err error
			if from != nil {
				copied, err = a.copyOut(cmd.Context(), api, from[1], from[2], args[1])
			} else {
				copied, err = a.copyIn(cmd.Context(), api, args[0], to[1], to[2])
			}
			if err != nil {
				return err
			}
			return a.print(copied, func() {
				fmt.Fprintf(a.err, "%d files, %s; %d were there already\n", copied.Files, volume(copied.Bytes), copied.There)
			})
		}),
	}
	return c
}

// places completes what is copied: files here, and workspaces with a colon.
func (a fileCommands) places(cmd *cobra.Command, args []string, word string) (out []string, _ cobra.ShellCompDirective) {
	names, _ := a.names(cmd, nil, word)
	for _, n := range names {
		n, _, _ = strings.Cut(n, "\t")
		out = append(out, n+":")
	}
	return out, cobra.ShellCompDirectiveNoSpace
}

// copied is what was copied.
type copied struct {
	Files int   `json:"files"`
	Bytes int64 `json:"bytes"`
	There int   `json:"there"` // files that were there already
}

// stamp is how a file is known to be the same.
type stamp struct{ size, at int64 }

// stamps reads what listing says.
func stamps(text string) map[string]stamp {
	out := map[string]stamp{}
	for _, line := range strings.Split(text, "\n") {
		size, rest, _ := strings.Cut(line, " ")
		at, name, ok := strings.Cut(rest, " ")
		n, err1 := strconv.ParseInt(size, 10, 64)
		t, err2 := strconv.ParseInt(at, 10, 64)
		if ok && err1 == nil && err2 == nil {
			out[name] = stamp{n, t}
		}
	}
	return out
}

// remote runs a command in a workspace with its input and output, and gives what it
// said on standard error.
func (a fileCommands) remote(ctx context.Context, api *client.Client, ref string, argv []string, in io.Reader, out io.Writer) (code int, said string, err error) {
	r, w, err := os.Pipe() // a session reads a file
	if err != nil {
		return 0, "", err
	}
	defer r.Close()
	go func() {
		_, _ = io.Copy(w, in) // who reads it says why there is no more
		w.Close()
	}()
	errs := &tail{most: 4 << 10}
	quiet := *a.app
	quiet.in, quiet.out, quiet.err = r, out, errs
	code, err = workspaceCommands{&quiet}.command(ctx, api, ref, argv)
	return code, plain.Line(strings.ReplaceAll(strings.TrimSpace(string(errs.kept)), "\n", "; "), 300), err
}

// fetch has a command in a workspace pack an archive, and unpacks it here.
func (a fileCommands) fetch(ctx context.Context, api *client.Client, ref string, argv []string, in io.Reader, root *os.Root, bytes int64) error {
	r, w := io.Pipe()
	moved := newMoving(a.app, r, bytes)
	unpacked := make(chan error, 1)
	go func() {
		err := unpack(moved, root)
		r.CloseWithError(err) // who packs need not go on
		unpacked <- err
	}()
	code, said, err := a.remote(ctx, api, ref, argv, in, w)
	w.CloseWithError(err)
	uerr := <-unpacked
	moved.end()
	switch {
	case err != nil:
		return err
	case uerr != nil:
		return uerr
	case code != 0:
		return fmt.Errorf("it cannot be packed there: %s", said)
	}
	return nil
}

// listed is what was listed, up to a bound: it may be anybody's.
type listed struct{ bytes.Buffer }

func (l *listed) Write(p []byte) (int, error) {
	if l.Len()+len(p) > listMost {
		return 0, fmt.Errorf("there are too many files to list: more than %d MiB of names", listMost>>20)
	}
	return l.Buffer.Write(p)
}

// listMost bounds what a workspace says of its files, in bytes.
const listMost = 64 << 20

// copyOut copies from a workspace to a folder here.
func (a fileCommands) copyOut(ctx context.Context, api *client.Client, ref, from, into string) (done copied, err error) {
	from = path.Clean(from)
	folder, name := path.Split(from)
	if name == "" || name == "." || name == ".." {
		return done, usage{errors.New("name a file or folder in the workspace: NAME:PATH")}
	}
	if folder == "" {
		folder = "."
	}
	var list listed
	code, said, err := a.remote(ctx, api, ref, []string{"sh", "-c", listing, folder, name}, strings.NewReader(""), &list)
	if err != nil {
		return done, err
	}
	if code != 0 {
		return done, &wire.Problem{Status: 404, Detail: fmt.Sprintf("%s has no %s; %s", ref, from, said), Next: "paths are from the workspace folder"}
	}
	if err := os.MkdirAll(into, 0o777); err != nil {
		return done, err
	}
	root, err := os.OpenRoot(into)
	if err != nil {
		return done, err
	}
	defer root.Close()
	var wanted []string
	left := int64(0)
	for name, is := range stamps(list.String()) {
		if i, err := root.Lstat(filepath.FromSlash(path.Clean(name))); err == nil && i.Mode().IsRegular() && (stamp{i.Size(), i.ModTime().Unix()}) == is {
			done.There++
			continue
		}
		wanted = append(wanted, name)
		left += is.size
	}
	if len(wanted) == 0 {
		return done, nil
	}
	err = a.fetch(ctx, api, ref, []string{"sh", "-c", `cd "$0" && exec tar -cf - -T -`, folder}, strings.NewReader(strings.Join(wanted, "\n")+"\n"), root, left)
	if err != nil {
		return done, err
	}
	done.Files, done.Bytes = len(wanted), left
	return done, nil
}

// copyIn copies from here to a folder of a workspace.
func (a fileCommands) copyIn(ctx context.Context, api *client.Client, from, ref, into string) (done copied, err error) {
	from, err = filepath.Abs(from)
	if err != nil {
		return done, err
	}
	folder, name := filepath.Split(from)
	if into == "" {
		into = "."
	}
	var list listed
	if _, _, err := a.remote(ctx, api, ref, []string{"sh", "-c", listing, into, name}, strings.NewReader(""), &list); err != nil {
		return done, err // where nothing is there yet, nothing is listed
	}
	there := stamps(list.String())
	var wanted []string
	err = filepath.WalkDir(from, func(p string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() {
			return err
		}
		i, err := e.Info()
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(folder, p)
		if err != nil {
			return err
		}
		if is, ok := there[filepath.ToSlash(rel)]; ok && is == (stamp{i.Size(), i.ModTime().Unix()}) {
			done.There++
			return nil
		}
		wanted = append(wanted, rel)
		done.Bytes += i.Size()
		return nil
	})
	if err != nil || len(wanted) == 0 {
		return done, err
	}
	r, w := io.Pipe()
	moved := newMoving(a.app, r, done.Bytes)
	packed := make(chan error, 1)
	go func() {
		err := pack(w, folder, wanted)
		w.CloseWithError(err)
		packed <- err
	}()
	code, said, err := a.remote(ctx, api, ref, []string{"sh", "-c", `mkdir -p "$0" && cd "$0" && exec tar -xf -`, into}, moved, io.Discard)
	r.CloseWithError(errors.New("it is not taken any more"))
	perr := <-packed
	moved.end()
	switch {
	case err != nil:
		return done, err
	case code != 0:
		return done, fmt.Errorf("it cannot be unpacked there: %s", said)
	case perr != nil:
		return done, perr
	}
	done.Files = len(wanted)
	return done, nil
}

// pack writes files beneath a folder as an archive.
func pack(w io.Writer, folder string, names []string) error {
	t := tar.NewWriter(w)
	for _, name := range names {
		if err := packFile(t, filepath.Join(folder, name), filepath.ToSlash(name)); err != nil {
			return err
		}
	}
	return t.Close()
}

func packFile(t *tar.Writer, at, name string) error {
	f, err := openPlain(at)
	if err != nil {
		return err
	}
	defer f.Close()
	i, err := f.Stat()
	if err != nil {
		return err
	}
	if err := t.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: name, Mode: int64(i.Mode().Perm()), Size: i.Size(), ModTime: i.ModTime().Truncate(time.Second)}); err != nil {
		return err
	}
	_, err = io.CopyN(t, f, i.Size())
	return err
}

// moving counts what moves, and shows it on a terminal.
type moving struct {
	io.Reader
	a     *app
	of, n int64
	last  time.Time
	live  bool
}

func newMoving(a *app, r io.Reader, of int64) *moving {
	return &moving{Reader: r, a: a, of: of, live: isTerminal(a.err) && !a.json && !a.quiet}
}

func (m *moving) Read(p []byte) (int, error) {
	n, err := m.Reader.Read(p)
	if m.n += int64(n); m.live && time.Since(m.last) > 200*time.Millisecond {
		m.last = time.Now()
		of := ""
		if m.of > 0 {
			of = " of " + volume(m.of)
		}
		fmt.Fprintf(m.a.err, "\r\033[K%s%s", volume(m.n), of)
	}
	return n, err
}

func (m *moving) end() {
	if m.live {
		fmt.Fprint(m.a.err, "\r\033[K")
	}
}
