package wire

import "time"

// Stray is what the yard has of a workspace that no record knows.
type Stray struct {
	ID         string      `json:"id"`
	Owner      string      `json:"owner,omitempty" example:"hauk" doc:"What its files were told when they were made; missing where nothing tells it, as of the next five"`
	Name       string      `json:"name,omitempty" example:"tide-board"`
	Repository string      `json:"repository,omitempty" example:"tide-board"`
	Branch     string      `json:"branch,omitempty" example:"main"`
	Definition string      `json:"definition,omitempty"`
	Size       string      `json:"size,omitempty" example:"small"`
	MadeAt     *time.Time  `json:"made_at,omitempty" doc:"When its files were"`
	Files      bool        `json:"files" doc:"It has the files of its folder, and can be given to somebody"`
	OtherFiles bool        `json:"other_files" doc:"It has files that its definition keeps elsewhere, caches and databases say"`
	Runs       bool        `json:"runs" doc:"Something of it runs"`
	Kept       *StrayStays `json:"kept,omitempty" doc:"It was looked at, and stays"`
}

// StrayStays says why something stays in the yard.
type StrayStays struct {
	Reason string    `json:"reason"`
	By     string    `json:"by" example:"astrid"`
	At     time.Time `json:"at"`
}

// GiveStray makes it somebody's workspace.
type GiveStray struct {
	To         string `json:"to,omitempty" maxLength:"64" example:"hauk" doc:"Whose it becomes; default: whose it was"`
	Name       string `json:"name,omitempty" maxLength:"40" doc:"Default: what it was called"`
	Repository string `json:"repository,omitempty" maxLength:"64" example:"tide-board" doc:"Default: the one it was launched from"`
	Branch     string `json:"branch,omitempty" maxLength:"255" doc:"The one whose definition its container is made by; default: the one it was launched from"`
	Size       string `json:"size,omitempty" maxLength:"20" doc:"Default: the one it had, else the usual one"`
}

// KeepStray has it stay where it is.
type KeepStray struct {
	Reason string `json:"reason" maxLength:"300" example:"peder looks through it on Monday"`
}
