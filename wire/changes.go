package wire

import "time"

// Changes is how a clone in a workspace stands.
type Changes struct {
	Folder   string        `json:"folder" example:"/workspaces/tide-board"`
	Branch   string        `json:"branch,omitempty" doc:"Without it none is out"`
	Commit   string        `json:"commit,omitempty"`
	Upstream string        `json:"upstream,omitempty"`
	Ahead    int           `json:"ahead" doc:"Commits that the upstream has not, as far as was fetched"`
	Behind   int           `json:"behind"`
	Stashes  int           `json:"stashes"`
	Files    []ChangedFile `json:"files"`
	More     bool          `json:"more,omitempty" doc:"There are more than are listed"`
	Problem  string        `json:"problem,omitempty" doc:"Why it cannot be looked at"`
}

// ChangedFile is a file that is changed. Staged and Unstaged are missing where it is not.
type ChangedFile struct {
	Path     string `json:"path" doc:"From the clone's folder"`
	Raw      []byte `json:"raw,omitempty" doc:"The path's bytes, in base64, where they are no text (UTF-8)"`
	From     string `json:"from,omitempty" doc:"Its name before"`
	Staged   string `json:"staged,omitempty" enum:"modified,added,deleted,renamed,copied,type"`
	Unstaged string `json:"unstaged,omitempty" enum:"modified,added,deleted,renamed,copied,type,untracked"`
	Conflict bool   `json:"conflict,omitempty"`
}

// Difference is how two states of a file differ.
type Difference struct {
	Binary bool   `json:"binary,omitempty"`
	Hunks  []Hunk `json:"hunks"`
	Cut    bool   `json:"cut,omitempty" doc:"There is more than is answered"`
}

// Hunk is one place where two states of a file differ.
type Hunk struct {
	ID       string   `json:"id" doc:"Of its content: by it a hunk is staged, unstaged or discarded"`
	OldStart int      `json:"old_start"`
	OldLines int      `json:"old_lines"`
	NewStart int      `json:"new_start"`
	NewLines int      `json:"new_lines"`
	About    string   `json:"about,omitempty" doc:"What it is in, as git finds it"`
	Lines    []string `json:"lines" doc:"Each begins with a blank, a plus, a minus, or a backslash where a last line has no end"`
}

// Choice is which changes of a clone are meant: files, or hunks of one file.
type Choice struct {
	Folder string   `json:"folder,omitempty" maxLength:"4096" doc:"The clone's; without it the workspace's own"`
	Paths  []string `json:"paths,omitempty" maxItems:"10000" doc:"From the clone's folder; a folder is all in it"`
	Raw    [][]byte `json:"raw,omitempty" maxItems:"10000" doc:"Those that are no text, as bytes in base64"`
	Hunks  []string `json:"hunks,omitempty" maxItems:"10000" doc:"Of the one file that is named"`
}

// NewCommit is what is committed: what is staged.
type NewCommit struct {
	Folder  string `json:"folder,omitempty" maxLength:"4096" doc:"The clone's; without it the workspace's own"`
	Message string `json:"message" minLength:"1" maxLength:"65536"`
	Amend   bool   `json:"amend,omitempty" doc:"In place of the newest commit"`
	Sign    bool   `json:"sign,omitempty" doc:"As git is set up to in the workspace"`
}

// Committed is a commit that was made.
type Committed struct {
	Commit string `json:"commit"`
	Output string `json:"output" doc:"What git and its hooks said"`
}

// CloneBranch is one of a clone's, or of its remotes' as they were fetched.
type CloneBranch struct {
	Name     string    `json:"name"`
	Remote   bool      `json:"remote,omitempty"`
	Current  bool      `json:"current,omitempty"`
	Upstream string    `json:"upstream,omitempty"`
	Ahead    int       `json:"ahead"`
	Behind   int       `json:"behind"`
	Commit   string    `json:"commit"`
	Subject  string    `json:"subject"`
	At       time.Time `json:"at" doc:"Of its newest commit"`
}

// SwitchBranch has another branch be out.
type SwitchBranch struct {
	Folder string `json:"folder,omitempty" maxLength:"4096" doc:"The clone's; without it the workspace's own"`
	Name   string `json:"name" minLength:"1" maxLength:"250"`
	New    bool   `json:"new,omitempty" doc:"It is made"`
	From   string `json:"from,omitempty" maxLength:"250" doc:"Where a new one begins; without it at what is out"`
}

// Exchange is with the clone's remote.
type Exchange struct {
	Folder string `json:"folder,omitempty" maxLength:"4096" doc:"The clone's; without it the workspace's own"`
	Force  bool   `json:"force,omitempty" doc:"A push takes the place of what the remote has, if that is what was fetched"`
}

// Exchanged is what git and the remote said.
type Exchanged struct {
	Output  string  `json:"output"`
	Changes Changes `json:"changes"`
}
