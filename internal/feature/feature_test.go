package feature_test

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"yardbench/internal/core/definition"
	"yardbench/internal/demo"
	"yardbench/internal/feature"
	"yardbench/internal/registry"
)

func archive(t *testing.T, zipped bool, files ...string) []byte {
	t.Helper()
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for i := 0; i < len(files); i += 2 {
		h := &tar.Header{Name: files[i], Mode: 0o755, Size: int64(len(files[i+1])), Typeflag: tar.TypeReg}
		if to, ok := strings.CutPrefix(files[i+1], "-> "); ok {
			h.Typeflag, h.Linkname, h.Size = tar.TypeSymlink, to, 0
		}
		if err := w.WriteHeader(h); err != nil {
			t.Fatal(err)
		}
		if h.Typeflag == tar.TypeReg {
			fmt.Fprint(w, files[i+1])
		}
	}
	w.Close()
	if !zipped {
		return b.Bytes()
	}
	var z bytes.Buffer
	g := gzip.NewWriter(&z)
	_, _ = g.Write(b.Bytes())
	g.Close()
	return z.Bytes()
}

// From a registry and from an address; what is kept is not fetched again, and
// what is lost is.
func TestLook(t *testing.T) {
	images, err := demo.Registry(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	fetched := 0
	host := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		fetched++
		switch {
		case strings.HasPrefix(r.URL.Path, "/v2/"):
			images.ServeHTTP(w, r)
		case r.URL.Path == "/mast.tgz":
			_, _ = w.Write(archive(t, true, "./devcontainer-feature.json", `{"id": "mast"}`, "install.sh", "echo", "deep/er", "x", "link", "-> /etc/passwd"))
		case r.URL.Path == "/away.tgz":
			http.Redirect(w, r, "/mast.tgz", http.StatusFound)
		case r.URL.Path == "/out.tgz":
			_, _ = w.Write(archive(t, false, "devcontainer-feature.json", "{}", "../out", "x"))
		case r.URL.Path == "/none.tgz":
			_, _ = w.Write(archive(t, false, "README", "x"))
		case r.URL.Path == "/rubbish.tgz":
			_, _ = w.Write([]byte("\x1f\x8brubbish"))
		default:
			http.NotFound(w, r)
		}
	}))
	defer host.Close()
	at := strings.Replace(strings.TrimPrefix(host.URL, "http://"), "127.0.0.1", "registry.skerryline.localhost", 1)
	dir := filepath.Join(t.TempDir(), "features")
	k := feature.NewKept(dir)
	c, err := k.Look(t.Context(), at+"/features/lantern:1", nil)
	if err != nil || !strings.Contains(string(c.Manifest), `"id": "lantern"`) || len(c.Digest) != len("sha256:")+64 {
		t.Fatalf("the lantern is %s %q, %v", c.Digest, c.Manifest, err)
	}
	before := fetched
	if again, err := k.Look(t.Context(), at+"/features/lantern:1.1.0", nil); err != nil || again.Digest != c.Digest || fetched-before > 3 {
		t.Errorf("again it is %s after %d requests, %v", again.Digest, fetched-before, err)
	}
	m, err := k.Look(t.Context(), "http://"+at+"/mast.tgz", nil)
	if err != nil {
		t.Fatal(err)
	}
	f := definition.Feature{Ref: "http://" + at + "/mast.tgz", Digest: m.Digest}
	for range 2 {
		dest := filepath.Join(t.TempDir(), "0")
		if err := k.Unpack(t.Context(), f, dest, nil); err != nil {
			t.Fatal(err)
		}
		if _, err := os.Lstat(filepath.Join(dest, "link")); err == nil {
			t.Error("a link is unpacked")
		}
		if text, err := os.ReadFile(filepath.Join(dest, "deep", "er")); err != nil || string(text) != "x" {
			t.Errorf("a file is %q, %v", text, err)
		}
		if err := os.Remove(filepath.Join(dir, strings.TrimPrefix(m.Digest, "sha256:")+".tar")); err != nil { // it is fetched again
			t.Fatal(err)
		}
	}
	for ref, says := range map[string]string{"http://" + at + "/away.tgz": "302", "http://" + at + "/out.tgz": "outside of itself", "http://" + at + "/none.tgz": "holds no devcontainer-feature.json", "http://" + at + "/rubbish.tgz": "no archive", "http://" + at + "/ghost.tgz": "404",
		at + "/features/ghost:1": "ask its registry", "nowhere.skerryline.localhost:1/a/b:1": "ask its registry", "UPPER/x y:1": ""} {
		if _, err := k.Look(t.Context(), ref, nil); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s is answered %v", ref, err)
		}
	}
	if err := k.Unpack(t.Context(), definition.Feature{Ref: "http://" + at + "/mast.tgz", Digest: "sha256:" + strings.Repeat("0", 64)}, t.TempDir(), nil); err == nil || !strings.Contains(err.Error(), "another one now") {
		t.Errorf("one that changed is answered %v", err)
	}
}

// A registry that announces the digest of another's feature and sends something
// else, longer than what is read, does not come to stand in its place; nor is
// what stands there already taken unseen.
func TestAnothersPlaceIsNotTaken(t *testing.T) {
	good := archive(t, false, "devcontainer-feature.json", `{"id": "lamp"}`, "install.sh", "echo lamp")
	digest := fmt.Sprintf("sha256:%x", sha256.Sum256(good))
	evil := archive(t, false, "devcontainer-feature.json", `{"id": "lamp"}`, "install.sh", "echo evil")
	sends := append(evil, make([]byte, feature.MaxArchiveBytes+2-len(evil))...)
	host := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case strings.Contains(r.URL.Path, "/manifests/"):
			w.Header().Set("Content-Type", "application/vnd.oci.image.manifest.v1+json")
			fmt.Fprintf(w, `{"schemaVersion": 2, "mediaType": "application/vnd.oci.image.manifest.v1+json", "config": {"mediaType": "application/vnd.devcontainers", "digest": "sha256:44136fa355b3678a1146ad16f7e8649e94fb4fc21fe77e8310c060f61caaff8a", "size": 2}, "layers": [{"mediaType": "application/vnd.devcontainers.layer.v1+tar", "digest": %q, "size": %d}]}`, digest, len(good))
		case strings.Contains(r.URL.Path, "/blobs/"):
			_, _ = w.Write(sends)
		case r.URL.Path == "/lamp.tgz":
			_, _ = w.Write(good)
		}
	}))
	defer host.Close()
	at := strings.Replace(strings.TrimPrefix(host.URL, "http://"), "127.0.0.1", "registry.skerryline.localhost", 1)
	dir := filepath.Join(t.TempDir(), "features")
	k := feature.NewKept(dir)
	for _, size := range []int{len(sends), len(evil), len(good)} {
		if sends = sends[:size]; size == len(good) {
			copy(sends, "x")
		}
		if _, err := k.Look(t.Context(), at+"/features/evil:1", nil); err == nil {
			t.Errorf("%d other bytes are taken", size)
		}
	}
	lamp, err := k.Look(t.Context(), "http://"+at+"/lamp.tgz", nil)
	if err != nil || lamp.Digest != digest {
		t.Fatal(lamp.Digest, err)
	}
	f := definition.Feature{Ref: "http://" + at + "/lamp.tgz", Digest: digest}
	if err := k.Unpack(t.Context(), f, filepath.Join(t.TempDir(), "0"), nil); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, strings.TrimPrefix(digest, "sha256:")+".tar"), evil, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := k.Unpack(t.Context(), f, filepath.Join(t.TempDir(), "0"), nil); err == nil {
		t.Error("what was put in its place is unpacked")
	}
}

// A feature of a registry that shows it to those alone who sign in is there for who does,
// each time it is looked at: what is kept opens it to nobody else.
func TestLookSignedIn(t *testing.T) {
	images, err := demo.Registry(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	host := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if user, password, _ := r.BasicAuth(); user != "fare-desk" || password != "lights" {
			w.Header().Set("WWW-Authenticate", `Basic realm="lamps"`)
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		images.ServeHTTP(w, r)
	}))
	defer host.Close()
	at := strings.TrimPrefix(host.URL, "http://")
	k := feature.NewKept(filepath.Join(t.TempDir(), "features"))
	look := func(as registry.SignIns) error {
		_, err := k.Look(t.Context(), at+"/features/lantern:1", as)
		return err
	}
	if err := look(registry.SignIns{at: {Username: "fare-desk", Password: "lights"}}); err != nil {
		t.Error(err)
	}
	for what, as := range map[string]registry.SignIns{"nobody": nil, "a wrong password": {at: {Username: "fare-desk", Password: "lamps"}}, "one of another registry": {"images.skerryline.example": {Username: "fare-desk", Password: "lights"}}} {
		if err := look(as); err == nil || !strings.Contains(err.Error(), "ask its registry") {
			t.Errorf("with %s it says %v", what, err)
		}
	}
	if registry.Host("tide-board") != registry.Hub || registry.Name("skerryline/base:1") != "docker.io/skerryline/base" || registry.Host(at+"/x@sha256:"+strings.Repeat("0", 64)) != at || registry.Name("Not An Image") != "" {
		t.Error("images are of other registries")
	}
	if in, ok := (registry.SignIns{registry.Hub: {Username: "hub"}}).At("registry-1.docker.io"); !ok || in.Username != "hub" {
		t.Errorf("the hub is not known by its machine's name: %+v", in)
	}
}
