// Package steward is the protocol between the service and the steward, the
// small helper inside every workspace. Its two ends are packages beneath:
// inside (the steward) and outside (the service). This one touches nothing.
//
// The steward dials. Over the connection runs yamux, the service as its
// client. The steward opens the first stream and sends a [Hello]; the service
// answers with a [Welcome]. After that either end opens streams: each starts
// with one [Request] and one [Reply] (a message is a 4-byte big-endian length
// and that much JSON), and goes on as the kind says, mostly in frames (a byte
// of kind, a 4-byte big-endian length, that many bytes).
//
// The service takes everything the steward says for hostile: every message
// and frame is bounded, and none names a path on the service's side.
package steward

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"sync"
	"time"

	"github.com/hashicorp/yamux"
)

// Versions of the protocol this code speaks, newest first.
var Versions = []int{1}

// Bounds on what is read.
const (
	maxMessage = 4 << 20 // holds the largest environment with room to spare
	maxFrame   = 256 << 10
	maxIdle    = 16 << 10 // what a connection keeps for its next frame
	// MaxAsked bounds the first message of a stream that a steward opens, which
	// names no more than a kind, a host, or a secret and what it is for.
	MaxAsked = 64 << 10
)

// Hello is the steward's first message.
type Hello struct {
	Versions []int  `json:"versions"`
	Token    string `json:"token"`
	Arch     string `json:"arch"`
}

// Welcome is the service's answer; Refusal is set when it will not go on.
type Welcome struct {
	Version int    `json:"version"`
	Refusal string `json:"refusal,omitempty"`
}

// Agree picks the newest version both speak; 0 when there is none.
func Agree(theirs []int) int {
	for _, v := range Versions {
		for _, t := range theirs {
			if v == t {
				return v
			}
		}
	}
	return 0
}

// Kind says what a stream is for.
type Kind string

// The kinds of stream the service opens.
const (
	Terminal Kind = "terminal"     // frames both ways; outlives the stream
	Run      Kind = "run"          // frames both ways; ends with the stream, with Typist and ID a while after it
	SetUp    Kind = "set-up"       // frames to the service; once for each ID
	CloneTo  Kind = "clone"        // frames to the service
	Work     Kind = "work"         // one WorkReport back
	Watch    Kind = "watch"        // Status messages to the service, as things change
	Dial     Kind = "dial"         // then the bytes of a connection to a port
	Listed   Kind = "listed"       // a TerminalList back
	Notice   Kind = "notice"       // a line of text for every open terminal
	EndLeft  Kind = "end-left"     // a Left back; ends what the set-up commands of the moment ID have left running
	PutFiles Kind = "secret-files" // has the secrets that are files stand as the process says
	Keep     Kind = "keep"         // frames to the service; copies the tree into the container's own layer
)

// The kinds of stream the steward opens.
const (
	Git   Kind = "git"   // an HTTP proxy connection for git
	Agent Kind = "agent" // then the protocol of SSH's agents (draft-ietf-sshm-ssh-agent)
	// Asks is a program that asks for the secret that ID names, for what Text says: one
	// [Answer] comes, or two where it has to wait for it.
	Asks Kind = "asks"
)

// AskName is the name by which programs in a workspace find what asks for them.
const AskName = "yardbench-secret"

// Answer is to a program that asks for a secret: that it waits, and what for; then the
// value, or why there is none.
type Answer struct {
	Waits   string `json:"waits,omitempty"`
	Problem string `json:"problem,omitempty"`
	Value   string `json:"value,omitempty"`
	Version int    `json:"version,omitempty"`
	// Again tells that the service was away: ask again.
	Again bool `json:"again,omitempty"`
}

// What a CONNECT over such a proxy asks for: one of git's programs, run at the host
// by SSH. Frames go over it then, as of a Run.
const (
	GitProgram  = "Git-Program" // like git-upload-pack
	GitUser     = "Git-User"    // as whom
	GitPath     = "Git-Path"    // of the repository, there
	GitProtocol = "Git-Protocol"
)

// Request opens a stream. Which fields count depends on the kind.
type Request struct {
	Kind Kind `json:"kind"`
	// Process says how to run things; for Terminal, Run, SetUp, CloneTo, Work.
	Process Process `json:"process,omitzero"`
	// ID identifies a set-up command, or labels a terminal.
	ID string `json:"id,omitempty"`
	// Columns and Rows are the size of a terminal.
	Columns int `json:"columns,omitempty"`
	Rows    int `json:"rows,omitempty"`
	// URL and Branch say what to clone into the process's folder; Beside what
	// to clone beside it.
	URL    string  `json:"url,omitempty"`
	Branch string  `json:"branch,omitempty"`
	Beside []Clone `json:"beside,omitempty"`
	// Mount is the volume's mount point where that is above the folder; for
	// CloneTo and Keep.
	Mount string `json:"mount,omitempty"`
	// Prepared tells CloneTo to begin with the tree that Keep left in the image.
	Prepared bool `json:"prepared,omitempty"`
	// Port is what to dial; Service is on whom, "" for the workspace itself.
	// With Datagrams it is by UDP: each goes over the stream with its length before it,
	// in two bytes (big-endian).
	Port      int    `json:"port,omitempty"`
	Service   string `json:"service,omitempty"`
	Datagrams bool   `json:"datagrams,omitempty"`
	// From is where a Terminal's output is wanted from, in bytes from its first, in
	// the life that Life names; with Life one that has ended is not opened anew.
	// Typist names who types, for as long as they count: they are told of a [Place],
	// and how much of their input was taken. All of that is of a Run with an ID too:
	// it goes on for a while when its stream breaks, and whoever has its Life comes
	// back to it.
	From   int64  `json:"from,omitempty"`
	Life   string `json:"life,omitempty"`
	Typist string `json:"typist,omitempty"`
	// First is typed into a Terminal when it is opened.
	First string `json:"first,omitempty"`
	// Joins has a Terminal be as it is: it is not opened, and keeps its size. Looks has
	// it take no input, too.
	Joins bool `json:"joins,omitempty"`
	Looks bool `json:"looks,omitempty"`
	// Records is of one who keeps what a terminal prints: it looks, is told its sizes
	// by Resize, and is nobody who is at it; without Life it is from now on. Recorded has one that is opened wait a
	// moment for such, before it prints anything.
	Records  bool `json:"records,omitempty"`
	Recorded bool `json:"recorded,omitempty"`
	// Passing has a terminal end with the last who looks at it.
	Passing bool `json:"passing,omitempty"`
	// Text is the notice; of Asks what the secret is for. Now has that not wait.
	Text string `json:"text,omitempty"`
	Now  bool   `json:"now,omitempty"`
	// FloorMilli is the processor use, in thousandths of a core, above which
	// Watch counts a workspace as busy.
	FloorMilli int64 `json:"floor_milli,omitempty"`
}

// Clone is a further repository to clone.
type Clone struct {
	URL    string `json:"url"`
	Branch string `json:"branch"`
	Folder string `json:"folder"`
}

// PreparedFolder is where Keep puts the tree: at no mount point, so that an
// image made from the container holds it.
const PreparedFolder = "/.yardbench-prepared/tree"

// Status is how things stand in a workspace. Times are milliseconds ago, so
// that nobody's clock counts; -1 is never.
type Status struct {
	Ports   []Port `json:"ports"` // at most 200
	TypedMS int64  `json:"typed_ms"`
	ReadMS  int64  `json:"read_ms"`
	BusyMS  int64  `json:"busy_ms"`
	// Holders are the terminals, runs and set-up commands that run, with the
	// versions of the secrets they were given; at most 100.
	Holders   []Holder `json:"holders"`
	DiskBytes int64    `json:"disk_bytes"` // of the workspace folder; 0 while unknown
	// FolderFull and RootFull tell that what holds the workspace folder, or the
	// container's own files, has no room left.
	FolderFull bool `json:"folder_full,omitempty"`
	RootFull   bool `json:"root_full,omitempty"`
}

// Port is one that something listens on.
type Port struct {
	Number   int    `json:"number"`
	Process  string `json:"process"`  // its name, at most 40 characters
	Loopback bool   `json:"loopback"` // only on loopback
}

// TerminalList is the terminals of a workspace, at most 128.
type TerminalList struct {
	Terminals []TerminalInfo `json:"terminals"`
}

// TerminalInfo is one of them.
type TerminalInfo struct {
	Label   string `json:"label"`
	Program string `json:"program"` // what is in front, at most 40 characters
	SinceMS int64  `json:"since_ms"`
}

// Left is what set-up commands had left running, and was ended: their ids.
type Left struct {
	Ended []string `json:"ended"`
}

// Holder is a process that was given secrets.
type Holder struct {
	Label   string         `json:"label"`
	SinceMS int64          `json:"since_ms"`
	Secrets map[string]int `json:"secrets"` // version by name
}

// Process says how to run something in the workspace.
type Process struct {
	Argv []string `json:"argv,omitempty"` // empty: the user's shell
	// Command is run by the user's shell, in place of Argv. Errand is one of the
	// steward's own, with Argv as its arguments.
	Command string `json:"command,omitempty"`
	Errand  string `json:"errand,omitempty"`
	User    string `json:"user,omitempty"` // name, number or number:number; empty: root
	Folder  string `json:"folder,omitempty"`
	// Env is set over the container's own; ${containerEnv:NAME} in a value
	// stands for the container's.
	Env map[string]string `json:"env,omitempty"`
	// Unset takes variables out, unless Env has them.
	Unset []string `json:"unset,omitempty"`
	// Probe is how the user's shell is asked for its environment first, as the
	// specification's userEnvProbe names it; "" and "none" do not ask.
	Probe string `json:"probe,omitempty"`
	// Also are further clones that Work looks at.
	Also []string `json:"also,omitempty"`
	// Quiet has a Run be no sign of work.
	Quiet bool `json:"quiet,omitempty"`
	// Secrets are the versions of the secrets in Env and Files, by name.
	Secrets map[string]int `json:"secrets,omitempty"`
	// Files are the secrets in the form of a file, content by name. They
	// replace those that stand there.
	Files map[string]string `json:"files,omitzero"`
	// FileWays are where some of Files stand too, and their modes.
	FileWays []FileWay `json:"file_ways,omitempty"`
	// GitConfig is configuration for git, in pairs.
	GitConfig []string `json:"git_config,omitempty"`
	// GitHost is the address, with a closing slash, that git reaches through the
	// service, which signs it in: nothing to sign in with comes into a workspace.
	GitHost string `json:"git_host,omitempty"`
	// SSHHosts are those on which the service signs git in by SSH, as it does there.
	SSHHosts []string `json:"ssh_hosts,omitempty"`
	// Agent has the process find an agent that signs with its user's own key.
	Agent bool `json:"agent,omitempty"`
	// Asks has it find the program [AskName].
	Asks bool `json:"asks,omitempty"`
}

// FileWay is how a secret's file is to stand.
type FileWay struct {
	Name string `json:"name"`
	Path string `json:"path,omitempty"` // ~/… is a link to it, unless something else stands there
	Mode uint32 `json:"mode,omitempty"` // its permission bits; 0 is 0400
	// Owner is whose it is, where the image has such a user; else the process's user's.
	Owner string `json:"owner,omitempty"`
}

// The steward's own errands: what it does as the workspace's user.
const (
	SFTP    = "files"   // serves files over its input and output
	Connect = "connect" // NETWORK ADDRESS: passes on what goes over a socket
	// LuggageOut packs files of the home folder as tar (POSIX.1-2001), by the [LuggageAsk]
	// on its input; what does not come along it tells on standard error, a [LuggageLeft] a
	// line. LuggageIn lays such a tar into the home folder; with the argument fresh what
	// comes counts before what is there, else whichever is newer.
	LuggageOut = "luggage-out"
	LuggageIn  = "luggage-in"
	Listen     = "listen" // NETWORK ADDRESS: yamux over its input and output, first a stream with [Listening]
)

// LuggageAsk says what is to come along.
type LuggageAsk struct {
	Paths    []string      `json:"paths"` // from the home folder
	Known    []LuggageFile `json:"known"` // what is kept of it: what is as it was need not come
	MostFile int64         `json:"most_file"`
	Most     int64         `json:"most"` // bytes of all that comes
	Files    int           `json:"files"`
}

// LuggageFile is a file as it is known.
type LuggageFile struct {
	Path      string `json:"path"`
	Bytes     int64  `json:"bytes"`
	ChangedUS int64  `json:"changed_us"` // microseconds since 1970
}

// LuggageLeft is a file that does not come along.
type LuggageLeft struct {
	Path string `json:"path"`
	Why  string `json:"why"`
}

// Listening is where a Listen listens.
type Listening struct {
	Port    int    `json:"port,omitempty"`
	Problem string `json:"problem,omitempty"`
}

// Reply answers a request; Problem is set when it will not be done.
type Reply struct {
	Problem string `json:"problem,omitempty"`
}

// FrameKind says what a frame carries.
type FrameKind byte

// The kinds of frame.
const (
	Input  FrameKind = 'i' // to a process
	NoMore FrameKind = 'c' // the input ends
	Resize FrameKind = 'r' // a Size
	Signal FrameKind = 's' // to a process: the name of a signal, as kill(1) has it
	Leave  FrameKind = 'l' // to a Run that outlasts its stream: whoever asked for it wants it no more
	Output FrameKind = 'o'
	Errors FrameKind = 'e' // standard error, where it is apart
	Ended  FrameKind = 'x' // an Exit; the last frame
	Placed FrameKind = 'q' // a Place
	Taken  FrameKind = 'k' // how many bytes of a typist's input were taken in all, in decimal
)

// Size is a terminal's.
type Size struct {
	Columns int `json:"columns"`
	Rows    int `json:"rows"`
}

// Place says where the output of a terminal that follows stands.
type Place struct {
	Life  string `json:"life"`
	At    int64  `json:"at"`    // in bytes from its first
	Taken int64  `json:"taken"` // bytes of the typist's input
}

// Exit is how a process ended.
type Exit struct {
	Code int `json:"code"` // 128 + the signal's number when a signal ended it
	// Interrupted: it was cut off by the container's end in an earlier life
	// and is not run again.
	Interrupted bool   `json:"interrupted,omitempty"`
	Problem     string `json:"problem,omitempty"` // it could not be run at all
	Bytes       int64  `json:"bytes,omitempty"`   // what a clone takes
}

// WorkReport says what in the workspace folder exists nowhere else.
type WorkReport struct {
	Uncommitted []string `json:"uncommitted"` // paths, at most 100
	Unpushed    []string `json:"unpushed"`    // commits, one line each, at most 100
	Stashes     int      `json:"stashes"`
	Problem     string   `json:"problem,omitempty"` // it could not be looked at
}

// Clean tells that nothing would be lost.
func (w WorkReport) Clean() bool {
	return w.Problem == "" && len(w.Uncommitted) == 0 && len(w.Unpushed) == 0 && w.Stashes == 0
}

// Conn is one stream, with whole frames written by one writer at a time.
type Conn struct {
	Stream io.ReadWriteCloser
	mu     sync.Mutex
	out    []byte // the frame on its way; its room is used again
}

// Send writes one message.
func (c *Conn) Send(v any) error {
	body, err := json.Marshal(v)
	if err != nil {
		return err
	}
	if len(body) > maxMessage {
		return fmt.Errorf("a message of %d bytes is larger than the %d allowed", len(body), maxMessage)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	_, err = c.Stream.Write(append(binary.BigEndian.AppendUint32(nil, uint32(len(body))), body...))
	return err
}

// Receive reads one message into v.
func (c *Conn) Receive(v any) error { return c.ReceiveAtMost(v, maxMessage) }

// ReceiveAtMost is Receive for a message of at most so many bytes. Memory is
// taken as they come, not as they are announced.
func (c *Conn) ReceiveAtMost(v any, most uint32) error {
	var head [4]byte
	if _, err := io.ReadFull(c.Stream, head[:]); err != nil {
		return err
	}
	n := binary.BigEndian.Uint32(head[:])
	if n > most {
		return fmt.Errorf("a message of %d bytes is larger than the %d allowed", n, most)
	}
	var body bytes.Buffer
	if _, err := io.CopyN(&body, c.Stream, int64(n)); err != nil {
		return err
	}
	return json.Unmarshal(body.Bytes(), v)
}

// SendFrame writes one frame, or several where p is longer than one holds.
func (c *Conn) SendFrame(k FrameKind, p []byte) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	for {
		part := p[:min(len(p), maxFrame)]
		c.out = append(binary.BigEndian.AppendUint32(append(c.out[:0], byte(k)), uint32(len(part))), part...)
		if _, err := c.Stream.Write(c.out); err != nil {
			return err
		}
		if cap(c.out) > maxIdle && len(part) <= maxIdle {
			c.out = nil // a terminal that once printed much does not keep the room
		}
		if p = p[len(part):]; len(p) == 0 {
			return nil
		}
	}
}

// SendJSON writes one frame with v as JSON.
func (c *Conn) SendJSON(k FrameKind, v any) error {
	body, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return c.SendFrame(k, body)
}

// ReceiveFrame reads one frame.
func (c *Conn) ReceiveFrame() (FrameKind, []byte, error) { return c.ReceiveFrameIn(nil) }

// ReceiveFrameIn is ReceiveFrame with a buffer of the caller's, which holds the
// frame where it is large enough.
func (c *Conn) ReceiveFrameIn(buf []byte) (FrameKind, []byte, error) {
	var head [5]byte
	if _, err := io.ReadFull(c.Stream, head[:]); err != nil {
		return 0, nil, err
	}
	n := binary.BigEndian.Uint32(head[1:])
	if n > maxFrame {
		return 0, nil, fmt.Errorf("a frame of %d bytes is larger than the %d allowed", n, maxFrame)
	}
	if uint32(cap(buf)) < n {
		buf = make([]byte, n)
	}
	p := buf[:n]
	_, err := io.ReadFull(c.Stream, p)
	return FrameKind(head[0]), p, err
}

// Writer is an io.Writer that sends frames of one kind.
func (c *Conn) Writer(k FrameKind) io.Writer { return frameWriter{c, k} }

type frameWriter struct {
	c *Conn
	k FrameKind
}

func (w frameWriter) Write(p []byte) (int, error) {
	if len(p) == 0 {
		return 0, nil
	}
	return len(p), w.c.SendFrame(w.k, p)
}

// Multiplex is the yamux configuration of both ends.
func Multiplex() *yamux.Config {
	c := yamux.DefaultConfig()
	c.LogOutput = io.Discard
	c.KeepAliveInterval = 15 * time.Second
	c.ConnectionWriteTimeout = 30 * time.Second
	c.MaxStreamWindowSize = 1 << 20 // throughput over an exec stream; memory is bounded by the streams in use
	c.StreamOpenTimeout = 30 * time.Second
	return c
}

// Errands is the yamux configuration of what runs over an errand's input and
// output. The stream beneath tells when it breaks; to ask whether it is alive
// would have the workspace look as if somebody worked in it.
func Errands() *yamux.Config {
	c := Multiplex()
	c.EnableKeepAlive = false
	return c
}
