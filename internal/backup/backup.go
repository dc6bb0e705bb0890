// Package backup copies what a service keeps while it runs, checks such copies, and
// puts one back. It touches the data directory, the folder of the backup, and for a
// check a folder that is gone afterwards.
//
// A backup is a folder: records.db, a SQLite database; logs/ and recordings/, as they
// were; keys.age, the keys in a tar archive that is sealed by a passphrase (age,
// https://age-encryption.org/v1, by scrypt), unless they are kept apart; and
// manifest.json, which names each with its size and SHA-256. What the service makes
// anew by itself (mirrors, features, helpers) is not in it, nor people's files, which
// are the yard's.
package backup

import (
	"archive/tar"
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"filippo.io/age"

	"yardbench/internal/durable"
	"yardbench/internal/store"
)

// Form is the form of backups that this release writes; it reads it and older ones.
const Form = 1

// Names within a backup, and of what is copied of a data directory.
const (
	manifestFile = "manifest.json"
	recordsFile  = "records.db"
	keysFile     = "keys.age"
	databaseFile = "yardbench.db"
	keysFolder   = "keys"
	lastFile     = "last-backup" // when the newest was made
)

// folders are those of a data directory whose files are copied as they are.
var folders = []string{"logs", "recordings"}

// workFactor is what guessing a passphrase costs: scrypt's N as a power of two, about a
// second of one core. Tests have less.
var workFactor = 18

// FewestOfPassphrase is how many characters a passphrase has at least.
const FewestOfPassphrase = 12

// mostKeys bounds the archive of the keys, in bytes.
const mostKeys = 4 << 20

// File is one file of a backup.
type File struct {
	Path   string `json:"path"` // with slashes, beneath the backup's folder
	Bytes  int64  `json:"bytes"`
	SHA256 string `json:"sha256"` // in hexadecimal
}

// Manifest says what a backup is.
type Manifest struct {
	Form         int       `json:"form"`
	MadeAt       time.Time `json:"made_at"`
	Version      string    `json:"version"` // of the program that made it
	RecordsForm  int64     `json:"records_form"`
	Installation string    `json:"installation"`
	Keys         bool      `json:"keys"` // whether the keys are in it, sealed
	Files        []File    `json:"files"`
}

// Bytes is the size of it all.
func (m Manifest) Bytes() (n int64) {
	for _, f := range m.Files {
		n += f.Bytes
	}
	return n
}

// Make copies a data directory into a folder that is not there yet. A service may use
// the directory meanwhile: the records are of one moment, by SQLite's own means, and
// what is written to logs after it is there in part. The folder appears whole or not at
// all. passphrase seals the keys; without one they are left out.
func Make(ctx context.Context, dir, to, passphrase, version string, now time.Time) (m Manifest, err error) {
	database := filepath.Join(dir, databaseFile)
	if _, err := os.Stat(database); err != nil {
		return m, fmt.Errorf("%s is no data directory: %w", dir, err)
	}
	if inside, err := within(dir, to); err != nil || inside {
		return m, cmp.Or(err, fmt.Errorf("%s is in the data directory itself: what ends that would end the backup with it", to))
	}
	if _, err := os.Lstat(to); !errors.Is(err, fs.ErrNotExist) {
		return m, fmt.Errorf("%s is there already: name a folder that is not, each backup is one of its own", to)
	}
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return m, err
	}
	partial, err := unfinished(to, now)
	if err != nil {
		return m, err
	}
	defer os.RemoveAll(partial) // nothing is there any more once it has its name
	records := filepath.Join(partial, recordsFile)
	keys, err := copyWithKeys(ctx, dir, records)
	if err != nil {
		return m, err
	}
	m = Manifest{Form: Form, MadeAt: now.UTC().Truncate(time.Second), Version: version, Keys: passphrase != "", Files: []File{}}
	if m.RecordsForm, m.Installation, err = store.Known(ctx, records); err != nil {
		return m, err
	}
	for _, folder := range folders {
		if err := copyFolder(ctx, filepath.Join(dir, folder), filepath.Join(partial, folder)); err != nil {
			return m, err
		}
	}
	if m.Keys {
		if err := sealKeys(keys, filepath.Join(partial, keysFile), passphrase); err != nil {
			return m, fmt.Errorf("seal the keys: %w", err)
		}
	}
	if err = m.finish(ctx, partial, to); err == nil {
		err = durable.Write(filepath.Join(dir, lastFile), []byte(m.MadeAt.Format(time.RFC3339)+"\n"), 0o600)
	}
	return m, err
}

// finish writes what a backup is into its folder, and gives that its name.
func (m *Manifest) finish(ctx context.Context, partial, to string) (err error) {
	if m.Files, err = filesOf(ctx, partial); err != nil {
		return err
	}
	text, err := json.MarshalIndent(m, "", "  ")
	if err == nil {
		err = durable.Write(filepath.Join(partial, manifestFile), append(text, '\n'), 0o600)
	}
	if err == nil {
		err = os.Rename(partial, to)
	}
	if err == nil {
		err = durable.Folder(filepath.Dir(to))
	}
	return err
}

// Last is when the newest backup of a data directory was made; the zero time where none
// was.
func Last(dir string) (time.Time, error) {
	text, err := os.ReadFile(filepath.Join(dir, lastFile))
	if errors.Is(err, fs.ErrNotExist) {
		return time.Time{}, nil
	}
	if err != nil {
		return time.Time{}, err
	}
	return time.Parse(time.RFC3339, strings.TrimSpace(string(text)))
}

// within tells whether a path is in a folder, or is it.
func within(folder, path string) (bool, error) {
	folder, err := filepath.Abs(folder)
	if err != nil {
		return false, err
	}
	if path, err = filepath.Abs(path); err != nil {
		return false, err
	}
	rest, err := filepath.Rel(folder, path)
	return err == nil && rest != ".." && !strings.HasPrefix(rest, "../"), err
}

// unfinished makes a folder beside one that is to be, to become that; what was left of
// earlier ones, a day ago or longer, is taken away.
func unfinished(to string, now time.Time) (string, error) {
	pattern := "." + filepath.Base(to) + "-unfinished-"
	left, err := filepath.Glob(filepath.Join(filepath.Dir(to), pattern+"*"))
	if err != nil {
		return "", fmt.Errorf("%q cannot be the name of a folder here: leave out * ? [ and \\", filepath.Base(to))
	}
	for _, old := range left {
		if st, err := os.Stat(old); err == nil && now.Sub(st.ModTime()) > 24*time.Hour {
			if err := os.RemoveAll(old); err != nil {
				return "", err
			}
		}
	}
	return os.MkdirTemp(filepath.Dir(to), pattern)
}

// copyFolder copies the files of a folder, where there is one. A file that goes
// meanwhile is left out: the service prunes what is old.
func copyFolder(ctx context.Context, from, to string) error {
	return filepath.WalkDir(from, func(at string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		rest, err := filepath.Rel(from, at)
		if err != nil {
			return err
		}
		switch {
		case d.IsDir():
			return os.MkdirAll(filepath.Join(to, rest), 0o700)
		case !d.Type().IsRegular():
			return nil
		}
		err = copyFile(at, filepath.Join(to, rest))
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		return err
	})
}

func copyFile(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Sync(), out.Close())
}

// filesOf lists the files of a backup, but for its manifest.
func filesOf(ctx context.Context, folder string) ([]File, error) {
	out := []File{}
	err := filepath.WalkDir(folder, func(at string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return errors.Join(err, ctx.Err())
		}
		rest, err := filepath.Rel(folder, at)
		if err != nil || rest == manifestFile {
			return err
		}
		f, err := fileOf(at)
		f.Path = filepath.ToSlash(rest)
		out = append(out, f)
		return err
	})
	return out, err
}

func fileOf(at string) (f File, err error) {
	in, err := os.Open(at)
	if err != nil {
		return f, err
	}
	defer in.Close()
	sum := sha256.New()
	f.Bytes, err = io.Copy(sum, in)
	f.SHA256 = hex.EncodeToString(sum.Sum(nil))
	return f, err
}

// mostTries bounds how often the records are copied anew as keys change meanwhile.
const mostTries = 5

// copyWithKeys copies the records of a data directory, and gives the keys that open what
// is sealed in the copy: those that were there before and after it, in a tar archive. A
// key may be made or retired at any moment.
func copyWithKeys(ctx context.Context, dir, to string) ([]byte, error) {
	before, err := packKeys(filepath.Join(dir, keysFolder))
	for range mostTries {
		if err == nil {
			err = store.Copy(ctx, filepath.Join(dir, databaseFile), to)
		}
		if err != nil {
			return nil, fmt.Errorf("copy the records: %w", err)
		}
		after, err := packKeys(filepath.Join(dir, keysFolder))
		if err != nil || bytes.Equal(before, after) {
			return after, err
		}
		if before = after; os.Remove(to) != nil {
			break
		}
	}
	return nil, errors.New("the keys change all the time; make the backup again in a while")
}

// packKeys puts the files of a folder of keys into a tar archive, the same for the same
// keys.
func packKeys(from string) ([]byte, error) {
	var plain bytes.Buffer
	archive := tar.NewWriter(&plain)
	entries, err := os.ReadDir(from)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if !e.Type().IsRegular() || strings.HasPrefix(e.Name(), ".") { // one that is being written, or was as the service ended
			continue
		}
		content, err := os.ReadFile(filepath.Join(from, e.Name()))
		if err == nil {
			err = archive.WriteHeader(&tar.Header{Name: e.Name(), Mode: 0o600, Size: int64(len(content)), Typeflag: tar.TypeReg})
		}
		if err == nil {
			_, err = archive.Write(content)
		}
		if err != nil {
			return nil, err
		}
	}
	return plain.Bytes(), archive.Close()
}

// sealKeys writes an archive of keys that a passphrase opens.
func sealKeys(keys []byte, to, passphrase string) error {
	who, err := age.NewScryptRecipient(passphrase)
	if err != nil {
		return err
	}
	who.SetWorkFactor(workFactor)
	var sealed bytes.Buffer
	in, err := age.Encrypt(&sealed, who)
	if err == nil {
		_, err = in.Write(keys)
	}
	if err == nil {
		err = in.Close()
	}
	if err == nil {
		err = durable.Write(to, sealed.Bytes(), 0o600)
	}
	return err
}

// openKeys writes the keys of a backup into a folder.
func openKeys(from, to, passphrase string) error {
	sealed, err := os.Open(from)
	if err != nil {
		return err
	}
	defer sealed.Close()
	who, err := age.NewScryptIdentity(passphrase)
	if err != nil {
		return err
	}
	who.SetMaxWorkFactor(20)
	plain, err := age.Decrypt(io.LimitReader(sealed, mostKeys), who)
	if err != nil {
		return errors.New("the passphrase does not open the keys of this backup")
	}
	for archive := tar.NewReader(io.LimitReader(plain, mostKeys)); ; {
		h, err := archive.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("read the keys: %w", err)
		}
		if h.Typeflag != tar.TypeReg || h.Name != filepath.Base(h.Name) || strings.HasPrefix(h.Name, ".") {
			return fmt.Errorf("read the keys: %q is no name of one", h.Name)
		}
		content, err := io.ReadAll(archive)
		if err == nil {
			err = durable.Write(filepath.Join(to, h.Name), content, 0o600)
		}
		if err != nil {
			return err
		}
	}
}

// read gives the manifest of a backup whose files are as it says, and no others.
func read(ctx context.Context, folder string) (m Manifest, err error) {
	text, err := os.ReadFile(filepath.Join(folder, manifestFile))
	if err != nil {
		return m, fmt.Errorf("%s is no backup: %w", folder, err)
	}
	if err := json.Unmarshal(text, &m); err != nil {
		return m, fmt.Errorf("%s cannot be read: %w", filepath.Join(folder, manifestFile), err)
	}
	if m.Form < 1 || m.Form > Form {
		return m, fmt.Errorf("the backup has form %d and this release knows %d at most: take the release that made it (%s)", m.Form, Form, m.Version)
	}
	has, err := filesOf(ctx, folder)
	if err != nil {
		return m, err
	}
	var wrong []string
	there := map[string]File{}
	for _, f := range has {
		there[f.Path] = f
	}
	records := false
	for _, f := range m.Files {
		switch is, ok := there[f.Path]; {
		case !ok:
			wrong = append(wrong, f.Path+" is missing")
		case is != f:
			wrong = append(wrong, f.Path+" is not what it was")
		}
		delete(there, f.Path)
		records = records || f.Path == recordsFile
	}
	for _, path := range slices.Sorted(maps.Keys(there)) {
		wrong = append(wrong, path+" is none of it")
	}
	if len(wrong) > 0 {
		more := ""
		if len(wrong) > 10 {
			wrong, more = wrong[:10], fmt.Sprintf(", and %d more", len(wrong)-10)
		}
		return m, fmt.Errorf("the backup %s is damaged: %s%s", folder, strings.Join(wrong, "; "), more)
	}
	if !records {
		return m, fmt.Errorf("the backup %s has no %s", folder, recordsFile)
	}
	return m, nil
}
