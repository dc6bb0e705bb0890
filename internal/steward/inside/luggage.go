package inside

import (
	"archive/tar"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"time"

	"yardbench/internal/steward"
)

// What goes with somebody from workspace to workspace: plain files of their home
// folder, and nothing that leads out of it.

// errEnough ends a walk that has found as much as may come along.
var errEnough = errors.New("enough")

// LuggageOut packs what is asked for; see [steward.LuggageOut].
func LuggageOut(in io.Reader, out, told io.Writer) int {
	var ask steward.LuggageAsk
	home, err := os.OpenRoot(os.Getenv("HOME"))
	if err == nil {
		defer home.Close()
		err = json.NewDecoder(in).Decode(&ask)
	}
	if err != nil {
		fmt.Fprintln(told, "luggage:", err)
		return 1
	}
	to, left := tar.NewWriter(out), json.NewEncoder(told)
	files, total := 0, int64(0)
	leave := func(path, why string) error { return left.Encode(steward.LuggageLeft{Path: path, Why: why}) }
	for _, p := range ask.Paths {
		err := fs.WalkDir(home.FS(), p, func(name string, d fs.DirEntry, err error) error {
			if err != nil || !d.Type().IsRegular() {
				return nil // what cannot be looked at, or is no file, stays
			}
			st, err := d.Info()
			if err != nil {
				return nil
			}
			if files++; files > ask.Files {
				return errors.Join(errEnough, leave(name, fmt.Sprintf("these are more than %d files", ask.Files)))
			}
			if slices.Contains(ask.Known, steward.LuggageFile{Path: name, Bytes: st.Size(), ChangedUS: st.ModTime().UnixMicro()}) {
				return nil
			}
			if st.Size() > ask.MostFile {
				return leave(name, fmt.Sprintf("it is larger than %d KiB", ask.MostFile>>10))
			}
			content, err := readAtMost(home, name, ask.MostFile)
			if err != nil {
				return leave(name, "it cannot be read")
			}
			if total += int64(len(content)); total > ask.Most {
				return errors.Join(errEnough, leave(name, fmt.Sprintf("all together would be more than %d KiB", ask.Most>>10)))
			}
			err = to.WriteHeader(&tar.Header{Name: name, Mode: int64(st.Mode().Perm()), Size: int64(len(content)), ModTime: st.ModTime().Truncate(time.Microsecond), Format: tar.FormatPAX})
			if err == nil {
				_, err = to.Write(content)
			}
			return err
		})
		if errors.Is(err, errEnough) {
			break
		}
		if err != nil {
			fmt.Fprintln(told, "luggage:", err)
			return 1
		}
	}
	if to.Close() != nil {
		return 1
	}
	return 0
}

// readAtMost reads a file that may grow meanwhile.
func readAtMost(home *os.Root, name string, most int64) ([]byte, error) {
	f, err := home.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	content, err := io.ReadAll(io.LimitReader(f, most+1))
	if err == nil && int64(len(content)) > most {
		err = errors.New("it grew")
	}
	return content, err
}

// LuggageIn lays what comes into the home folder; see [steward.LuggageIn].
func LuggageIn(args []string, in io.Reader, out io.Writer) int {
	home, err := os.OpenRoot(os.Getenv("HOME"))
	if err != nil {
		fmt.Fprintln(out, "luggage:", err)
		return 1
	}
	defer home.Close()
	from, code, laid := tar.NewReader(in), 0, 0
	for {
		h, err := from.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			fmt.Fprintln(out, "luggage:", err)
			return 1
		}
		content, err := io.ReadAll(from)
		if err == nil {
			var put bool
			if put, err = lay(home, h, content, slices.Contains(args, "fresh")); put {
				laid++
			}
		}
		if err != nil {
			fmt.Fprintf(out, "~/%s stays as it is: %v\n", h.Name, err)
			code = 1
		}
	}
	fmt.Fprintf(out, "files laid into the home folder: %d\n", laid)
	return code
}

// lay puts one file in its place, in one step.
func lay(home *os.Root, h *tar.Header, content []byte, fresh bool) (put bool, err error) {
	is, err := home.Lstat(h.Name)
	switch {
	case err == nil && !is.Mode().IsRegular():
		return false, errors.New("something else is there")
	case err == nil && !fresh && !is.ModTime().Before(h.ModTime):
		return false, nil // as it is, or newer
	case err == nil:
		if same, err := home.ReadFile(h.Name); err == nil && bytes.Equal(same, content) && is.ModTime().Equal(h.ModTime) {
			return false, nil
		}
	}
	if err := home.MkdirAll(path.Dir(h.Name), 0o700); err != nil {
		return false, err
	}
	beside := h.Name + ".yardbench-laid"
	_ = home.Remove(beside) // of one that was cut off
	f, err := home.OpenFile(beside, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return false, err
	}
	_, err = f.Write(content)
	err = errors.Join(err, f.Chmod(fs.FileMode(h.Mode).Perm()), f.Close())
	if err == nil {
		err = home.Chtimes(beside, h.ModTime, h.ModTime)
	}
	if err == nil {
		err = home.Rename(beside, h.Name)
	}
	if err != nil {
		return false, errors.Join(err, home.Remove(beside))
	}
	return true, nil
}
