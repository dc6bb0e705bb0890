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
	"time"

	"yardbench/internal/core/lifecycle"
)

// Yard is a named place with capacity where workspaces run.
type Yard interface {
	// Observe tells what the yard has of a workspace.
	Observe(ctx context.Context, workspace string) (Observation, error)

	// UseImage makes sure that the yard has the image ref.
	UseImage(ctx context.Context, ref string, log io.Writer) (Image, error)
	// Build makes an image and gives it the name Build.Tag.
	Build(ctx context.Context, b Build, report func(Progress)) (Image, error)
	// FindImage looks an image up; ok is false when the yard has none.
	FindImage(ctx context.Context, ref string) (img Image, ok bool, err error)
	// DropTag removes a name that Build gave.
	DropTag(ctx context.Context, tag string) error

	// MakeNetwork makes the workspace's own network in the numbered piece of
	// the yard's address range; ErrSubnetTaken when somebody else has it.
	MakeNetwork(ctx context.Context, workspace string, subnet int) error
	// MakeVolume makes what holds the workspace folder, bounded to size bytes
	// where the yard can; 0 is no bound.
	MakeVolume(ctx context.Context, workspace string, number int, size int64) error
	// MakeBody makes a body that does not run yet.
	MakeBody(ctx context.Context, b BodySpec) error
	StartBody(ctx context.Context, workspace string, number int) error
	// StopBody lets processes end for the time of grace, then ends them.
	StopBody(ctx context.Context, workspace string, number int, grace time.Duration) error
	RemoveBody(ctx context.Context, workspace string, number int) error
	RemoveVolume(ctx context.Context, workspace string, number int) error
	RemoveNetwork(ctx context.Context, workspace string) error

	// KeepBody makes an image of a body as it stands, volumes left out, and
	// gives it the name tag.
	KeepBody(ctx context.Context, workspace string, number int, tag string) error

	// Watch calls changed with a workspace's id whenever something of it
	// changed in the yard, until ctx ends or the yard is lost, which it
	// returns. On each (re)connection it calls connected.
	Watch(ctx context.Context, connected func(), changed func(workspace string)) error
}

// Errors that the keeper tells apart.
var (
	// ErrAway: the yard does not answer. It may pass.
	ErrAway = errors.New("the yard does not answer")
	// ErrSubnetTaken: the piece of the address range is in use by others.
	ErrSubnetTaken = errors.New("the subnet is taken")
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
}

// Image is an image in a yard.
type Image struct {
	Ref    string // what MakeBody takes
	Digest string // what the ref means now
	User   string // the image's own user, "" for root
	Arch   string // its processor, as Go names it
	Cached bool   // it was there already, or every step of the build was
}

// Build is an image to make.
type Build struct {
	Tag        string
	ContextDir string // a folder of ours with nothing but the context
	Dockerfile []byte
	Target     string
	Args       map[string]string
}

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

// BodySpec is a body to make.
type BodySpec struct {
	Workspace string
	Number    int
	Volume    int    // the number of the volume with the workspace folder
	Folder    string // where that is mounted
	Hostname  string
	Image     string
	Env       map[string]string
	// CoresMilli (thousandths of a core) and MemoryBytes bound what the body
	// may use; 0 is no bound.
	CoresMilli, MemoryBytes int64
	// StewardDir and LinkDir are the service's folders with the steward's
	// binaries and with this body's socket and token.
	StewardDir, LinkDir string
}
