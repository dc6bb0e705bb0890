package wire

import "time"

// Repository is a registered repository.
type Repository struct {
	Name          string `json:"name" example:"tide-board"`
	URL           string `json:"url" example:"https://git.skerryline.example/tide-board.git"`
	DefaultBranch string `json:"default_branch" example:"main"`
	SignsPushes   bool   `json:"signs_pushes" doc:"Its git host has a key to sign the news of pushes with"`
	OwnCredential bool   `json:"own_credential" doc:"It has a credential of its own, which its prebuilds read it with"`
	DeployKey     string `json:"deploy_key,omitempty" doc:"The public half of that, where it is a key for SSH"`
	Team          string `json:"team,omitempty" doc:"Whose money its prebuilds are"`
}

// NewRepository asks for a repository to be registered.
type NewRepository struct {
	URL  string `json:"url" maxLength:"2048" example:"https://git.skerryline.example/tide-board.git"`
	Name string `json:"name,omitempty" maxLength:"40" doc:"Default: the last part of the address"`
	Team string `json:"team,omitempty" maxLength:"40" doc:"Whose money its prebuilds are; default: no team's"`
}

// RepositoryChange changes what is there.
type RepositoryChange struct {
	Team          *string `json:"team,omitempty" maxLength:"40" doc:"Empty for no team's"`
	URL           *string `json:"url,omitempty" maxLength:"2048" doc:"Where its git host has it now"`
	DefaultBranch *string `json:"default_branch,omitempty" maxLength:"256" doc:"A branch that is there; empty for what its git host says"`
}

// RepositoryBranch is a branch of a repository, or a pull request, as its git host has it.
type RepositoryBranch struct {
	Name     string          `json:"name"`
	Commit   string          `json:"commit"`
	Subject  string          `json:"subject,omitempty" doc:"Of its newest commit"`
	At       time.Time       `json:"at" doc:"Of its newest commit"`
	Default  bool            `json:"default"`
	Request  int             `json:"request,omitempty" doc:"The number of the pull request that it is; its name is its ref then"`
	Prepared *BranchPrepared `json:"prepared,omitempty"`
}

// BranchPrepared is the prepared image that serves launches from a branch.
type BranchPrepared struct {
	Number int  `json:"number"`
	Head   bool `json:"head" doc:"It is of the branch's head"`
}
