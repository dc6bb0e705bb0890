package wire

import "time"

// Profile is what of one's own comes into each of one's workspaces.
type Profile struct {
	Files *OwnFiles `json:"files,omitempty" doc:"A repository with one's own files: settings of shells and tools"`
}

// OwnFilesTitle is the step of a launch sheet at which they come.
const OwnFilesTitle = "Your files"

// LuggageTitle is the step at which what goes with its owner is laid into a workspace.
const LuggageTitle = "Your luggage"

// OwnFiles is a repository with somebody's own files.
type OwnFiles struct {
	Repository string `json:"repository" example:"https://git.skerryline.example/ingrid-files.git"`
	Branch     string `json:"branch,omitempty"`
	Run        string `json:"run,omitempty" example:"./install.sh"`
	EachStart  bool   `json:"each_start,omitempty"`
}

// PutProfile sets it.
type PutProfile struct {
	Files *PutOwnFiles `json:"files,omitempty" doc:"Left out: none"`
}

// PutOwnFiles names the repository with one's own files.
type PutOwnFiles struct {
	Repository string `json:"repository" maxLength:"400" example:"https://git.skerryline.example/ingrid-files.git" doc:"It is cloned to ~/.own-files, after the definition's set-up, as you"`
	Branch     string `json:"branch,omitempty" maxLength:"256" doc:"Default: its default branch"`
	Run        string `json:"run,omitempty" maxLength:"1000" example:"./install.sh" doc:"What puts them in place, by /bin/sh in the clone; default: the first of install.sh, install, setup.sh, setup, bootstrap.sh and bootstrap, else each file and folder whose name begins with a full stop is linked into the home folder"`
	EachStart  bool   `json:"each_start,omitempty" doc:"They are brought up to date and put in place at each start; else once for each container"`
}

// Luggage is what of one's home folder goes along from workspace to workspace.
type Luggage struct {
	Paths     []string      `json:"paths" doc:"Files and folders, from the home folder"`
	Files     []LuggageFile `json:"files" doc:"What is kept of them"`
	Bytes     int64         `json:"bytes" doc:"Of all that are kept"`
	MostBytes int64         `json:"most_bytes" doc:"By the house rules; 0: they let nothing go along"`
}

// LuggageFile is a file that goes along, or why it does not.
type LuggageFile struct {
	Path      string     `json:"path"`
	Bytes     int64      `json:"bytes"`
	ChangedAt *time.Time `json:"changed_at,omitempty" doc:"In the workspace; left out where nothing is kept of it"`
	From      string     `json:"from" doc:"The workspace that had it so"`
	LeftOut   string     `json:"left_out,omitempty" doc:"Why the file, as it is there now, does not go along"`
}

// PutLuggage names what is to go along.
type PutLuggage struct {
	Paths []string `json:"paths" maxItems:"40" doc:"Files and folders of the home folder, like ~/.bash_history; what is no more among them is kept no more, and stays in workspaces as it is there"`
}

// Usual is what one usually wants; what is left out is as it is for everybody.
type Usual struct {
	GitName    string `json:"git_name,omitempty" doc:"Who one is in git; default: the full name"`
	GitEmail   string `json:"git_email,omitempty" doc:"Default: the address of the account"`
	Shell      string `json:"shell,omitempty" example:"zsh" doc:"What terminals begin, where the image has it; default: the user's own"`
	Zone       string `json:"zone,omitempty" example:"Europe/Oslo" doc:"TZ of what is begun"`
	Language   string `json:"language,omitempty" example:"nb_NO.UTF-8" doc:"LANG of what is begun"`
	Size       string `json:"size,omitempty" doc:"Of launches that name none"`
	RestAfterS int    `json:"rest_after_s,omitempty" doc:"Of launches that name none"`
}

// PutUsual sets what one usually wants; what is left out is as it is for everybody.
type PutUsual struct {
	GitName    string `json:"git_name,omitempty" maxLength:"120"`
	GitEmail   string `json:"git_email,omitempty" maxLength:"200"`
	Shell      string `json:"shell,omitempty" maxLength:"200" example:"zsh" doc:"A program's name, or its path"`
	Zone       string `json:"zone,omitempty" maxLength:"64" example:"Europe/Oslo" doc:"Of the IANA time zone database"`
	Language   string `json:"language,omitempty" maxLength:"64" example:"nb_NO.UTF-8" doc:"A locale that the image has"`
	Size       string `json:"size,omitempty" maxLength:"40"`
	RestAfterS int    `json:"rest_after_s,omitempty" minimum:"0" maximum:"2592000"`
}

// GitKey is what one signs in to git hosts with by SSH, and signs commits with. Its
// private half leaves the service for nobody.
type GitKey struct {
	Public       string    `json:"public" doc:"A line to put at git hosts: as a key to sign in with, and as one that signs"`
	Fingerprint  string    `json:"fingerprint"`
	SignsCommits bool      `json:"signs_commits" doc:"Commits and tags in one's workspaces are signed without git being told"`
	MadeAt       time.Time `json:"made_at"`
}

// PutGitKey makes or brings a key, or changes what it is for.
type PutGitKey struct {
	New          bool   `json:"new,omitempty" doc:"Make one, in the place of that before"`
	Private      string `json:"private,omitempty" maxLength:"16384" doc:"Bring one: the private half, as OpenSSH writes it, without a passphrase"`
	SignsCommits *bool  `json:"signs_commits,omitempty" doc:"Left out: as it was"`
}

// DeployKey is what a repository's prebuilds read it with by SSH.
type DeployKey struct {
	Repository string `json:"repository"`
	Public     string `json:"public" doc:"A line to put at the git host, to read this repository and nothing else"`
}
