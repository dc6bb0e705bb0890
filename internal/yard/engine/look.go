package engine

import (
	"archive/tar"
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"github.com/klauspost/compress/zstd"
)

// LookInto implements [yard.Looker]. The engine gives an image as a tar of layers,
// which are tars themselves, and of what the image says of itself. In the layout of
// the OCI each is named by its digest; in the older one layers are not, and which of
// them are of the image below shows when they were read, by their own digest.
func (e *images) LookInto(ctx context.Context, ref, below string, each func(path string, r io.Reader) error) error {
	known := map[string]bool{}
	if below != "" {
		in, err := e.cli.ImageInspect(ctx, below)
		if err != nil {
			return e.wrap("look at image "+below, err)
		}
		for _, layer := range in.RootFS.Layers {
			known[strings.TrimPrefix(layer, "sha256:")] = true
		}
	}
	ctx, end := context.WithCancel(ctx) // what is left of it is not read
	defer end()
	saved, err := e.cli.ImageSave(ctx, []string{ref})
	if err != nil {
		return e.wrap("look into image "+ref, err)
	}
	defer saved.Close()
	blobs := tar.NewReader(saved)
	for {
		h, err := blobs.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return e.wrap("look into image "+ref, err)
		}
		if h.Typeflag != tar.TypeReg || known[path.Base(h.Name)] {
			continue
		}
		digest, err := lookIntoBlob(blobs, each)
		if err != nil && !known[digest] {
			return err
		}
	}
}

// lookIntoBlob looks into a layer, or a text that an image says of itself, and gives the
// digest of what it is without compression.
func lookIntoBlob(r io.Reader, each func(path string, r io.Reader) error) (digest string, err error) {
	in := bufio.NewReaderSize(r, 64<<10)
	start, err := in.Peek(4)
	switch {
	case bytes.HasPrefix(start, []byte{0x1f, 0x8b}): // RFC 1952
		z, err := gzip.NewReader(in)
		if err != nil {
			return "", fmt.Errorf("look into a layer: %w", err)
		}
		defer z.Close()
		r = z
	case bytes.Equal(start, []byte{0x28, 0xb5, 0x2f, 0xfd}): // RFC 8878
		z, err := zstd.NewReader(in)
		if err != nil {
			return "", fmt.Errorf("look into a layer: %w", err)
		}
		defer z.Close()
		r = z
	case err != nil && !errors.Is(err, io.EOF):
		return "", err
	default:
		r = in
	}
	sum := sha256.New()
	in = bufio.NewReaderSize(io.TeeReader(r, sum), 64<<10)
	err = lookIntoTar(in, each)
	if _, rest := io.Copy(io.Discard, in); rest != nil && err == nil {
		err = fmt.Errorf("look into a layer: %w", rest)
	}
	return hex.EncodeToString(sum.Sum(nil)), err
}

func lookIntoTar(in *bufio.Reader, each func(path string, r io.Reader) error) error {
	if header, err := in.Peek(512); err != nil || !bytes.Equal(header[257:262], []byte("ustar")) { // POSIX.1-2017, pax
		return each("what the image says of itself", in)
	}
	files := tar.NewReader(in)
	for {
		h, err := files.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("look into a layer: %w", err)
		}
		if h.Typeflag == tar.TypeReg {
			if err := each(path.Clean("/"+h.Name), files); err != nil {
				return err
			}
		}
	}
}
