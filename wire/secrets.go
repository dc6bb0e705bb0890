package wire

import "time"

// Secret is what is known of a secret; values are never given out.
type Secret struct {
	Name         string     `json:"name"`
	Level        string     `json:"level" enum:"person,repository,team,house"`
	Repository   string     `json:"repository,omitempty" doc:"Whose it is, for a repository's"`
	Team         string     `json:"team,omitempty" doc:"Whose it is, for a team's"`
	Form         string     `json:"form" enum:"variable,file,build,registry"`
	Path         string     `json:"path,omitempty" doc:"Of a person's file: where in the home folder a link leads to it"`
	Mode         string     `json:"mode,omitempty" doc:"Of a file: its permission bits, in octal"`
	Owner        string     `json:"owner,omitempty" doc:"Of a file: whose it is, where the image has such a user; without it the workspace's user's"`
	Registry     string     `json:"registry,omitempty" doc:"Of one that signs in to a registry of images: its host"`
	Username     string     `json:"username,omitempty" doc:"And who signs in there"`
	Prebuilds    bool       `json:"prebuilds,omitempty" doc:"The set-up of prepared images is given it too"`
	Everywhere   bool       `json:"everywhere" doc:"Given to all workspaces that its level reaches"`
	Repositories []string   `json:"repositories" doc:"Else given to workspaces of these; a repository's goes to its own"`
	Branches     []string   `json:"branches" doc:"Patterns of the branches it is given on; none is every branch"`
	Version      int        `json:"version"`
	UpdatedAt    time.Time  `json:"updated_at"`
	By           string     `json:"by,omitempty" doc:"Who gave it"`
	UsedAt       *time.Time `json:"used_at,omitempty" doc:"When something was last begun with it, within an hour"`
	Doubt        string     `json:"doubt,omitempty" doc:"Said once, as it is set: why the value does not look like one"`
}

// SecretValue sets a secret. Whom a person's, a team's or the house's secret is
// given to must be said when it is new; what is left out later stays.
type SecretValue struct {
	Value        string    `json:"value"`
	Form         string    `json:"form,omitempty" enum:"variable,file,build,registry" doc:"A variable NAME; a file with its path in NAME_FILE; a build secret of images, or what images of a registry are fetched with (both a repository's or the house's alone); default: variable, or as it was"`
	Path         *string   `json:"path,omitempty" maxLength:"512" doc:"Of a person's file: a place like ~/.config/tide/key, from where a link leads to it"`
	Mode         string    `json:"mode,omitempty" maxLength:"4" doc:"Of a file: its permission bits in octal, 0400 by itself"`
	Owner        *string   `json:"owner,omitempty" maxLength:"32" doc:"Of a file: whose it is, by a name or number that the image has; empty for the workspace's user"`
	Registry     string    `json:"registry,omitempty" maxLength:"260" doc:"Of a registry's: its host as images name it, like images.skerryline.example:5000"`
	Username     string    `json:"username,omitempty" maxLength:"256" doc:"And who signs in there, with the value as the password"`
	Prebuilds    *bool     `json:"prebuilds,omitempty" doc:"The set-up of prepared images is given it too (a repository's, the house's)"`
	Everywhere   bool      `json:"everywhere,omitempty"`
	Repositories []string  `json:"repositories,omitempty" maxItems:"200"`
	Branches     *[]string `json:"branches,omitempty" maxItems:"20" doc:"Patterns like release/*; an empty list is every branch"`
}

// Renewal is what was begun anew in a workspace.
type Renewal struct {
	Workspace string    `json:"workspace" example:"tide-board"`
	Commands  []Renewed `json:"commands" doc:"None where the definition had left nothing running"`
}

// Renewed is a command of a definition that was begun anew: it has the secrets as they are
// now.
type Renewed struct {
	Command string `json:"command" example:"postStartCommand server" doc:"Its moment, and its label where it has one"`
	Code    *int   `json:"code,omitempty" doc:"Its exit code; left out while it goes on"`
	Problem string `json:"problem,omitempty" doc:"Why it cannot be run"`
	Output  string `json:"output,omitempty" doc:"The end of what it said, without values of secrets"`
}

// SecretChoice is a secret and what becomes of it in a repository's workspaces.
type SecretChoice struct {
	Name      string         `json:"name"`
	Level     string         `json:"level" enum:"person,repository,team,house,none"`
	Whose     string         `json:"whose,omitempty" doc:"The repository or team whose it is"`
	Form      string         `json:"form,omitempty"`
	Version   int            `json:"version,omitempty"`
	Given     bool           `json:"given"`
	Wanted    bool           `json:"wanted" doc:"The definition asks for it"`
	Required  bool           `json:"required,omitempty" doc:"Nothing is launched without it"`
	Why       string         `json:"why"`
	Hides     []string       `json:"hides" doc:"Levels at which the same name would be given too"`
	By        string         `json:"by,omitempty" doc:"Who gave it"`
	UpdatedAt *time.Time     `json:"updated_at,omitempty"`
	UsedAt    *time.Time     `json:"used_at,omitempty" doc:"When something was last begun with it, within an hour"`
	Held      []SecretHolder `json:"held,omitempty" doc:"In a workspace: what runs there with an older value"`
}

// SecretHolder is something that runs in a workspace with an older value of a secret.
type SecretHolder struct {
	Label   string    `json:"label"`
	Since   time.Time `json:"since"`
	Version int       `json:"version"`
}

// WantedSecret is a secret that a definition asks for.
type WantedSecret struct {
	Name        string `json:"name"`
	Description string `json:"description,omitempty"`
	Required    bool   `json:"required,omitempty" doc:"Nothing is launched without it"`
}

// KnownCredential is what one signs in to a git host with, but for the secret.
type KnownCredential struct {
	Host      string    `json:"host"`
	Username  string    `json:"username"`
	UpdatedAt time.Time `json:"updated_at"`
	// Lent by the host itself (see [GitHost]); it is made fresh where it ends.
	Lent        bool       `json:"lent,omitempty" doc:"By the host itself, with which one is connected; else it was typed"`
	Until       *time.Time `json:"until,omitempty" doc:"When it ends, where the host does not make it fresh"`
	TakenBackAt *time.Time `json:"taken_back_at,omitempty" doc:"Since when the host knows nothing of it any more: connect anew"`
}

// GitCredential sets what one signs in to a git host with.
type GitCredential struct {
	Username string `json:"username" minLength:"1" maxLength:"256"`
	Password string `json:"password" minLength:"1" maxLength:"4096"`
}
