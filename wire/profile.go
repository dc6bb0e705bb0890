package wire

// Profile is what of one's own comes into each of one's workspaces.
type Profile struct {
	Files *OwnFiles `json:"files,omitempty" doc:"A repository with one's own files: settings of shells and tools"`
}

// OwnFilesTitle is the step of a launch sheet at which they come.
const OwnFilesTitle = "Your files"

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
