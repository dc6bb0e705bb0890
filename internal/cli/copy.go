package cli

import (
	"archive/tar"

	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/wire"
)

// remotePlace is a path in a workspace: NAME:PATH.
var remotePlace = regexp.MustCompile(`^([a-z][a-z0-9-]*(?:\.[a-z][a-z0-9.-]*)?):(.*)$`)

func (a fileCommands) copy() *cobra.Command {
	c := &cobra.Command{
		Use: "copy FROM TO", Short: "Copy files and folders into a workspace, or out of one",
		Long: "Copy a file or folder into a folder, keeping its name: out of a workspace, from NAME:PATH, or into one, to NAME:PATH. Paths in a workspace are from its workspace folder, and stay beneath it. A workspace that is stopped is started, where the house rules let that be. " +
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

// there lists the files beneath a place in a workspace, as they are called from the
// folder that it stands in. None is no error.
func (a fileCommands) there(ctx context.Context, api *client.Client, ref, at, name string) (map[string]stamp, error) {
	out := map[string]stamp{}
	note := func(n string, f wire.File) {
		if f.Kind == "file" {
			out[n] = stamp{f.Bytes, f.ModifiedAt.Unix()}
		}
	}
	f, err := api.Files.Show(ctx, ref, path.Join(at, name), true)
	if noFile(err) != nil {
		return out, nil
	}
	if err != nil {
		return nil, err
	}
	if note(name, f); f.Kind != "folder" {
		return out, nil
	}
	more, err := api.Files.Search(ctx, ref, path.Join(at, name), client.Search{All: true, Limit: listMost}, func(f wire.Found) error {
		n := f.Path
		if f.Raw != nil {
			n = string(f.Raw)
		}
		if f.File != nil {
			note(path.Join(name, n), *f.File)
		}
		return nil
	})
	if more {
		return nil, fmt.Errorf("there are more than %d files beneath %s: copy a part of it", listMost, path.Join(at, name))
	}
	return out, err
}

// fetch has files beneath a folder of a workspace packed, and unpacks them here.
func (a fileCommands) fetch(ctx context.Context, api *client.Client, ref, folder string, names []string, root *os.Root, bytes int64) error {
	r, w := io.Pipe()
	moved := newMoving(a.app, r, bytes)
	unpacked := make(chan error, 1)
	go func() {
		err := unpack(moved, root)
		r.CloseWithError(err) // who packs need not go on
		unpacked <- err
	}()
	err := api.Files.PackSome(ctx, ref, folder, names, w)
	w.CloseWithError(err)
	uerr := <-unpacked
	moved.end()
	if err != nil && (uerr == nil || errors.Is(uerr, err)) {
		return err
	}
	return uerr
}

// noFile is the problem that there is no such file in a workspace; nil where an error
// is another.
func noFile(err error) *wire.Problem {
	var p *wire.Problem
	if errors.As(err, &p) && p.Type == wire.ProblemPrefix+"not-found" && len(p.Errors) == 1 && p.Errors[0].Field == "path" {
		return p
	}
	return nil
}

// listMost bounds the files that are copied at once.
const listMost = 1_000_000

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
	there, err := a.there(ctx, api, ref, folder, name)
	if err != nil {
		return done, err
	}
	if len(there) == 0 {
		_, err := api.Files.Show(ctx, ref, from, false)
		if p := noFile(err); p != nil {
			p.Detail, p.Next, p.Errors = ref+" has no "+from, "paths are from the workspace folder", nil
		}
		if err != nil {
			return done, err
		}
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
	for name, is := range there {
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
	slices.Sort(wanted)
	if err := a.fetch(ctx, api, ref, folder, wanted, root, left); err != nil {
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
	there, err := a.there(ctx, api, ref, into, name)
	if err != nil {
		return done, err
	}
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
	_, err = api.Files.Unpack(ctx, ref, into, "tar", moved)
	r.CloseWithError(errors.New("it is not taken any more"))
	perr := <-packed
	if moved.end(); err != nil {
		return done, err
	}
	if perr != nil {
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
