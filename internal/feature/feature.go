// Package feature fetches features that stand outside a repository: from a
// registry that speaks the OCI distribution protocol, or from the address of
// an archive, as the Development Container Specification's "Features
// distribution" has it. It keeps what it fetched in its folder by its digest.
// It touches that folder and the network, and nothing of a feature is run here.
package feature

import (
	"archive/tar"
	"bytes"
	"cmp"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"github.com/google/go-containerregistry/pkg/name"
	"github.com/google/go-containerregistry/pkg/v1/remote"

	"yardbench/internal/core/definition"
	"yardbench/internal/durable"
	"yardbench/internal/registry"
)

// Bounds on what is fetched.
const (
	MaxArchiveBytes = 64 << 20
	maxFilesBytes   = 256 << 20
	maxFiles        = 10_000
	fetchTimeout    = time.Minute
)

// Kept is a folder of features.
type Kept struct{ dir string }

// NewKept keeps features under dir.
func NewKept(dir string) *Kept { return &Kept{dir: dir} }

var digestForm = regexp.MustCompile(`^sha256:[0-9a-f]{64}$`)

func (k *Kept) file(digest string) string {
	return filepath.Join(k.dir, strings.TrimPrefix(digest, "sha256:")+".tar")
}

// Look finds out what a reference stands for now, and fetches that if it is
// not kept yet, signed in where there is a sign-in at its registry.
func (k *Kept) Look(ctx context.Context, ref string, as registry.SignIns) (definition.FeatureContent, error) {
	ctx, cancel := context.WithTimeout(ctx, fetchTimeout)
	defer cancel()
	digest, archive, err := k.fetch(ctx, ref, as)
	if err != nil {
		return definition.FeatureContent{}, err
	}
	if archive != nil {
		if err := k.keep(digest, archive); err != nil {
			return definition.FeatureContent{}, err
		}
	}
	var manifest []byte
	err = k.each(digest, func(h *tar.Header, r io.Reader) error {
		if h.Name == "devcontainer-feature.json" && h.Typeflag == tar.TypeReg {
			manifest, err = io.ReadAll(io.LimitReader(r, definition.MaxBytes+1))
		}
		return err
	})
	if err == nil && manifest == nil {
		err = errors.New("it holds no devcontainer-feature.json")
	}
	return definition.FeatureContent{Manifest: manifest, Digest: digest}, err
}

// Unpack writes a feature's files into dest, fetching them again if they are
// not kept any more.
func (k *Kept) Unpack(ctx context.Context, f definition.Feature, dest string, as registry.SignIns) error {
	if !digestForm.MatchString(f.Digest) {
		return fmt.Errorf("the feature %s has no digest", f.Ref)
	}
	if _, err := os.Stat(k.file(f.Digest)); errors.Is(err, fs.ErrNotExist) {
		c, err := k.Look(ctx, cmp.Or(f.From, f.Ref), as)
		if err == nil && c.Digest != f.Digest {
			err = errors.New("it is another one now")
		}
		if err != nil {
			return fmt.Errorf("fetch the feature %s: %w", f.Ref, err)
		}
	}
	var total int64
	files := 0
	return k.each(f.Digest, func(h *tar.Header, r io.Reader) error {
		to := filepath.Join(dest, filepath.FromSlash(h.Name))
		if files++; files > maxFiles {
			return fmt.Errorf("the feature %s has more than %d files", f.Ref, maxFiles)
		}
		switch h.Typeflag {
		case tar.TypeDir:
			return os.MkdirAll(to, 0o755)
		case tar.TypeReg:
			if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
				return err
			}
			out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600|fs.FileMode(h.Mode)&0o155)
			if err != nil {
				return err
			}
			n, err := io.Copy(out, io.LimitReader(r, maxFilesBytes-total+1))
			if total += n; total > maxFilesBytes {
				err = fmt.Errorf("the feature %s has more than %d MiB", f.Ref, maxFilesBytes>>20)
			}
			return errors.Join(err, out.Close())
		}
		return nil // links and devices are nobody's install script
	})
}

// each goes through a kept archive. Names are clean and lead nowhere else.
func (k *Kept) each(digest string, do func(*tar.Header, io.Reader) error) error {
	f, err := os.Open(k.file(digest))
	if err != nil {
		return err
	}
	defer f.Close()
	whole := sha256.New() // what is kept could have been another's before this was looked at
	if _, err := io.Copy(whole, io.LimitReader(f, MaxArchiveBytes+1)); err != nil {
		return err
	}
	if "sha256:"+hex.EncodeToString(whole.Sum(nil)) != digest {
		return errors.New("what is kept of it is something else; remove " + k.file(digest))
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	var in io.Reader = f
	head := make([]byte, 2)
	if _, err := io.ReadFull(f, head); err != nil {
		return errors.New("it is no archive")
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	if bytes.Equal(head, []byte{0x1f, 0x8b}) {
		z, err := gzip.NewReader(f)
		if err != nil {
			return fmt.Errorf("it is no archive: %w", err)
		}
		in = z
	}
	in = io.LimitReader(in, maxFilesBytes+(16<<20))
	for t := tar.NewReader(in); ; {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("it is no archive: %w", err)
		}
		h.Name = strings.TrimPrefix(path.Clean(h.Name), "/")
		if h.Name == "." {
			continue
		}
		if h.Name == ".." || strings.HasPrefix(h.Name, "../") {
			return fmt.Errorf("it holds a file outside of itself: %q", h.Name)
		}
		if err := do(h, t); err != nil {
			return err
		}
	}
}

// keep writes an archive whole or not at all.
func (k *Kept) keep(digest string, archive []byte) error {
	return durable.Write(k.file(digest), archive, 0o600)
}

// fetch gives the digest of what a reference stands for, and the archive
// itself where it is not kept yet.
func (k *Kept) fetch(ctx context.Context, ref string, as registry.SignIns) (digest string, archive []byte, err error) {
	if strings.HasPrefix(ref, "https://") || strings.HasPrefix(ref, "http://") {
		return k.fetchLink(ctx, ref)
	}
	r, err := name.ParseReference(ref)
	if err != nil {
		return "", nil, err
	}
	d, err := remote.Get(r, remote.WithContext(ctx), remote.WithTransport(registry.Transport), remote.WithAuthFromKeychain(as))
	if err != nil {
		return "", nil, fmt.Errorf("ask its registry: %w", err)
	}
	var m struct {
		Layers []struct {
			MediaType string `json:"mediaType"`
			Digest    string `json:"digest"`
			Size      int64  `json:"size"`
		} `json:"layers"`
	}
	if err := json.Unmarshal(d.Manifest, &m); err != nil || len(m.Layers) != 1 || !digestForm.MatchString(m.Layers[0].Digest) {
		return "", nil, errors.New("what its registry has there is no feature")
	}
	l := m.Layers[0]
	switch {
	case l.Size > MaxArchiveBytes:
		return "", nil, fmt.Errorf("it has %d MiB; at most %d are allowed", l.Size>>20, MaxArchiveBytes>>20)
	case k.has(l.Digest):
		return l.Digest, nil, nil
	}
	layer, err := remote.Layer(r.Context().Digest(l.Digest), remote.WithContext(ctx), remote.WithTransport(registry.Transport), remote.WithAuthFromKeychain(as))
	if err != nil {
		return "", nil, fmt.Errorf("ask its registry: %w", err)
	}
	in, err := layer.Compressed()
	if err != nil {
		return "", nil, fmt.Errorf("ask its registry: %w", err)
	}
	defer in.Close()
	archive, err = io.ReadAll(io.LimitReader(in, MaxArchiveBytes+1))
	if err == nil && len(archive) > MaxArchiveBytes {
		err = fmt.Errorf("it has more than %d MiB", MaxArchiveBytes>>20)
	}
	if err == nil && digestOf(archive) != l.Digest {
		err = errors.New("what its registry sends is not what it announces")
	}
	return l.Digest, archive, err
}

// digestOf is the digest of an archive, by which it is kept.
func digestOf(archive []byte) string {
	sum := sha256.Sum256(archive)
	return "sha256:" + hex.EncodeToString(sum[:])
}

func (k *Kept) has(digest string) bool {
	_, err := os.Stat(k.file(digest))
	return err == nil
}

func (k *Kept) fetchLink(ctx context.Context, link string) (string, []byte, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, link, nil)
	if err != nil {
		return "", nil, err
	}
	// Where it is sent on to is not where the house rules let it be fetched from.
	stay := http.Client{Transport: registry.Transport, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	res, err := stay.Do(req)
	if err != nil {
		return "", nil, err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return "", nil, fmt.Errorf("%s answers %s", req.URL.Host, res.Status)
	}
	archive, err := io.ReadAll(io.LimitReader(res.Body, MaxArchiveBytes+1))
	if err == nil && len(archive) > MaxArchiveBytes {
		err = fmt.Errorf("it has more than %d MiB", MaxArchiveBytes>>20)
	}
	return digestOf(archive), archive, err
}
