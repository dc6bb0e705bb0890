package wire

import "time"

// Team is a group of people whose money and limits belong together.
type Team struct {
	Name string `json:"name" example:"Harbour"`
}

// TeamChange gives a team another name.
type TeamChange struct {
	Name string `json:"name" minLength:"1" maxLength:"40" example:"Quays"`
}

// NewTeam asks for a team.
type NewTeam struct {
	Name string `json:"name" minLength:"1" maxLength:"40" example:"Harbour"`
}

// Person is somebody, as others may see them.
type Person struct {
	Name     string `json:"name" example:"ingrid"`
	FullName string `json:"full_name" example:"Ingrid Solheim"`
	Email    string `json:"email" example:"ingrid@skerryline.example"`
	Role     string `json:"role" enum:"operator,lead,developer,auditor,guest"`
	Team     string `json:"team,omitempty" example:"Timetable"`
	// Also are further teams, beside the one that their workspaces are counted with.
	Also    []Membership `json:"also,omitempty"`
	Closed  bool         `json:"closed" doc:"They may not sign in any more"`
	Program bool         `json:"program,omitempty" doc:"It is no person, but the account of programs of a team: its tokens are made for it, and nobody signs in with it"`
}

// NewProgram asks for an account of programs that belongs to a team.
type NewProgram struct {
	Name    string `json:"name" minLength:"1" maxLength:"32" example:"nightwatch"`
	Purpose string `json:"purpose" minLength:"1" maxLength:"120" example:"Reviews of pull requests" doc:"What it is for; it stands where a person's full name stands"`
	Team    string `json:"team" minLength:"1" maxLength:"40" example:"Harbour"`
	Email   string `json:"email,omitempty" maxLength:"200" doc:"The address that stands on its commits; default: one that leads nowhere"`
	Role    string `json:"role,omitempty" enum:"operator,developer,auditor" doc:"Default: developer; another only operators give"`
}

// Membership is a team that somebody is in beside their own.
type Membership struct {
	Team  string `json:"team" example:"Harbour"`
	Leads bool   `json:"leads,omitempty" doc:"They lead it"`
}

// NewMembership puts somebody into a team beside their own.
type NewMembership struct {
	Team  string `json:"team" minLength:"1" maxLength:"40" example:"Harbour"`
	Leads bool   `json:"leads,omitempty" doc:"They lead it: its people, workspaces, secrets and guests are theirs to look after"`
}

// PersonChange changes a person; what is left out stays.
type PersonChange struct {
	Role   string           `json:"role,omitempty" enum:"operator,lead,developer,auditor"`
	Team   *string          `json:"team,omitempty" doc:"Empty for none"`
	Also   *[]NewMembership `json:"also,omitempty" maxItems:"50" doc:"All teams that they are to be in beside their own; an empty list is none"`
	Closed *bool            `json:"closed,omitempty" doc:"They may not sign in any more; what they are signed in with ends"`
}

// Guest is somebody whose access ends by itself.
type Guest struct {
	Name         string    `json:"name" example:"tormod"`
	FullName     string    `json:"full_name"`
	Team         string    `json:"team"`
	Until        time.Time `json:"until" doc:"When it ends"`
	Repositories []string  `json:"repositories" doc:"Those they may work in"`
	Sizes        []string  `json:"sizes" doc:"Those they may have; none is every size"`
	By           string    `json:"by" doc:"Who brought them in, or changed it last"`
	Over         bool      `json:"over" doc:"It has ended"`
}

// EndingGuest is a guest whose access ends soon.
type EndingGuest struct {
	Name  string    `json:"name"`
	Until time.Time `json:"until"`
}

// NewGuest asks for a link by which somebody sets up an account that ends by itself.
type NewGuest struct {
	Team         string    `json:"team" minLength:"1" maxLength:"40" doc:"Whose guest it is"`
	Until        time.Time `json:"until" doc:"When it ends: within 366 days"`
	Repositories []string  `json:"repositories" minItems:"1" maxItems:"50" doc:"Those they may work in"`
	Sizes        []string  `json:"sizes,omitempty" maxItems:"50" doc:"Those they may have; none is every size"`
	Hours        int       `json:"hours,omitempty" minimum:"0" maximum:"720" doc:"How long the link can be used; default 72"`
}

// GuestChange changes a guest's access; what is left out stays.
type GuestChange struct {
	Until        *time.Time `json:"until,omitempty"`
	Repositories *[]string  `json:"repositories,omitempty" maxItems:"50"`
	Sizes        *[]string  `json:"sizes,omitempty" maxItems:"50" doc:"An empty list is every size"`
}

// NewEnrolment asks for a link by which somebody sets up their account.
type NewEnrolment struct {
	Role   string `json:"role,omitempty" enum:"operator,lead,developer,auditor" doc:"Default: developer"`
	Team   string `json:"team,omitempty"`
	Person string `json:"person,omitempty" doc:"For somebody who has an account: the link sets a new password"`
	// Name, FullName and Email are whom it is for: with a name the account is of that name
	// and no other; what is not said of the others is theirs to say.
	Name     string `json:"name,omitempty" maxLength:"32" example:"ingrid"`
	FullName string `json:"full_name,omitempty" maxLength:"120"`
	Email    string `json:"email,omitempty" maxLength:"200"`
	Hours    int    `json:"hours,omitempty" minimum:"0" maximum:"720" doc:"How long the link can be used; default 72"`
}

// Enrolment is a link that was made. The link is shown this once.
type Enrolment struct {
	ID        string    `json:"id"`
	Link      string    `json:"link"`
	Role      string    `json:"role"`
	Team      string    `json:"team,omitempty"`
	Person    string    `json:"person,omitempty"`
	Name      string    `json:"name,omitempty" doc:"Of the account, where that was said"`
	FullName  string    `json:"full_name,omitempty"`
	Email     string    `json:"email,omitempty"`
	ExpiresAt time.Time `json:"expires_at"`
}

// OpenEnrolment is a link that can still be used, without what it holds.
type OpenEnrolment struct {
	ID        string    `json:"id"`
	Role      string    `json:"role" doc:"Of the account it sets up"`
	Team      string    `json:"team,omitempty"`
	Person    string    `json:"person,omitempty" doc:"Whose new password it sets"`
	Name      string    `json:"name,omitempty" doc:"Of the account, where that was said"`
	FullName  string    `json:"full_name,omitempty"`
	Email     string    `json:"email,omitempty"`
	MadeBy    string    `json:"made_by"`
	ExpiresAt time.Time `json:"expires_at"`
}

// EnrolmentKey is what a link holds.
type EnrolmentKey struct {
	Key string `json:"key" maxLength:"200"`
}

// EnrolmentOffer is what a link is for.
type EnrolmentOffer struct {
	Role      string     `json:"role"`
	Team      string     `json:"team,omitempty"`
	Person    string     `json:"person,omitempty" doc:"Set: a new password for them"`
	Name      string     `json:"name,omitempty" doc:"Set: the account has this name"`
	FullName  string     `json:"full_name,omitempty" doc:"Set: and this one"`
	Email     string     `json:"email,omitempty" doc:"Set: and this address"`
	ExpiresAt time.Time  `json:"expires_at"`
	Until     *time.Time `json:"until,omitempty" doc:"Of a guest: when the access ends by itself"`
}

// EnrolmentUse sets up the account, or the new password.
type EnrolmentUse struct {
	Key      string `json:"key" maxLength:"200"`
	Name     string `json:"name,omitempty" maxLength:"64"`
	FullName string `json:"full_name,omitempty" maxLength:"120"`
	Email    string `json:"email,omitempty" maxLength:"200"`
	Password string `json:"password" maxLength:"512"`
}
