// Package definition says what a repository's environment definition means:
// which file holds it, what it resolves to, what is wrong with it, and the
// fingerprint of everything that goes into its image.
//
// It is part of the core: plain functions over content it is handed. It opens
// no file, asks no network and knows no container engine. Everything it reads
// comes from a repository and is treated as hostile: bounded in size, and a
// wrong value is a [Finding], never a crash.
package definition

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"path"
	"slices"
)

// Definition is one environment definition, resolved: merged with defaults,
// variables put in, commands brought to one form. It is what a workspace is
// made from, and it is stored with the workspace.
type Definition struct {
	// Path is where the definition stands in the repository; "" when there is
	// none and a usual image is taken.
	Path string `json:"path"`
	// Name is the folder of the definition under .devcontainer; "" for the
	// repository's first one.
	Name string `json:"name,omitempty"`
	// Title is the definition's own "name", for people.
	Title string `json:"title,omitempty"`
	// Image is the image to use as it is; empty when Build is set.
	Image string `json:"image,omitempty"`
	// Build says how to make the image; nil when Image is set.
	Build *Build `json:"build,omitempty"`
	// Features are put on top of the image, in this order.
	Features []Feature `json:"features,omitempty"`
	// Compose holds the services beside the workspace; nil when there are none.
	Compose *Compose `json:"compose,omitempty"`
	// Env is set for every process of the container ("containerEnv").
	Env map[string]string `json:"env,omitempty"`
	// SessionEnv is set for terminals, runs and set-up commands ("remoteEnv").
	// ${containerEnv:NAME} is still in it: only the container knows those.
	SessionEnv map[string]string `json:"session_env,omitempty"`
	// SessionUnset are variables that sessions do not have, whoever else sets
	// them ("remoteEnv": null).
	SessionUnset []string `json:"session_unset,omitempty"`
	// User is who works in the workspace; empty means the image's own user.
	User string `json:"user,omitempty"`
	// ContainerUser is who the container's own command runs as; empty means
	// the image's own user.
	ContainerUser string `json:"container_user,omitempty"`
	// Folder is the absolute path of the workspace folder in the container.
	Folder string `json:"folder"`
	// Tree is where the clone lies, where that is above Folder.
	Tree string `json:"tree,omitempty"`
	// Beside are further repositories, cloned beside the tree.
	Beside []Beside `json:"beside,omitempty"`
	// Ports are the forwarded ports, as numbers.
	Ports []int `json:"ports,omitempty"`
	// PortHosts names the service behind a forwarded port, where that is not
	// the workspace itself.
	PortHosts map[int]string `json:"port_hosts,omitempty"`
	// PortLabels names ports for people ("portsAttributes").
	PortLabels map[int]string `json:"port_labels,omitempty"`
	// Secrets are the secrets that are wanted, by name.
	Secrets []Wanted `json:"secrets,omitempty"`
	// SetUp holds the life-cycle commands: by moment in the order of the
	// specification, and within one by layer, the lowest first.
	SetUp []SetUp `json:"set_up,omitempty"`
	// WaitFor is the moment after which the workspace may be used; "" is the last.
	WaitFor Moment `json:"wait_for,omitempty"`
	// Probe is how the user's shell is asked for its environment
	// ("userEnvProbe"); "" is the specification's usual.
	Probe string `json:"probe,omitempty"`
	// OwnCommand tells that the image's own command runs too ("overrideCommand":
	// false); nil where nobody says.
	OwnCommand *bool `json:"own_command,omitempty"`
	// Entrypoints are the features' commands, run at each start.
	Entrypoints []string `json:"entrypoints,omitempty"`
	// Mounts are what is mounted beside the tree.
	Mounts []Mount `json:"mounts,omitempty"`
	// Extra are the rights and options beyond the usual.
	Extra Extra `json:"extra,omitzero"`
	// Needs is what the definition says it needs at least.
	Needs Needs `json:"needs,omitzero"`
	// Origins tells where each value comes from, by its path in this type.
	Origins map[string]string `json:"origins,omitempty"`
}

// Person is who works in the workspace: the remote user, else the container's;
// "" is the image's own.
func (d Definition) Person() string { return cmp.Or(d.User, d.ContainerUser) }

// TreeFolder is where the repository's clone lies.
func (d Definition) TreeFolder() string { return cmp.Or(d.Tree, d.Folder) }

// Mountpoint is where the volume with the files is mounted: at the tree, or
// above it when there are further repositories beside it.
func (d Definition) Mountpoint() string {
	if len(d.Beside) > 0 {
		return path.Dir(d.TreeFolder())
	}
	return d.TreeFolder()
}

// EnvProbe is how the user's shell is asked for its environment.
func (d Definition) EnvProbe() string { return cmp.Or(d.Probe, "loginInteractiveShell") }

// RunsOwnCommand tells whether the image's own command runs in the container.
// The specification's usual is no, and with services beside it yes.
func (d Definition) RunsOwnCommand() bool {
	if d.OwnCommand != nil {
		return *d.OwnCommand
	}
	return d.Compose != nil
}

// Beside is a further repository: one that is registered, and its branch; ""
// is its default.
type Beside struct {
	Repository string `json:"repository"`
	Branch     string `json:"branch,omitempty"`
}

// Mount is something mounted into a container.
type Mount struct {
	// Kind is "volume" (Source names one of the workspace's own), "tmpfs",
	// "host" (Source is a path on the yard's machine) or "tree" (Source is a
	// path in the repository: it becomes a link).
	Kind     string `json:"kind"`
	Source   string `json:"source,omitempty"`
	Target   string `json:"target"`
	ReadOnly bool   `json:"read_only,omitempty"`
}

// Kinds of mount.
const (
	MountVolume = "volume"
	MountTmpfs  = "tmpfs"
	MountHost   = "host"
	MountTree   = "tree"
)

// Extra are rights and options of a container beyond the usual ones. The house
// rules say which of them may be used; see [Permit].
type Extra struct {
	Init         bool              `json:"init,omitempty"` // the steward reaps always
	Privileged   bool              `json:"privileged,omitempty"`
	Capabilities []string          `json:"capabilities,omitempty"`
	Dropped      []string          `json:"dropped,omitempty"`
	Security     []string          `json:"security,omitempty"`
	HostNetwork  bool              `json:"host_network,omitempty"`
	Devices      []string          `json:"devices,omitempty"` // HOST[:CONTAINER[:MODE]]
	Hostname     string            `json:"hostname,omitempty"`
	Hosts        []string          `json:"hosts,omitempty"` // NAME:ADDRESS
	DNS          []string          `json:"dns,omitempty"`
	Labels       map[string]string `json:"labels,omitempty"`
	Sysctls      map[string]string `json:"sysctls,omitempty"`
	Groups       []string          `json:"groups,omitempty"`
	ShmBytes     int64             `json:"shm_bytes,omitempty"`
	Nofile       int64             `json:"nofile,omitempty"` // open files, at most 1048576
	// Options are the names of the runArgs that were used, for the house rules.
	Options []string `json:"options,omitempty"`
}

// Needs is the least of a machine that a definition asks for
// ("hostRequirements"); 0 is no need.
type Needs struct {
	CoresMilli  int64 `json:"cores_milli,omitempty"`
	MemoryBytes int64 `json:"memory_bytes,omitempty"`
	DiskBytes   int64 `json:"disk_bytes,omitempty"`
	GPU         bool  `json:"gpu,omitempty"`
}

// Wanted is a secret that the definition asks for.
type Wanted struct {
	Name        string `json:"name"`
	Description string `json:"description,omitempty"`
	Required    bool   `json:"required,omitempty"` // nothing is launched without it
}

// Build is how an image is made from files of the repository. Paths are
// relative to the repository's root, with slashes.
type Build struct {
	Dockerfile string            `json:"dockerfile"`
	Context    string            `json:"context"`
	Target     string            `json:"target,omitempty"`
	Args       map[string]string `json:"args,omitempty"`
	// CacheFrom are images whose layers may serve as a cache.
	CacheFrom []string `json:"cache_from,omitempty"`
	// Inline is the build file's own text, where it stands in no file.
	Inline string `json:"inline,omitempty"`
}

// Moment is when a life-cycle command runs.
type Moment string

// The moments of the Development Container Specification that this package
// honours, in the order in which they come.
const (
	OnCreate      Moment = "onCreateCommand"
	UpdateContent Moment = "updateContentCommand"
	PostCreate    Moment = "postCreateCommand"
	PostStart     Moment = "postStartCommand"
	PostAttach    Moment = "postAttachCommand"
	// Services is no command of the specification: at it the services beside
	// the workspace are started, before all others.
	Services Moment = "services"
	// Personal is none either: at it the owner's own files are brought, after all
	// others, while the workspace is ready already.
	Personal Moment = "personal"
	// Luggage is none either: at it what goes with its owner from workspace to workspace
	// is laid into the home folder, before all others.
	Luggage Moment = "luggage"
)

// Moments are all of them, in order.
var Moments = []Moment{OnCreate, UpdateContent, PostCreate, PostStart, PostAttach}

// EveryStart tells whether the moment comes at each start of the container
// rather than once in its life.
func (m Moment) EveryStart() bool { return m == PostStart || m == Services || m == Luggage }

// Harmless tells whether what comes after the moment stands on nothing of it.
func (m Moment) Harmless() bool { return m == Personal || m == Luggage }

// BeforePerson tells whether the moment belongs before a person comes, so
// that a prebuild runs it (the specification's words on onCreateCommand and
// updateContentCommand).
func (m Moment) BeforePerson() bool { return m == Services || m == OnCreate || m == UpdateContent }

// SetUp is what one layer runs at one moment: one command, or several side by side.
type SetUp struct {
	Moment   Moment    `json:"moment"`
	Commands []Command `json:"commands"`
	// From names the feature or image that brought it; "" is the definition.
	From string `json:"from,omitempty"`
}

// MomentsDue are the moments at which something is done to bring a workspace
// up, in order; what comes when a person attaches is not among them.
func (d Definition) MomentsDue() (out []Moment) {
	if d.Compose != nil && len(d.Compose.Services) > 0 {
		out = append(out, Services)
	}
	for _, m := range Moments {
		if m != PostAttach && len(d.At(m)) > 0 {
			out = append(out, m)
		}
	}
	return out
}

// At are the commands of one moment: each element after the one before.
func (d Definition) At(m Moment) (out []SetUp) {
	for _, s := range d.SetUp {
		if s.Moment == m {
			out = append(out, s)
		}
	}
	return out
}

// Command is one command line. Shell is run by /bin/sh; Args, when set, is run
// without a shell.
type Command struct {
	Label string   `json:"label,omitempty"`
	Shell string   `json:"shell,omitempty"`
	Args  []string `json:"args,omitempty"`
}

// Argv is the argument vector that runs the command.
func (c Command) Argv() []string {
	if len(c.Args) > 0 {
		return c.Args
	}
	return []string{"/bin/sh", "-c", c.Shell}
}

// Severity grades a finding.
type Severity = string

// An error stops a launch; a warning and a note do not.
const (
	Error   Severity = "error"
	Warning Severity = "warning"
	Note    Severity = "note"
)

// Finding is one thing that is wrong with a definition, and where.
type Finding struct {
	Severity Severity `json:"severity"`
	Path     string   `json:"path"`
	Line     int      `json:"line,omitempty"`   // from 1; 0 when the file as a whole is meant
	Column   int      `json:"column,omitempty"` // from 1, in bytes
	What     string   `json:"what"`
	Fix      string   `json:"fix,omitempty"`
	// Rule names the rule that found it, and Why says why it matters; see [Rules].
	Rule string `json:"rule"`
	Why  string `json:"why,omitempty"`
	// Subject is what it is about where that has a name of its own: a port, a
	// variable, an image. What mends it goes by this, never by its words.
	Subject string `json:"subject,omitempty"`
}

// String is the finding on one line, as compilers write them.
func (f Finding) String() string {
	at := f.Path
	if f.Line > 0 {
		at = fmt.Sprintf("%s:%d:%d", f.Path, f.Line, f.Column)
	}
	s := fmt.Sprintf("%s: %s: %s", at, f.Severity, f.What)
	if f.Fix != "" {
		s += "; " + f.Fix
	}
	return s
}

// Fatal returns the first error among the findings, if any.
func Fatal(fs []Finding) (Finding, bool) {
	for _, f := range fs {
		if f.Severity == Error {
			return f, true
		}
	}
	return Finding{}, false
}

// Fingerprint is a hash over all that goes into the image of d. contextTree
// identifies the content of the build context (a git tree id); it does not
// matter where the definition uses an image as it is. Two equal fingerprints
// may share an image. 64 hexadecimal digits.
func Fingerprint(d Definition, contextTree string) string {
	doc := struct {
		Image    string
		Build    *Build
		Tree     string
		User     string    // features are installed for the user
		Features []Feature // with their content's digests and options
	}{d.Image, d.Build, "", "", d.Features}
	if d.Build != nil {
		doc.Tree = contextTree
	}
	if len(d.Features) > 0 {
		doc.User = d.User + " " + d.ContainerUser
	}
	return hash(doc)
}

// hash is over plain values; maps are written in the order of their keys.
func hash(doc any) string {
	bytes, err := json.Marshal(doc)
	if err != nil { // plain values always marshal
		panic(err)
	}
	sum := sha256.Sum256(bytes)
	return hex.EncodeToString(sum[:])
}

// Prepared is a hash over all that goes into a prepared image of d: its image
// by fingerprint, where and as whom its set-up runs, and the commands that
// belong before the person. 64 hexadecimal digits.
func Prepared(d Definition, image string) string {
	doc := struct {
		Image, Folder, Tree, User string
		Env, SessionEnv           map[string]string
		SessionUnset              []string `json:",omitempty"`
		SetUp                     []SetUp
		Beside                    []Beside
		Services                  *Compose
		Mounts                    []Mount
		Extra                     Extra
	}{Image: image, Folder: d.Folder, Tree: d.Tree, User: d.Person(), Env: d.Env, SessionEnv: d.SessionEnv, SessionUnset: d.SessionUnset, Beside: d.Beside, Services: d.Compose, Mounts: d.Mounts, Extra: d.Extra}
	for _, s := range d.SetUp {
		if s.Moment.BeforePerson() {
			doc.SetUp = append(doc.SetUp, s)
		}
	}
	return hash(doc)
}

// Images are the images of d that are used as they are, each once.
func (d Definition) Images() (out []string) {
	if d.Image != "" {
		out = append(out, d.Image)
	}
	if d.Compose != nil {
		for _, s := range d.Compose.Services {
			if s.Image != "" && s.Build == nil && !slices.Contains(out, s.Image) {
				out = append(out, s.Image)
			}
		}
	}
	return out
}
