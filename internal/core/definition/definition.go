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
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"sort"
)

// Definition is one environment definition, resolved: merged with defaults,
// variables put in, commands brought to one form. It is what a workspace is
// made from, and it is stored with the workspace.
type Definition struct {
	// Path is where the definition stands in the repository.
	Path string `json:"path"`
	// Title is the definition's own "name", for people.
	Title string `json:"title,omitempty"`
	// Image is the image to use as it is; empty when Build is set.
	Image string `json:"image,omitempty"`
	// Build says how to make the image; nil when Image is set.
	Build *Build `json:"build,omitempty"`
	// Env is set for every process of the container ("containerEnv").
	Env map[string]string `json:"env,omitempty"`
	// SessionEnv is set for terminals, runs and set-up commands ("remoteEnv").
	// ${containerEnv:NAME} is still in it: only the container knows those.
	SessionEnv map[string]string `json:"session_env,omitempty"`
	// User is who works in the workspace; empty means the image's own user.
	User string `json:"user,omitempty"`
	// Folder is the absolute path of the workspace folder in the container.
	Folder string `json:"folder"`
	// Ports are the forwarded ports, as numbers.
	Ports []int `json:"ports,omitempty"`
	// PortLabels names ports for people ("portsAttributes").
	PortLabels map[int]string `json:"port_labels,omitempty"`
	// Secrets are the secrets that are wanted, by name.
	Secrets []Wanted `json:"secrets,omitempty"`
	// SetUp holds the life-cycle commands, in the order of the specification.
	SetUp []SetUp `json:"set_up,omitempty"`
}

// Wanted is a secret that the definition asks for.
type Wanted struct {
	Name        string `json:"name"`
	Description string `json:"description,omitempty"`
}

// Build is how an image is made from files of the repository. Paths are
// relative to the repository's root, with slashes.
type Build struct {
	Dockerfile string            `json:"dockerfile"`
	Context    string            `json:"context"`
	Target     string            `json:"target,omitempty"`
	Args       map[string]string `json:"args,omitempty"`
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
)

// EveryStart tells whether the moment comes at each start of the container
// rather than once in its life.
func (m Moment) EveryStart() bool { return m == PostStart }

// BeforePerson tells whether the moment belongs before a person comes, so
// that a prebuild runs it (the specification's words on onCreateCommand and
// updateContentCommand).
func (m Moment) BeforePerson() bool { return m == OnCreate || m == UpdateContent }

// SetUp is what runs at one moment: one command, or several side by side.
type SetUp struct {
	Moment   Moment    `json:"moment"`
	Commands []Command `json:"commands"`
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
	type kv struct{ K, V string }
	doc := struct {
		Image string
		Build *Build
		Args  []kv
		Tree  string
	}{Image: d.Image}
	if d.Build != nil {
		b := *d.Build
		for k, v := range b.Args {
			doc.Args = append(doc.Args, kv{k, v})
		}
		sort.Slice(doc.Args, func(i, j int) bool { return doc.Args[i].K < doc.Args[j].K })
		b.Args = nil
		doc.Build, doc.Tree = &b, contextTree
	}
	bytes, err := json.Marshal(doc)
	if err != nil { // plain strings always marshal
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
		Image, Folder, User string
		Env, SessionEnv     map[string]string
		SetUp               []SetUp
	}{image, d.Folder, d.User, d.Env, d.SessionEnv, nil}
	for _, s := range d.SetUp {
		if s.Moment.BeforePerson() {
			doc.SetUp = append(doc.SetUp, s)
		}
	}
	bytes, err := json.Marshal(doc) // maps are written in the order of their keys
	if err != nil {                 // plain strings always marshal
		panic(err)
	}
	sum := sha256.Sum256(bytes)
	return hex.EncodeToString(sum[:])
}
