// Package luggage decides what of people's home folders goes with them from workspace
// to workspace. It touches nothing.
package luggage

import (
	"fmt"
	"path"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"
)

// Bounds on what goes with somebody, beside the bytes that the house rules say.
const (
	MostPaths     = 20
	MostPath      = 200 // bytes of one
	MostFiles     = 500
	MostFileBytes = 512 << 10 // of one file
)

// File is a file that goes with somebody, or may. Its path is relative to the home
// folder, with slashes.
type File struct {
	Path      string
	Mode      uint32 // permission bits
	ChangedAt time.Time
	Bytes     int64
}

// Check reads a path of a home folder: .bash_history, or ~/.config/tide, a file or a
// folder with all that is in it. It gives the path relative to the home folder.
func Check(p string) (string, error) {
	in := strings.TrimSuffix(strings.TrimPrefix(strings.TrimSpace(p), "~/"), "/")
	switch {
	case in == "" || in == "~" || in == ".":
		return "", fmt.Errorf("the whole home folder goes with nobody: name files and folders in it")
	case len(in) > MostPath || !utf8.ValidString(in) || strings.ContainsFunc(in, unicode.IsControl):
		return "", fmt.Errorf("this is no path of at most %d bytes that can be read", MostPath)
	case path.IsAbs(in):
		return "", fmt.Errorf("%s is not in the home folder: say it from there, like ~/.config/tide", in)
	case path.Clean(in) != in || in == ".." || strings.HasPrefix(in, "../"):
		return "", fmt.Errorf("%s is no plain path: write it without . and ..", in)
	case strings.ContainsAny(in, `*?[\`):
		return "", fmt.Errorf("%s: name files and folders, not patterns", in)
	case in == ".own-files" || strings.HasPrefix(in, ".own-files/"):
		return "", fmt.Errorf("~/.own-files comes from its repository")
	}
	return in, nil
}

// CheckAll reads paths, each once; what lies in another's folder is left out.
func CheckAll(paths []string) (out []string, err error) {
	var all []string
	for _, p := range paths {
		is, err := Check(p)
		if err != nil {
			return nil, err
		}
		all = append(all, is)
	}
	for n, p := range all {
		var others []string
		others = append(append(others, out...), all[n+1:]...)
		if !Holds(others, p) {
			out = append(out, p)
		}
	}
	if len(out) > MostPaths {
		return nil, fmt.Errorf("%d paths are more than the %d that go with somebody: name a folder that holds several", len(out), MostPaths)
	}
	return out, nil
}

// Holds tells whether a file is one of some paths, or beneath one.
func Holds(paths []string, file string) bool {
	for _, p := range paths {
		if file == p || strings.HasPrefix(file, p+"/") {
			return true
		}
	}
	return false
}

// Take decides whether a file that a workspace has comes to what is kept of somebody,
// in the place of an older one; most bounds all of theirs in bytes. The newer file
// counts, whichever workspace has it. Why says what keeps it out; it is empty where it
// is merely no newer.
func Take(kept []File, paths []string, found File, most int64) (ok bool, why string) {
	total, there := found.Bytes, false
	for _, k := range kept {
		if k.Path != found.Path {
			total += k.Bytes
			continue
		}
		if there = true; !found.ChangedAt.After(k.ChangedAt) {
			return false, ""
		}
	}
	switch is, err := Check(found.Path); {
	case err != nil || is != found.Path || !Holds(paths, found.Path):
		return false, "it was not asked for"
	case found.Bytes > MostFileBytes:
		return false, fmt.Sprintf("it is larger than %d KiB", MostFileBytes>>10)
	case total > most:
		return false, fmt.Sprintf("all together would be more than the %d KiB that the house rules let go along", most>>10)
	case !there && len(kept) >= MostFiles:
		return false, fmt.Sprintf("there are %d files already", MostFiles)
	}
	return true, ""
}
