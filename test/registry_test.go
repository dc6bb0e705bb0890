package test

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/google/go-containerregistry/pkg/registry"
	registrytypes "github.com/moby/moby/api/types/registry"
	"github.com/moby/moby/client"
	"golang.org/x/sys/unix"
)

// lampKey signs in to the registry of the test as lamp-reader.
const lampKey = "lights-of-the-outer-skerries"

// shutRegistry is a registry that shows what is under open/ to everybody, and anything
// else to those who sign in; it gives its host.
func (w *world) shutRegistry() string {
	t := w.t
	t.Helper()
	// The engine has a network of its own: what listens there and here is one to both.
	pid, err := os.ReadFile(filepath.Join(filepath.Dir(strings.TrimPrefix(w.engine, "unix://")), "holder.pid"))
	if err != nil {
		t.Fatal(err)
	}
	var there, here net.Listener
	for range 20 {
		if there, err = listenIn("/proc/" + strings.TrimSpace(string(pid)) + "/ns/net"); err != nil {
			t.Fatal(err)
		}
		if here, err = net.Listen("tcp", there.Addr().String()); err == nil {
			break
		}
		_ = there.Close() // the number is another's here
	}
	if err != nil {
		t.Fatal(err)
	}
	all := registry.New(registry.Logger(log.New(io.Discard, "", 0)))
	s := &http.Server{ReadHeaderTimeout: 10 * time.Second, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		user, password, signs := r.BasicAuth()
		known := user == "lamp-reader" && password == lampKey
		switch bearer := r.Header.Get("Authorization"); {
		case r.URL.Path == "/token" && (known || !signs): // whoever does not sign in gets one that opens little
			_, _ = fmt.Fprintf(w, `{"token": %q}`, map[bool]string{true: "lit", false: "dim"}[known])
			return
		case r.URL.Path != "/token" && (bearer == "Bearer lit" || bearer == "Bearer dim" && (r.Method == http.MethodGet || r.Method == http.MethodHead) && (r.URL.Path == "/v2/" || strings.HasPrefix(r.URL.Path, "/v2/open/"))):
		default:
			w.Header().Set("WWW-Authenticate", `Bearer realm="http://`+r.Host+`/token",service="lamps"`)
			w.Header().Set("Content-Type", "application/json")
			w.WriteHeader(http.StatusUnauthorized)
			_, _ = io.WriteString(w, `{"errors": [{"code": "UNAUTHORIZED", "message": "sign in"}]}`)
			return
		}
		all.ServeHTTP(w, r)
	})}
	go s.Serve(there) // both until it is closed
	go s.Serve(here)
	t.Cleanup(func() { _ = s.Close() })
	return here.Addr().String()
}

// listenIn listens at this machine's own address in a network namespace.
func listenIn(namespace string) (l net.Listener, err error) {
	runtime.LockOSThread() // it is one thread that goes there and comes back
	defer runtime.UnlockOSThread()
	home, err := os.Open("/proc/thread-self/ns/net")
	if err != nil {
		return nil, err
	}
	defer home.Close()
	away, err := os.Open(namespace)
	if err != nil {
		return nil, err
	}
	defer away.Close()
	if err := unix.Setns(int(away.Fd()), unix.CLONE_NEWNET); err != nil {
		return nil, err
	}
	l, err = net.Listen("tcp4", "127.0.0.1:0")
	if back := unix.Setns(int(home.Fd()), unix.CLONE_NEWNET); back != nil {
		panic(back) // this thread is no use to anybody
	}
	return l, err
}

// give puts an image of the engine into a registry, and takes it out of the engine.
func (w *world) give(image string) {
	w.t.Helper()
	cli, ctx := w.docker(), w.t.Context()
	defer cli.Close()
	sealed, err := json.Marshal(registrytypes.AuthConfig{Username: "lamp-reader", Password: lampKey})
	if err != nil {
		w.t.Fatal(err)
	}
	push, err := cli.ImagePush(ctx, image, client.ImagePushOptions{RegistryAuth: base64.URLEncoding.EncodeToString(sealed)})
	if err != nil {
		w.t.Fatal(err)
	}
	for m, err := range push.JSONMessages(ctx) {
		if err != nil || m.Error != nil {
			w.t.Fatal(err, m.Error)
		}
	}
	if _, err := cli.ImageRemove(ctx, image, client.ImageRemoveOptions{PruneChildren: true}); err != nil {
		w.t.Fatal(err)
	}
}

// digest is what an image of the engine is known by at its registry.
func (w *world) digest(image string) string {
	w.t.Helper()
	cli := w.docker()
	defer cli.Close()
	in, err := cli.ImageInspect(w.t.Context(), image)
	if err != nil || len(in.RepoDigests) == 0 {
		w.t.Fatal(err, in.RepoDigests)
	}
	_, digest, _ := strings.Cut(in.RepoDigests[0], "@")
	return digest
}

// Images that a registry shows to those alone who sign in are fetched with a secret of
// the repository's or the house's, by launches, builds and services; what was fetched
// for one repository is no other's, and the password is nowhere.
func TestPrivateImages(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	at := w.shutRegistry()
	w.rules("from: [", "from: ["+at+", ")
	busybox := w.baseBusybox()
	w.alone(at+"/fare-desk/lamp:1", busybox)
	w.give(at + "/fare-desk/lamp:1")
	w.alone(at+"/open/buoy:1", busybox)
	w.give(at + "/open/buoy:1")
	plain := func(image string) map[string]string {
		return map[string]string{".devcontainer/devcontainer.json": `{"image": "` + at + image + `", "remoteUser": "keeper"}`, "marker": "here\n"}
	}
	w.register("lamp-room", plain("/fare-desk/lamp:1"))
	w.register("buoy-yard", plain("/fare-desk/lamp:1"))

	w.must(w.as("ingrid", "", "launch", "lamp-room", "--name", "dark"), 6, "nobody has image "+at+"/fare-desk/lamp:1")
	w.must(w.as("ingrid", lampKey, "secret", "put", "LAMPS", "--everywhere", "--signs-in-to", at, "--username", "lamp-reader"), 4, "everybody's who works in the repository")
	w.must(w.as("runa", lampKey, "secret", "put", "LAMPS", "--of-repository", "lamp-room", "--signs-in-to", "https://"+at, "--username", "lamp-reader"), 4, "is no registry: write its host")
	w.must(w.as("runa", lampKey, "secret", "put", "LAMPS", "--of-repository", "lamp-room", "--signs-in-to", at), 4, "is nobody who could sign in")
	w.must(w.as("runa", lampKey, "secret", "put", "LAMPS", "--of-repository", "lamp-room", "--username", "lamp-reader"), 4, "only what signs in to a registry")
	w.must(w.as("runa", "out-of-date-password", "secret", "put", "LAMPS", "--of-repository", "lamp-room", "--signs-in-to", at, "--username", "lamp-reader"), 0, "images are fetched from "+at)
	w.must(w.as("ingrid", "", "start", "dark"), 6, "nobody has image")
	w.must(w.as("runa", lampKey, "secret", "put", "LAMPS", "--of-repository", "lamp-room"), 0, "version 2", "as lamp-reader") // what is left out stays
	w.must(w.as("ingrid", "", "start", "dark"), 0, "is ready")
	w.must(w.as("ingrid", "", "run", "dark", "--", "/bin/sh", "-c", "cat marker; env"), 0, "here")
	w.must(w.as("runa", "", "secret", "list", "--of-repository", "lamp-room"), 0, "signs in to "+at+" as lamp-reader")
	w.must(w.as("ingrid", "", "secret", "explain", "lamp-room"), 0, "signs in to "+at+" for images alone")

	// The engine has it now, and another repository has no right to it.
	w.must(w.as("ingrid", "", "launch", "buoy-yard", "--name", "thief"), 6, "is not this repository's to have", "signs in to "+at)
	w.push("buoy-yard", "main", plain("/fare-desk/lamp@"+w.digest(at+"/fare-desk/lamp:1")))
	w.must(w.as("ingrid", "", "launch", "buoy-yard", "--name", "by-digest"), 6, "is not this repository's to have")
	w.must(w.as("ingrid", "", "remove", "by-digest", "--yes", "--discard"), 0)
	w.push("buoy-yard", "main", plain("/open/buoy:1"))
	w.must(w.as("ingrid", "", "launch", "buoy-yard", "--name", "buoy"), 0, "is ready")

	// A build and a service take it by the same right.
	once := time.Now().Format(time.RFC3339Nano)
	built := map[string]string{".devcontainer/devcontainer.json": `{"dockerComposeFile": "compose.yaml", "service": "desk", "workspaceFolder": "/workspaces/desk", "remoteUser": "crew"}`,
		".devcontainer/compose.yaml": "services:\n  desk:\n    build:\n      context: .\n  lamp:\n    image: " + at + "/fare-desk/lamp:1\n    command: [\"/bin/busybox\", \"sleep\", \"inf\"]\n",
		".devcontainer/Dockerfile":   "FROM skerryline/base:1\nCOPY --from=" + at + "/fare-desk/lamp:1 /etc/passwd /lamp\nRUN echo " + once + " > /once\n"}
	w.push("lamp-room", "main", built)
	w.must(w.as("ingrid", "", "launch", "lamp-room", "--name", "lit"), 0, "is ready")
	w.must(w.as("ingrid", "", "run", "lit", "--", "cat", "/lamp"), 0, "keeper")
	for _, done := range []string{"dark", "buoy"} {
		w.must(w.as("ingrid", "", "remove", done, "--yes", "--discard"), 0)
	}
	w.push("buoy-yard", "main", built)
	w.must(w.as("ingrid", "", "launch", "buoy-yard", "--name", "again"), 6, "is not this repository's to have") // the yard has the image of this very definition
	w.must(w.as("astrid", lampKey, "secret", "put", "LAMPS", "--of-house", "--everywhere", "--signs-in-to", at, "--username", "lamp-reader"), 0)
	w.must(w.as("ingrid", "", "start", "again"), 0, "is ready")
	w.push("lamp-room", "main", map[string]string{".devcontainer/devcontainer.json": `{"build": {"dockerfile": "Dockerfile"}, "remoteUser": "crew", "postCreateCommand": "cat /lamp"}`})
	w.must(w.as("ingrid", "", "launch", "lamp-room", "--name", "single"), 0, "is ready")
	single, err := w.client("ingrid").Workspaces.Show(t.Context(), "single")
	if err != nil {
		t.Fatal(err)
	}
	w.nowhere(t, single.ID, w.must(w.as("ingrid", "", "logs", "single"), 0), lampKey)
}

// The set-up of a prepared image has the secrets that are marked for it, and no others;
// an image that holds one is not kept.
func TestSecretsInPrebuilds(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	set := func(run string) map[string]string {
		return map[string]string{".devcontainer/devcontainer.json": `{"image": "skerryline/base:1", "remoteUser": "crew", "onCreateCommand": "` + run + `"}`}
	}
	w.register("shelf", set(`test -n $SHELF_TOKEN && wc -c < $SHELF_KEY_FILE > size && test -z $OTHER_TOKEN`))
	w.reads("shelf")
	w.must(w.as("runa", "", "prebuild", "put", "shelf"), 0)
	w.must(w.as("ingrid", "x", "secret", "put", "SHELF_TOKEN", "--everywhere", "--in-prebuilds"), 4, "everybody's who works in the repository")
	w.must(w.as("astrid", "kept-beside-the-oars", "secret", "put", "OTHER_TOKEN", "--of-house", "--everywhere"), 0)
	w.must(w.as("runa", "reads-the-shelf-of-parts", "secret", "put", "SHELF_TOKEN", "--of-repository", "shelf", "--in-prebuilds"), 0, "in prebuilds too")
	w.must(w.as("runa", "", "prebuild", "run", "shelf"), 6)
	w.must(w.as("astrid", "opens-the-shelf-of-parts", "secret", "put", "SHELF_KEY", "--of-house", "--everywhere", "--as-file", "--in-prebuilds"), 0)
	w.must(w.as("runa", "", "prebuild", "run", "shelf"), 0, "is kept")
	w.must(w.as("ingrid", "", "launch", "shelf", "--name", "top"), 0, "served by prepared image")
	w.must(w.as("ingrid", "", "run", "top", "--", "cat", "size"), 0, "24")
	w.push("shelf", "main", set(`echo $SHELF_TOKEN > /tmp/kept`))
	w.must(w.as("runa", "", "prebuild", "run", "shelf"), 6, "the value of secret SHELF_TOKEN of the repository is in /tmp/kept")
	w.must(w.as("runa", "reads-the-shelf-of-parts", "secret", "put", "SHELF_TOKEN", "--of-repository", "shelf", "--in-prebuilds=false"), 0)
	w.push("shelf", "main", set(`test -z $SHELF_TOKEN`))
	w.must(w.as("runa", "", "prebuild", "run", "shelf"), 0, "is kept")
}
