// Package changes reads what git says of a clone: what is changed, where its
// branches stand, how two states of a file differ; and makes patches of some of the
// hunks. What it reads is hostile: it is bounded by whoever reads it, and what is cut
// off in the middle is read as far as it is whole.
//
// It is part of the core: plain functions over plain values.
package changes

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Status is how a clone stands, by git status --porcelain=v2 --branch --show-stash -z
// (git-status(1), "Porcelain Format Version 2").
type Status struct {
	Branch   string // empty: none is out (a detached head)
	Commit   string // empty: there is none yet
	Upstream string // empty: none
	Ahead    int    // commits that the upstream has not, as far as was fetched
	Behind   int
	Stashes  int
	Files    []File
}

// File is one that is changed. Staged and Unstaged are empty where it is not.
type File struct {
	Path     string // bytes
	From     string // its name before, where it has another
	Staged   string // modified, added, deleted, renamed, copied, type
	Unstaged string // the same, and untracked
	Conflict bool
}

var letters = map[byte]string{'M': "modified", 'A': "added", 'D': "deleted", 'R': "renamed", 'C': "copied", 'T': "type"}

// ReadStatus reads it. A record that was cut off is left out.
func ReadStatus(out []byte) (s Status, err error) {
	records := strings.Split(string(out), "\x00")
	for i := 0; i < len(records)-1; i++ { // behind the last zero there is nothing, or half a record
		r := records[i]
		kind, rest, _ := strings.Cut(r, " ")
		switch kind {
		case "#":
			s.head(rest)
		case "?":
			s.Files = append(s.Files, File{Path: rest, Unstaged: "untracked"})
		case "1", "2", "u":
			fields := map[string]int{"1": 8, "2": 9, "u": 10}[kind]
			f := strings.SplitN(rest, " ", fields)
			if len(f) != fields || len(f[0]) != 2 {
				return s, fmt.Errorf("git says of its status %.60q", r)
			}
			file := File{Path: f[fields-1], Staged: letters[f[0][0]], Unstaged: letters[f[0][1]], Conflict: kind == "u"}
			if kind == "2" {
				if i++; i >= len(records)-1 {
					return s, nil
				}
				file.From = records[i]
			}
			s.Files = append(s.Files, file)
		}
	}
	return s, nil
}

func (s *Status) head(line string) {
	key, value, _ := strings.Cut(line, " ")
	switch key {
	case "branch.oid":
		if value != "(initial)" {
			s.Commit = value
		}
	case "branch.head":
		if value != "(detached)" {
			s.Branch = value
		}
	case "branch.upstream":
		s.Upstream = value
	case "branch.ab":
		_, _ = fmt.Sscanf(value, "+%d -%d", &s.Ahead, &s.Behind) // what cannot be read is nothing
	case "stash":
		s.Stashes, _ = strconv.Atoi(value)
	}
}

// Difference is how two states of a file differ.
type Difference struct {
	Binary bool
	Head   []byte // what a patch of it begins with
	Hunks  []Hunk
	Cut    bool // there was more than is read
}

// Hunk is one place where they do.
type Hunk struct {
	ID                                     string // of its content
	OldStart, OldLines, NewStart, NewLines int    // lines, from 1
	About                                  string // what git says it is in
	Lines                                  [][]byte
	raw                                    []byte
}

// ReadDifference reads one file of a unified diff as git writes it (git-diff(1)).
// cut says that its end is missing: the hunk in which it breaks off is left out.
func ReadDifference(out []byte, cut bool) (d Difference, err error) {
	at := bytes.Index(out, []byte("\n@@ "))
	if bytes.HasPrefix(out, []byte("@@ ")) {
		at = -1
	}
	if at < 0 {
		d.Head, d.Cut = out, cut
		d.Binary = bytes.Contains(out, []byte("\nBinary files ")) || bytes.Contains(out, []byte("\nGIT binary patch"))
		return d, nil
	}
	d.Head, out = out[:at+1], out[at+1:]
	if bytes.Count(d.Head, []byte("diff --git ")) > 1 {
		return d, errors.New("it is the difference of several files")
	}
	seen := map[string]int{}
	for len(out) > 0 {
		h, size, whole := readHunk(out)
		if !whole {
			if !cut {
				return d, fmt.Errorf("git says of a difference %.60q", out)
			}
			d.Cut = true
			return d, nil
		}
		sum := sha256.Sum256(h.raw[bytes.IndexByte(h.raw, '\n')+1:]) // not where it stands: that moves with others
		h.ID = hex.EncodeToString(sum[:8])
		if seen[h.ID]++; seen[h.ID] > 1 {
			h.ID += "." + strconv.Itoa(seen[h.ID])
		}
		d.Hunks = append(d.Hunks, h)
		out = out[size:]
	}
	d.Cut = cut
	return d, nil
}

// readHunk reads one; whole is false where it is none, or its end is missing.
func readHunk(out []byte) (h Hunk, size int, whole bool) {
	line, rest, ok := bytes.Cut(out, []byte("\n"))
	if !ok {
		return h, 0, false
	}
	places, about, ok := strings.Cut(strings.TrimPrefix(string(line), "@@ "), " @@")
	old, fresh, ok2 := strings.Cut(places, " ")
	if !ok || !ok2 || !strings.HasPrefix(string(line), "@@ ") {
		return h, 0, false
	}
	h.About = strings.TrimSpace(about)
	if !span(old, '-', &h.OldStart, &h.OldLines) || !span(fresh, '+', &h.NewStart, &h.NewLines) {
		return h, 0, false
	}
	left, right := h.OldLines, h.NewLines
	for left > 0 || right > 0 || bytes.HasPrefix(rest, []byte("\\")) {
		text, after, ok := bytes.Cut(rest, []byte("\n"))
		if !ok || len(text) == 0 && len(after) == 0 {
			return h, 0, false
		}
		kind := byte(' ') // some tools leave the blank of an empty line out
		if len(text) > 0 {
			kind = text[0]
		}
		switch kind {
		case ' ':
			left, right = left-1, right-1
		case '-':
			left--
		case '+':
			right--
		case '\\':
		default:
			return h, 0, false
		}
		if left < 0 || right < 0 {
			return h, 0, false
		}
		h.Lines = append(h.Lines, text)
		rest = after
	}
	size = len(out) - len(rest)
	h.raw = out[:size]
	return h, size, true
}

func span(text string, sign byte, start, lines *int) bool {
	if text == "" || text[0] != sign {
		return false
	}
	a, b, both := strings.Cut(text[1:], ",")
	n, err := strconv.Atoi(a)
	*start, *lines = n, 1
	if err != nil || n < 0 {
		return false
	}
	if both {
		if *lines, err = strconv.Atoi(b); err != nil || *lines < 0 {
			return false
		}
	}
	return true
}

// Pick makes a patch of some of a difference's hunks. missing is an id that none has:
// the file is another than whoever chose has seen.
func (d Difference) Pick(ids []string) (patch []byte, missing string) {
	want := map[string]bool{}
	for _, id := range ids {
		want[id] = true
	}
	patch = append(patch, d.Head...)
	for _, h := range d.Hunks {
		if want[h.ID] {
			patch = append(patch, h.raw...)
			delete(want, h.ID)
		}
	}
	for _, id := range ids {
		if want[id] {
			return nil, id
		}
	}
	return patch, ""
}

// Branch is one of a clone's, or one of its remote's as it was fetched.
type Branch struct {
	Name     string
	Remote   bool
	Current  bool
	Upstream string
	Ahead    int
	Behind   int
	At       time.Time // its newest commit
	Commit   string
	Subject  string
}

// BranchFormat is the format by which git for-each-ref says what [ReadBranches] reads.
const BranchFormat = "%(refname)%00%(HEAD)%00%(upstream:short)%00%(upstream:track,nobracket)%00%(committerdate:unix)%00%(objectname)%00%(contents:subject)"

// ReadBranches reads branches. A line that was cut off is left out.
func ReadBranches(out []byte) (all []Branch) {
	lines := strings.Split(string(out), "\n")
	for _, line := range lines[:len(lines)-1] {
		f := strings.Split(line, "\x00")
		if len(f) != 7 {
			continue
		}
		b := Branch{Current: f[1] == "*", Upstream: f[2], Commit: f[5], Subject: f[6]}
		name, local := strings.CutPrefix(f[0], "refs/heads/")
		if !local {
			if name, b.Remote = strings.CutPrefix(f[0], "refs/remotes/"); !b.Remote || strings.HasSuffix(name, "/HEAD") {
				continue
			}
		}
		b.Name = name
		for _, part := range strings.Split(f[3], ", ") {
			_, _ = fmt.Sscanf(part, "ahead %d", &b.Ahead) // what cannot be read is nothing
			_, _ = fmt.Sscanf(part, "behind %d", &b.Behind)
		}
		if n, err := strconv.ParseInt(f[4], 10, 64); err == nil {
			b.At = time.Unix(n, 0).UTC()
		}
		all = append(all, b)
	}
	return all
}
