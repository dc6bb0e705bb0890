package wire

// DefinitionCheck is what a check of a repository's environment definition found.
type DefinitionCheck struct {
	Repository string              `json:"repository,omitempty"`
	Branch     string              `json:"branch,omitempty"`
	Commit     string              `json:"commit,omitempty"`
	Name       string              `json:"name,omitempty" doc:"The folder of the definition under .devcontainer"`
	Names      []string            `json:"names,omitempty" doc:"The definitions of the repository; an empty one is the first"`
	Findings   []DefinitionFinding `json:"findings"`
	// Values is what it resolves to; empty where it is refused.
	Values      []DefinitionValue `json:"values,omitempty"`
	Steps       []DefinitionStep  `json:"steps,omitempty" doc:"What a launch does because of it, in order"`
	Files       map[string]string `json:"files,omitempty" doc:"The files that it was read from, each with the beginning of its SHA-256"`
	Fingerprint string            `json:"fingerprint,omitempty" doc:"Of everything that goes into the image"`
	Images      []DefinitionImage `json:"images,omitempty" doc:"The images it begins with"`
	Built       string            `json:"built,omitempty" doc:"The digest of the image it comes to, where the yard has it"`
}

// DefinitionValue is one value of a resolved definition.
type DefinitionValue struct {
	Key    string `json:"key" example:"env.TIDE_PORT"`
	Value  string `json:"value"`
	Origin string `json:"origin" doc:"A file with line and column, a feature, an image's label, the house rules, or: usual"`
}

// DefinitionStep is one thing that a launch does because of a definition.
type DefinitionStep struct {
	When  string `json:"when" enum:"for the image,once,at each start,in each terminal"`
	What  string `json:"what"`
	As    string `json:"as,omitempty" doc:"The user it runs as"`
	Where string `json:"where,omitempty" doc:"The folder it runs in"`
	From  string `json:"from" doc:"Where the definition says so, as the origin of a value"`
}

// DefinitionChanges is what differs between what two definitions come to.
type DefinitionChanges struct {
	Changes []DefinitionChange `json:"changes"`
	Due     string             `json:"due" doc:"What a change from the first to the other makes due for workspaces that are there"`
}

// DefinitionChange is a value that differs; an empty one is not there.
type DefinitionChange struct {
	Key string `json:"key"`
	Old string `json:"old"`
	New string `json:"new"`
}

// DefinitionImage is an image that a definition begins with.
type DefinitionImage struct {
	Name   string `json:"name"`
	Digest string `json:"digest,omitempty" doc:"As the yard has it; empty where it has not"`
}

// DefinitionFinding is something about a definition that stops a launch (an
// error), is likely to hurt (a warning), or is worth knowing (a note).
type DefinitionFinding struct {
	Severity string `json:"severity" enum:"error,warning,note"`
	Path     string `json:"path"`
	Line     int    `json:"line,omitempty" doc:"From 1; 0 is the whole file"`
	Column   int    `json:"column,omitempty" doc:"From 1, in bytes"`
	What     string `json:"what"`
	Fix      string `json:"fix,omitempty"`
	Rule     string `json:"rule"`
	Why      string `json:"why,omitempty"`
	Subject  string `json:"subject,omitempty" doc:"What it is about, where that has a name: a port, a variable, an image"`
}

// Service is a service beside a workspace.
type Service struct {
	Name    string   `json:"name"`
	Image   string   `json:"image" doc:"Its image, or the build file it is built from"`
	State   string   `json:"state" enum:"absent,made,running,starting,healthy,unhealthy,ended,failed"`
	Problem string   `json:"problem,omitempty" doc:"Why it failed"`
	Ports   []int    `json:"ports" doc:"It says it listens on"`
	Needs   []string `json:"needs" doc:"What it waits for"`
}

// Starter is a ready definition for a new project.
type Starter struct {
	Name        string          `json:"name"`
	Title       string          `json:"title,omitempty"`
	Description string          `json:"description,omitempty"`
	Version     string          `json:"version,omitempty"`
	Options     []StarterOption `json:"options"`
	Problem     string          `json:"problem,omitempty" doc:"Why it cannot be used"`
}

// StarterOption is something to choose.
type StarterOption struct {
	Name        string   `json:"name"`
	Description string   `json:"description,omitempty"`
	Kind        string   `json:"kind" enum:"text,yes or no"`
	Default     string   `json:"default,omitempty"`
	Choices     []string `json:"choices"`
	OnlyThese   bool     `json:"only_these" doc:"No other choice is taken"`
}

// FillStarter asks for a starter's files.
type FillStarter struct {
	Options map[string]string `json:"options,omitempty"`
}

// FilledStarter is a starter's files, with the options in them.
type FilledStarter struct {
	Starter Starter       `json:"starter"`
	Commit  string        `json:"commit"`
	Files   []StarterFile `json:"files"`
}

// StarterFile is one of them.
type StarterFile struct {
	Path       string `json:"path"`
	Executable bool   `json:"executable"`
	Content    []byte `json:"content"`
}
