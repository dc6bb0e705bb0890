package wire

import "time"

// GitHost is a git host that people connect with (OAuth 2.0): it lends this service,
// as them, what git signs in with.
type GitHost struct {
	Host         string    `json:"host" example:"git.skerryline.example"`
	Title        string    `json:"title"`
	Authorize    string    `json:"authorize" doc:"Where people let this service in"`
	Token        string    `json:"token"`
	Device       string    `json:"device,omitempty"`
	Revoke       string    `json:"revoke,omitempty"`
	Repositories string    `json:"repositories,omitempty"`
	Member       string    `json:"member"`
	Client       string    `json:"client"`
	Scopes       []string  `json:"scopes"`
	Username     string    `json:"username"`
	Callback     string    `json:"callback" doc:"Where people come back to; the host must know it"`
	CreatedAt    time.Time `json:"created_at"`
}

// PutGitHost registers one, or changes it.
type PutGitHost struct {
	Title        string   `json:"title,omitempty" maxLength:"80" doc:"What people see; default: the host's name"`
	Authorize    string   `json:"authorize" maxLength:"2048" example:"https://git.skerryline.example/oauth/authorize"`
	Token        string   `json:"token" maxLength:"2048" example:"https://git.skerryline.example/oauth/token"`
	Device       string   `json:"device,omitempty" maxLength:"2048" doc:"Where codes for devices come from (RFC 8628); left out: the host has none"`
	Revoke       string   `json:"revoke,omitempty" maxLength:"2048" doc:"Where what was lent is given back (RFC 7009); left out: the host has no such place"`
	Repositories string   `json:"repositories,omitempty" maxLength:"2048" doc:"Answers a list of the repositories that whoever asks may read, as JSON objects, in parts by Link headers (RFC 8288)"`
	Member       string   `json:"member,omitempty" maxLength:"64" doc:"Which member of each has the address for git; default: clone_url"`
	Client       string   `json:"client" maxLength:"255" doc:"What the host knows this service by"`
	Secret       string   `json:"secret,omitempty" maxLength:"4096" doc:"Left out: as it was; a client may have none"`
	Scopes       []string `json:"scopes,omitempty" maxItems:"20" doc:"As few as git needs to read and push"`
	Username     string   `json:"username,omitempty" maxLength:"80" doc:"As whom git signs in with what is lent; default: oauth2"`
}

// GitHostCode is what is typed at a git host to connect with it.
type GitHostCode struct {
	Code      string    `json:"code"`
	At        string    `json:"at" doc:"Where it is typed, at whichever browser"`
	Kept      string    `json:"kept" doc:"To ask with whether it was"`
	IntervalS int       `json:"interval_s" doc:"Seconds between two such questions"`
	Until     time.Time `json:"until"`
}

// GitHostAsk asks whether a code was typed.
type GitHostAsk struct {
	Kept string `json:"kept" maxLength:"8192"`
}

// GitHostAnswer is whether it was.
type GitHostAnswer struct {
	Connected bool `json:"connected"`
}

// HostedRepository is one that a git host lets somebody read.
type HostedRepository struct {
	URL        string `json:"url"`
	Registered string `json:"registered,omitempty" doc:"What it is registered as; not there where it is not"`
}

// Elsewhere is where a browser is to go.
type Elsewhere struct {
	To string `json:"to"`
}
