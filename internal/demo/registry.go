package demo

import (
	"archive/tar"
	"bytes"
	"context"
	"embed"
	"fmt"
	"io"
	"io/fs"
	"log"
	"net"
	"net/http"
	"path"
	"time"

	"github.com/google/go-containerregistry/pkg/name"
	"github.com/google/go-containerregistry/pkg/registry"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/google/go-containerregistry/pkg/v1/static"
	"github.com/google/go-containerregistry/pkg/v1/types"
)

//go:embed all:features
var features embed.FS

// Registry is the registry stand-in: an OCI registry in memory with Skerry
// Line's features, of which everybody may read.
func Registry(ctx context.Context) (http.Handler, error) {
	all := registry.New(registry.Logger(log.New(io.Discard, "", 0)))
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	fill := &http.Server{Handler: all, ReadHeaderTimeout: 10 * time.Second}
	go fill.Serve(l) // until it is closed
	defer fill.Close()
	for feature, tags := range map[string][]string{"lantern": {"1", "1.1.0"}, "pennant": {"0"}} {
		archive, err := FeatureArchive(feature)
		if err != nil {
			return nil, err
		}
		img := mutate.ConfigMediaType(mutate.MediaType(empty.Image, types.OCIManifestSchema1), "application/vnd.devcontainers")
		if img, err = mutate.AppendLayers(img, static.NewLayer(archive, "application/vnd.devcontainers.layer.v1+tar")); err != nil {
			return nil, err
		}
		for _, tag := range tags {
			ref, err := name.ParseReference(fmt.Sprintf("%s/features/%s:%s", l.Addr(), feature, tag))
			if err == nil {
				err = remote.Write(ref, img, remote.WithContext(ctx))
			}
			if err != nil {
				return nil, fmt.Errorf("put feature %s into the registry: %w", feature, err)
			}
		}
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodGet && r.Method != http.MethodHead {
			http.Error(w, "this registry is read only", http.StatusMethodNotAllowed)
			return
		}
		all.ServeHTTP(w, r)
	}), nil
}

// FeatureArchive is a feature as it is distributed: its files in a tar archive.
func FeatureArchive(feature string) ([]byte, error) {
	var b bytes.Buffer
	t := tar.NewWriter(&b)
	root := path.Join("features", feature)
	err := fs.WalkDir(features, root, func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		content, err := features.ReadFile(p)
		if err != nil {
			return err
		}
		if err := t.WriteHeader(&tar.Header{Name: "./" + p[len(root)+1:], Mode: 0o755, Size: int64(len(content)), Typeflag: tar.TypeReg}); err != nil {
			return err
		}
		_, err = t.Write(content)
		return err
	})
	if err == nil {
		err = t.Close()
	}
	return b.Bytes(), err
}
