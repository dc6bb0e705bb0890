package wire

import "time"

// LaunchLink is a prepared choice behind one short address.
type LaunchLink struct {
	ID         string     `json:"id" example:"k3v7q2m4xa" doc:"What stands in its address"`
	Address    string     `json:"address" example:"https://bench.skerryline.example/go/k3v7q2m4xa"`
	Title      string     `json:"title" example:"Try the tide board"`
	Launch     Prepares   `json:"launch" doc:"What it launches; each person gets one of their own"`
	Team       string     `json:"team,omitempty" doc:"Whose people may use it; without one whoever signs in"`
	PeopleMost int        `json:"people_most,omitempty" doc:"So many people may use it; without it no bound"`
	Used       int        `json:"used" doc:"So many people have"`
	Until      *time.Time `json:"until,omitempty" doc:"It can be used so long; without it no end"`
	PausedAt   *time.Time `json:"paused_at,omitempty" doc:"It cannot be used since"`
	MadeBy     string     `json:"made_by" example:"runa"`
	CreatedAt  time.Time  `json:"created_at"`
	GuestS     int64      `json:"guest_s,omitempty" doc:"Whoever has no account sets one up by it, as a guest of the team, with access for so long; without it nobody does"`
	Guests     int        `json:"guests,omitempty" doc:"So many have"`
}

// Prepares is what a launch link launches; what is left out is the usual.
type Prepares struct {
	Repository string   `json:"repository" example:"tide-board"`
	Branch     string   `json:"branch,omitempty"`
	Size       string   `json:"size,omitempty"`
	RestAfterS int64    `json:"rest_after_s,omitempty"`
	Definition string   `json:"definition,omitempty"`
	Beside     []string `json:"beside,omitempty"`
}

// Launch asks for it.
func (v Prepares) Launch() Launch {
	return Launch{Repository: v.Repository, Branch: v.Branch, Size: v.Size, RestAfterS: v.RestAfterS, Definition: v.Definition, Beside: v.Beside}
}

// NewLaunchLink asks for one.
type NewLaunchLink struct {
	Title      string `json:"title,omitempty" maxLength:"80" doc:"Default: the repository's name"`
	Launch     Launch `json:"launch" doc:"What it launches; name and errand are not of it"`
	Team       string `json:"team,omitempty" doc:"Whose people may use it; default: whoever signs in"`
	PeopleMost int    `json:"people_most,omitempty" minimum:"0" maximum:"10000" doc:"So many people may use it; default: no bound"`
	Seconds    int64  `json:"seconds,omitempty" minimum:"0" maximum:"31622400" doc:"It can be used for so long; default: no end"`
	GuestS     int64  `json:"guest_s,omitempty" minimum:"0" maximum:"31622400" doc:"Whoever has no account sets one up by it, as a guest of the team, with access for so long; it has an end and a bound then. Default: nobody does"`
}

// LaunchLinkChange changes one; what is left out stays.
type LaunchLinkChange struct {
	Title      string  `json:"title,omitempty" maxLength:"80"`
	Team       *string `json:"team,omitempty" doc:"Empty for whoever signs in"`
	PeopleMost *int    `json:"people_most,omitempty" minimum:"0" maximum:"10000" doc:"0 for no bound"`
	Seconds    *int64  `json:"seconds,omitempty" minimum:"0" maximum:"31622400" doc:"From now; 0 for no end"`
	Paused     *bool   `json:"paused,omitempty"`
}

// LinkUse is somebody who came by a launch link.
type LinkUse struct {
	Person    string    `json:"person" example:"ingrid"`
	Workspace string    `json:"workspace" example:"tide-board" doc:"The newest that they have by it"`
	Phase     string    `json:"phase" example:"ready"`
	At        time.Time `json:"at"`
}

// LinkOffer is what a launch link comes to for whoever looks at it.
type LinkOffer struct {
	Title     string    `json:"title"`
	MadeBy    string    `json:"made_by"`
	Yours     string    `json:"yours,omitempty" doc:"The workspace that you have by it already"`
	Phase     string    `json:"phase,omitempty" doc:"How that one is"`
	Preflight Preflight `json:"preflight"`
}

// UsedLink is what somebody has by a launch link.
type UsedLink struct {
	Workspace string `json:"workspace" example:"tide-board.ingrid"`
	Fresh     bool   `json:"fresh" doc:"It was launched now; else it was theirs before"`
}

// Tag is another one where the link was changed.
func (v LaunchLink) Tag() string { return tag(v.Title, v.Team, v.PeopleMost, v.Until, v.PausedAt) }
