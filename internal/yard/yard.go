// Package yard is the interface of a place where workspaces run. Each kind of
// yard is a package of its own beneath; nothing here knows of one.
//
// Every operation is idempotent by workspace and number: asked for what is
// there already, it succeeds; asked to remove what is gone, it succeeds.
package yard

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"time"

	"github.com/tonistiigi/fsutil"

	"yardbench/internal/core/definition"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/registry"
)

// Yard is a named place with capacity where workspaces run: what every kind of
// yard can do. What only some can do are the optional interfaces of this
// package; see [Able].
//
// Any method may answer [ErrAway], or the error of its context; beyond that it
// gives what it says here. A call that is given up may be carried out all the same.
type Yard interface {
	// Workspaces lists the workspaces of this installation that the yard has
	// anything of.
	Workspaces(ctx context.Context) ([]string, error)
	// Observe tells what the yard has of a workspace; nothing is no error.
	Observe(ctx context.Context, workspace string) (Observation, error)
	// Watch calls changed with a workspace's id whenever something of it
	// changed in the yard, until ctx ends or the yard is lost, which it
	// returns. On each (re)connection it calls connected.
	Watch(ctx context.Context, connected func(), changed func(workspace string, what News)) error

	// UseImage makes sure that the yard has the image ref, and refuses one that
	// nobody has. A registry that it is asked of is signed in to.
	UseImage(ctx context.Context, ref string, as registry.SignIns, log io.Writer) (Image, error)
	// FindImage looks an image up; ok is false when the yard has none.
	FindImage(ctx context.Context, ref string) (img Image, ok bool, err error)

	// Make makes a [Network], a [Volume] or a [Body], which does not run yet. It
	// refuses what there is no room for.
	Make(ctx context.Context, what Thing) error
	// Start starts a body, and refuses one that is not there.
	Start(ctx context.Context, workspace string, number int) error
	// Stop lets processes end for the time of grace, then ends them; first
	// those of the body, then those of its services. What is not there has stopped.
	Stop(ctx context.Context, workspace string, number int, grace time.Duration) error
	// Remove takes a part away; with a body go its services. It refuses a
	// volume that a body still has.
	Remove(ctx context.Context, p Part) error
}

// Able is a yard as one that can do more; what says what a yard cannot that is
// not, and is refused.
func Able[T any](y Yard, what string) (T, error) {
	t, ok := y.(T)
	if !ok {
		return t, Refused("this yard %s", what)
	}
	return t, nil
}

// Builder is a yard that makes images.
type Builder interface {
	// Build makes an image and gives it the name Build.Tag. It refuses a build
	// file that cannot be built.
	Build(ctx context.Context, b Build, report func(Progress)) (Image, error)
	// DropTag removes a name that Build or Keep gave.
	DropTag(ctx context.Context, tag string) error
	// Rename gives an image another name in place of one that Build gave, in one step
	// that leaves it with one of the two or with both.
	Rename(ctx context.Context, tag, name string) (Image, error)
}

// Committer is a yard that makes images of bodies.
type Committer interface {
	// Keep makes an image of a body as it stands, volumes left out, and gives it
	// the name tag.
	Keep(ctx context.Context, workspace string, number int, tag string) error
}

// Looker is a yard into whose images one can look.
type Looker interface {
	// LookInto calls each with every file of an image, and with what it says of itself:
	// its configuration and how it was made. What each gives ends it, but of files in
	// layers of the image below, "" for none: those may be left out, and what is given
	// of them says nothing.
	LookInto(ctx context.Context, ref, below string, each func(path string, r io.Reader) error) error
}

// Server is a yard that runs services beside a body.
type Server interface {
	// StartService makes a service beside a body, if it is not there, and
	// starts it, if it does not run.
	StartService(ctx context.Context, s ServiceSpec) error
	// ServiceLog writes the newest lines that a service printed. It refuses one
	// that is not there.
	ServiceLog(ctx context.Context, workspace string, number int, service string, lines int, to io.Writer) error
}

// Trier is a yard in which an image can be tried.
type Trier interface {
	// Try runs a command in a container of its own, made of an image, without
	// a network or anybody's files, and gives what it printed, of which at
	// most max bytes. It refuses an image that is not there.
	Try(ctx context.Context, image string, argv []string, max int64) ([]byte, error)
}

// Examiner is a yard that can say what of it is open.
type Examiner interface {
	Examine(ctx context.Context) ([]Opening, error)
}

// Opening is something that a yard leaves open, and how it is closed.
type Opening struct{ Kind, What, Close string }

// Roomer is a yard that can say how much room it has for images and containers.
type Roomer interface {
	// Room is what is left and what there is in all, in bytes; zero where that
	// cannot be told.
	Room(ctx context.Context) (free, size uint64)
}

// Adopter is a yard in which containers that others started can be seen and
// taken on, each as body number 1 of a workspace.
type Adopter interface {
	// Others lists the containers that run in the yard and belong to no
	// workspace, of this installation or another.
	Others(ctx context.Context) ([]Other, error)
	// Adopt counts a container as the workspace's body until Release. It changes
	// nothing in the container, and is told anew at each start.
	Adopt(workspace, container string)
	// Reach opens a way to the body's steward. Where there is none, it is put
	// in and started first. It refuses a container that cannot have one.
	Reach(ctx context.Context, workspace string) (net.Conn, error)
	// Release takes out what Reach put in. The container goes on as it is and
	// belongs to nobody again.
	Release(ctx context.Context, workspace string) error
}

// Other is a container that somebody else started.
type Other struct {
	ID, Name, Image, Arch string
	User, Folder          string // of its own command
	StartedAt             time.Time
	// CoresMilli and MemoryBytes are its own bounds; 0 is none.
	CoresMilli, MemoryBytes int64
	ReadOnly                bool // nothing can be put into it
}

// News is what is told of a workspace beside that something changed.
type News string

// News of which a yard tells.
const (
	Changed     News = ""
	OutOfMemory News = "out of memory" // something in it was ended for want of memory
	// Sprawls: the yard's disk has little room left, and of all it has written most
	// outside of its volumes. It is told again while both hold.
	Sprawls News = "sprawls"
)

// Errors that the keeper tells apart.
var (
	// ErrAway: the yard does not answer. It may pass.
	ErrAway = errors.New("the yard does not answer")
	// ErrRefused: the yard will not do it, however often it is asked. See [Refused].
	ErrRefused = errors.New("the yard refuses")
)

// Refused makes an error that is ErrRefused and says only what is told.
func Refused(format string, args ...any) error { return refusal{fmt.Errorf(format, args...)} }

type refusal struct{ error }

func (refusal) Is(target error) bool { return target == ErrRefused }
func (r refusal) Unwrap() error      { return r.error }

// Observation is what a yard has of a workspace.
type Observation struct {
	Network bool
	Volumes map[int]bool
	Bodies  map[int]lifecycle.Body
	// Ends tells for an ended body how: an exit code, out of memory.
	Ends map[int]string
	// Elsewhere are the bodies that were made for a service in another place: what they
	// have of it lies where this one puts nothing, and they are to be made anew.
	Elsewhere map[int]bool
	// Named tells that there are volumes that bodies or services named.
	Named bool
	// Whose is what its volumes were told as they were made, and MadeAt when that was:
	// of the newest; zero where nothing tells it.
	Whose  Whose
	MadeAt time.Time
	// Services are the services beside each body, by name.
	Services map[int]map[string]ServiceState
}

// ServiceState is how a service stands.
type ServiceState struct {
	Body     lifecycle.Body
	Health   string // "", starting, healthy or unhealthy, as the engine says
	ExitCode int    // of one that ended
	Problem  string // why one that ended did
}

// Image is an image in a yard.
type Image struct {
	Ref    string // what a Body takes
	Digest string // what the ref means now
	User   string // the image's own user, "" for root
	Arch   string // its processor, as Go names it
	// Metadata is what it carries in its label devcontainer.metadata.
	Metadata string
	// Bytes is its size; of one that was just fetched, what was fetched.
	Bytes  int64
	Cached bool // it was there already, or every step of the build was
}

// Tree is files that a build reads, named as fs.FS names them; see [Folder].
type Tree interface {
	Walk(ctx context.Context, target string, fn fs.WalkDirFunc) error
	Open(path string) (io.ReadCloser, error)
}

// Folder is the tree of a folder's files.
func Folder(dir string) (Tree, error) { return fsutil.NewFS(dir) }

// Build is an image to make.
type Build struct {
	Tag        string
	Context    Tree // what the build may read
	Dockerfile []byte
	Target     string
	Args       map[string]string
	CacheFrom  []string
	// CacheSpace names what cache mounts, and what was sent to the builder, are
	// shared within. Builds of another space neither read nor write them.
	CacheSpace string
	// Take is asked of everything that the build would take something from
	// outside of Context, before it is taken, and says by which name to take it.
	// An error is why it is not: then there is no build.
	Take func(BuildSource) (name string, err error)
	// Secrets are what commands of the build may mount as secrets (RUN
	// --mount=type=secret,id=NAME), value by name. They are in no layer, no argument
	// and no history.
	Secrets map[string]string
	// As signs in to the registries that the build takes images from.
	As registry.SignIns
	// Closed gives commands of the build no network.
	Closed bool
	// CoresMilli and MemoryBytes bound a command of the build where the yard can
	// bound it; 0 is no bound.
	CoresMilli, MemoryBytes int64
}

// BuildSource is what a build takes something from, as the builder understood
// the build file: variables put in, stages and triggers of images followed.
type BuildSource struct {
	Kind BuildSourceKind
	// Name is the whole name of an image, or an address.
	Name string
}

// BuildSourceKind is what a source is.
type BuildSourceKind string

// The kinds of sources.
const (
	ImageSource   BuildSourceKind = "image"
	AddressSource BuildSourceKind = "address" // fetched by the engine itself, from where it is
	GitSource     BuildSourceKind = "git"     // cloned by the engine itself
)

// Progress is news of one step within a build.
type Progress struct {
	ID        string // the same for all news of a step
	Title     string
	StartedAt *time.Time
	EndedAt   *time.Time
	Cached    bool
	Err       string
	Log       []byte // what the step printed since the last news
}

// Thing is what a yard makes for a workspace.
type Thing interface{ thing() }

// Network is a workspace's own network.
type Network struct {
	Workspace string
	Closed    bool // it leads nowhere
}

// Volume holds a workspace's files; it is bounded to SizeBytes where the yard
// can bound it, and 0 is no bound.
type Volume struct {
	Workspace string
	Number    int
	SizeBytes int64
	Whose     Whose
}

// Whose tells for people, and for records that know no more of it, whose a
// workspace was and of what when something of it was made. A yard writes it
// beside files and bodies, and reads it only to tell.
type Whose struct {
	Owner, Name, Repository, Branch, Size string
	Definition                            string // its name, where the repository has several
}

func (Network) thing() {}
func (Volume) thing()  {}
func (Body) thing()    {}

// Kind is what a [Part] is.
type Kind string

// The kinds of parts.
const (
	NetworkPart Kind = "network"
	VolumePart  Kind = "volume"
	BodyPart    Kind = "body"
	NamedPart   Kind = "named volumes" // all that bodies and services named
)

// Part names what a yard has of a workspace. Networks and named volumes have no
// number.
type Part struct {
	Workspace string
	Kind      Kind
	Number    int
}

// Body is a body to make, with the volumes it names.
type Body struct {
	Workspace string
	Number    int
	Volume    int    // the number of the volume with the workspace folder
	Folder    string // where that is mounted
	Tree      string // where in it the repository lies: what mounts of the tree link to
	Whose     Whose
	Hostname  string
	Image     string
	Env       map[string]string
	// CoresMilli (thousandths of a core) and MemoryBytes bound what the body
	// may use; 0 is no bound.
	CoresMilli, MemoryBytes int64
	// Share bounds it together with the services beside it, where the yard can.
	Share Share
	// DiskBytes bounds each of the volumes that Mounts name, where the yard can.
	DiskBytes int64
	Mounts    []definition.Mount
	Extra     definition.Extra
	Aliases   []string // further names on the workspace's network
	// NoGain lets no program have more rights than who starts it.
	NoGain bool
	// Own is what runs beside the steward; nil is nothing.
	Own *OwnCommand
}

// Share is what the containers of a workspace may use all together; the zero
// Share is no bound.
type Share struct {
	CoresMilli, MemoryBytes int64
}

// OwnCommand is what an image or a definition runs in its container.
type OwnCommand struct {
	Entrypoints []string // each run by a shell, in order
	// Image tells that the image's command follows, or Entrypoint and Command
	// where they are not nil.
	Image               bool
	Entrypoint, Command []string
	User                string // "" is the image's own
}

// ServiceSpec is a service beside a body.
type ServiceSpec struct {
	Workspace string
	Number    int    // of the body
	Volume    int    // the number of the volume with the workspace folder
	Tree      string // where in that volume the repository lies, "" at its top
	Image     string
	Service   definition.Service
	DiskBytes int64
	// CoresMilli and MemoryBytes bound what it may use; 0 is no bound.
	CoresMilli, MemoryBytes int64
	Share                   Share // its body's
	NoGain                  bool  // as of its body
}
