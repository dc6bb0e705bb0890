package tree

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"os/exec"
	"path"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"golang.org/x/sys/unix"

	"yardbench/internal/steward"
)

// Bounds of a search.
const (
	maxSearched = 16 << 20 // bytes of one file that is looked into; a larger one is passed over
	maxLine     = 400      // bytes of a line that are shown
	maxPattern  = 1000
	asBinary    = 8000 // a zero byte within so many says that it is no text
)

// Query is what is searched.
type Query struct {
	Path       string
	Named      string // part of a path, or a pattern for it where it has one of *?[
	Text       string // part of a line; empty: names are searched
	Expression bool   // Text is one (RE2)
	Exact      bool   // capitals count
	All        bool   // what git passes over too, and .git
	Limit      int
}

// Search calls found for what a query finds, in the order of paths, and tells
// whether there was more than the limit. Unless the query says all, .git is not looked
// into, nor what git passes over, where the folder is git's.
func (t *Tree) Search(ctx context.Context, q Query, found func(steward.FileNews) error) (more bool, err error) {
	named, err := nameMatcher(q)
	if err != nil {
		return false, err
	}
	line, holds, err := lineMatcher(q)
	if err != nil {
		return false, err
	}
	root, rel, err := t.locate(q.Path)
	if err != nil {
		return false, err
	}
	left, looked := max(q.Limit, 1), 0
	errEnough := errors.New("enough")
	tell := func(n steward.FileNews) error {
		if left == 0 {
			more = true
			return errEnough
		}
		left--
		return found(n)
	}
	one := func(at spot, name string, e steward.FileEntry) error {
		if looked++; looked > steward.MaxFiles {
			return problem(steward.FileTooMuch, "there are more than %d files", steward.MaxFiles)
		}
		if !named(name) {
			return nil
		}
		if line == nil {
			return tell(steward.FileNews{Path: []byte(name), Entry: &e})
		}
		if e.Kind != "file" || e.Bytes > maxSearched {
			return nil
		}
		return lines(at, line, holds, func(n steward.FileNews) error { n.Path = []byte(name); return tell(n) })
	}
	listed, ok := []string(nil), false
	if !q.All {
		if listed, ok, err = t.unignored(ctx, root, rel); err != nil {
			return false, err
		}
	}
	if ok {
		err = each(ctx, root, rel, listed, one)
	} else {
		err = walk(ctx, root, rel, "", func(at spot, _, name string, e steward.FileEntry) (bool, error) {
			if !q.All && path.Base(name) == ".git" {
				return false, nil
			}
			return true, one(at, name, e)
		})
	}
	if errors.Is(err, errEnough) {
		err = nil
	}
	return more, told(q.Path, err)
}

// each looks at the names that git gave, which come folder by folder.
func each(ctx context.Context, root *os.Root, rel string, listed []string, one func(spot, string, steward.FileEntry) error) error {
	var dir *os.File
	in := ""
	defer func() { dir.Close() }() // of nil it is an error that nobody needs
	for _, name := range listed {
		if err := ctx.Err(); err != nil {
			return err
		}
		full := path.Join(rel, name)
		if dir == nil || path.Dir(full) != in {
			dir.Close()
			var err error
			if dir, err = openFolder(root, path.Dir(full)); err != nil {
				dir = nil
				continue // it went
			}
			in = path.Dir(full)
		}
		at := spot{dir, path.Base(full)}
		e, err := at.look()
		if err != nil || e.Kind == "folder" { // it went, or is another repository
			continue
		}
		if err := one(at, name, e); err != nil {
			return err
		}
	}
	return nil
}

// unignored asks git for the files of a folder that it does not pass over; ok is
// false where the folder is not git's.
func (t *Tree) unignored(ctx context.Context, root *os.Root, rel string) (files []string, ok bool, err error) {
	dir, err := openFolder(root, rel)
	if err != nil {
		return nil, false, err
	}
	defer dir.Close()
	cmd := exec.CommandContext(ctx, "git", "-c", "safe.directory=*", "ls-files", "-z", "--cached", "--others", "--exclude-standard")
	cmd.Dir = procPath(dir) // the folder that was opened, whatever its name leads to now
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, false, err
	}
	if err := cmd.Start(); err != nil {
		return nil, false, nil // there is no git
	}
	r := bufio.NewReaderSize(out, 64<<10)
	for {
		name, err := r.ReadString(0)
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil || len(files) >= steward.MaxFiles {
			_ = cmd.Process.Kill() // it has ended, or is not listened to
			break
		}
		files = append(files, strings.TrimSuffix(name, "\x00"))
	}
	if err := cmd.Wait(); err != nil {
		return nil, false, ctx.Err()
	}
	slices.Sort(files)
	return slices.Compact(files), true, nil // what is in conflict is named twice
}

func nameMatcher(q Query) (func(string) bool, error) {
	if len(q.Named) > maxPattern || len(q.Text) > maxPattern {
		return nil, problem(steward.FileInvalid, "what is searched has at most %d bytes", maxPattern)
	}
	want := q.Named
	fold := func(s string) string { return s }
	if !q.Exact {
		fold = strings.ToLower
		want = fold(want)
	}
	if !strings.ContainsAny(want, "*?[") {
		return func(name string) bool { return want == "" || strings.Contains(fold(name), want) }, nil
	}
	if _, err := path.Match(want, ""); err != nil {
		return nil, problem(steward.FileInvalid, "%q is no pattern: a [ has no end", q.Named)
	}
	whole := strings.Contains(want, "/")
	return func(name string) bool {
		if name = fold(name); !whole {
			name = path.Base(name)
		}
		ok, _ := path.Match(want, name) // it was tried above
		return ok
	}, nil
}

// lineMatcher finds where a line holds what is searched; nil where names are. holds
// tells quickly whether any line of a text may.
func lineMatcher(q Query) (line func(line []byte) []int, holds func(all []byte) bool, err error) {
	if q.Text == "" {
		return nil, nil, nil
	}
	if q.Exact && !q.Expression {
		want := []byte(q.Text)
		return func(line []byte) []int {
			i := bytes.Index(line, want)
			if i < 0 {
				return nil
			}
			return []int{i, i + len(want)}
		}, func(all []byte) bool { return bytes.Contains(all, want) }, nil
	}
	text := q.Text
	if !q.Expression {
		text = regexp.QuoteMeta(text)
	}
	if !q.Exact {
		text = "(?i)" + text
	}
	e, err := regexp.Compile(text)
	if err != nil {
		return nil, nil, problem(steward.FileInvalid, "this is no expression: %s", strings.TrimPrefix(err.Error(), "error parsing regexp: "))
	}
	many, err := regexp.Compile("(?m)" + text) // each line begins and ends
	if err != nil {
		return nil, nil, problem(steward.FileInvalid, "this is no expression: %s", err)
	}
	return e.FindIndex, many.Match, nil
}

// lines calls found for each line of a text that holds what is searched.
func lines(at spot, match func([]byte) []int, holds func([]byte) bool, found func(steward.FileNews) error) error {
	fd, err := unix.Openat(at.fd(), at.name, unix.O_RDONLY|unix.O_NOFOLLOW|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil // it may not be read, or went
	}
	f := os.NewFile(uintptr(fd), at.name)
	defer f.Close()
	all, err := io.ReadAll(io.LimitReader(f, maxSearched))
	if err != nil || bytes.IndexByte(all[:min(len(all), asBinary)], 0) >= 0 || !holds(all) {
		return nil
	}
	for number := 1; len(all) > 0; number++ {
		line, rest, _ := bytes.Cut(all, []byte("\n"))
		if at := match(line); at != nil {
			text, from := excerpt(line, at[0])
			if err := found(steward.FileNews{Line: number, Column: at[0] + 1, Length: at[1] - at[0], Text: text, From: from + 1}); err != nil {
				return err
			}
		}
		all = rest
	}
	return nil
}

// excerpt is the part of a long line around what was found, and where it begins.
func excerpt(line []byte, at int) (text []byte, from int) {
	line = bytes.TrimSuffix(line, []byte("\r"))
	if len(line) <= maxLine {
		return line, 0
	}
	from = max(0, min(at-maxLine/4, len(line)-maxLine))
	for from > 0 && !utf8.RuneStart(line[from]) {
		from--
	}
	to := min(len(line), from+maxLine)
	for to < len(line) && !utf8.RuneStart(line[to]) {
		to++
	}
	return line[from:to], from
}
