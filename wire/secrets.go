package wire

import "time"

// Secret is what is known of a secret; values are never given out.
type Secret struct {
	Name         string    `json:"name"`
	Level        string    `json:"level" enum:"person,repository"`
	Repository   string    `json:"repository,omitempty" doc:"Whose it is, for a repository's"`
	Form         string    `json:"form" enum:"variable,file"`
	Everywhere   bool      `json:"everywhere" doc:"A person's: given to all their workspaces"`
	Repositories []string  `json:"repositories" doc:"A person's: else given to workspaces of these"`
	Version      int       `json:"version"`
	UpdatedAt    time.Time `json:"updated_at"`
}

// SecretValue sets a secret. Whom a person's secret is given to must be said
// when it is new; left out later, it stays.
type SecretValue struct {
	Value        string   `json:"value"`
	Form         string   `json:"form,omitempty" enum:"variable,file" doc:"A variable NAME, or a file with its path in NAME_FILE; default: variable, or as it was"`
	Everywhere   bool     `json:"everywhere,omitempty"`
	Repositories []string `json:"repositories,omitempty" maxItems:"200"`
}

// SecretChoice is a secret and what becomes of it in a repository's workspaces.
type SecretChoice struct {
	Name    string `json:"name"`
	Level   string `json:"level" enum:"person,repository,none"`
	Form    string `json:"form,omitempty"`
	Version int    `json:"version,omitempty"`
	Given   bool   `json:"given"`
	Wanted  bool   `json:"wanted" doc:"The definition asks for it"`
	Why     string `json:"why"`
}

// WantedSecret is a secret that a definition asks for.
type WantedSecret struct {
	Name        string `json:"name"`
	Description string `json:"description,omitempty"`
}

// KnownCredential is what one signs in to a git host with, but for the secret.
type KnownCredential struct {
	Host      string    `json:"host"`
	Username  string    `json:"username"`
	UpdatedAt time.Time `json:"updated_at"`
}

// GitCredential sets what one signs in to a git host with.
type GitCredential struct {
	Username string `json:"username" minLength:"1" maxLength:"256"`
	Password string `json:"password" minLength:"1" maxLength:"4096"`
}
