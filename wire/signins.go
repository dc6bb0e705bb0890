package wire

import "time"

// ZoneHeader is in every answer to who is signed in: the zone in which the house tells its
// times, as the IANA names it. What the answer itself holds is in UTC.
const ZoneHeader = "Yardbench-Zone"

// Me is who is signed in, and where.
type Me struct {
	Person
	Organisation string        `json:"organisation,omitempty" example:"Skerry Line"`
	Zone         string        `json:"zone" doc:"In which the house tells its times" example:"Europe/Oslo"`
	Scopes       []string      `json:"scopes,omitempty" enum:"read,work,launch,administer" doc:"What the token that this was asked with reaches; without it everything"`
	Repositories []string      `json:"repositories,omitempty" doc:"Those it is for; without it all"`
	Expiring     []Token       `json:"expiring,omitempty" doc:"Tokens of theirs that expire within a week"`
	AgingSecrets []AgingSecret `json:"aging_secrets,omitempty" doc:"Secrets that one may change and that were set longer ago than the house rules like"`
	AccessUntil  *time.Time    `json:"access_until,omitempty" doc:"When a guest's access ends"`
	EndingGuests []EndingGuest `json:"ending_guests,omitempty" doc:"Guests whom one looks after, whose access ends within three days"`
	SignOutAt    string        `json:"sign_out_at,omitempty" doc:"Where a browser that came by an identity provider signs out there, too"`
	May          []Right       `json:"may" doc:"What may be done with this sign-in; what is not named may not"`
}

// AgingSecret is a secret that was set long ago.
type AgingSecret struct {
	Name      string    `json:"name"`
	Level     string    `json:"level" enum:"person,team,house"`
	Team      string    `json:"team,omitempty"`
	UpdatedAt time.Time `json:"updated_at"`
}

// Right is something that one may ask of the service, and of whose matters.
type Right struct {
	Action string   `json:"action" enum:"self.see,self.change,workspace.see,workspace.launch,workspace.use,workspace.enter,recording.see,workspace.drive,workspace.stop,workspace.remove,operation.ask,attention.quiet,container.adopt,port.visit,secret.see,secret.change,repo-secret.see,repo-secret.change,team-secret.see,team-secret.change,house-secret.see,house-secret.change,repository.see,repository.change,prebuild.see,prebuild.change,people.see,service-account.change,people.change,guest.change,rules.see,rules.change,cost.see,journal.see,journal.whole,webhook.see,provider.see,provider.change,keys.change,directory.sync,launch-link.see,launch-link.change,webhook.change"`
	Of     []string `json:"of" enum:"house,own,team,other" doc:"house: what belongs to nobody in particular; own: one's own; team: what belongs to somebody of one's team; other: anybody else's"`
}

// SignIn asks for a sign-in.
type SignIn struct {
	Name     string `json:"name" maxLength:"64" example:"ingrid"`
	Password string `json:"password" maxLength:"512"`
}

// PasswordChange sets another password.
type PasswordChange struct {
	Old string `json:"old" maxLength:"512"`
	New string `json:"new" maxLength:"512"`
}

// SignedIn is what a sign-in gives. The token is shown this once.
type SignedIn struct {
	Person    Person    `json:"person"`
	Token     string    `json:"token,omitempty" doc:"For the Authorization header, as a bearer token; the console gets a cookie instead"`
	ExpiresAt time.Time `json:"expires_at"`
}

// Token is a sign-in, or a token with a name.
type Token struct {
	ID           string     `json:"id"`
	Door         string     `json:"door" enum:"console,cli,token,ssh"`
	Name         string     `json:"name,omitempty"`
	CreatedAt    time.Time  `json:"created_at"`
	ExpiresAt    time.Time  `json:"expires_at"`
	LastUsedAt   *time.Time `json:"last_used_at,omitempty"`
	Current      bool       `json:"current" doc:"The one that this was asked with"`
	Scopes       []string   `json:"scopes,omitempty" enum:"read,work,launch,administer" doc:"What it reaches; without it all that its person may"`
	Repositories []string   `json:"repositories,omitempty" doc:"Those it is for; without it all"`
	MadeBy       string     `json:"made_by,omitempty" doc:"Who made it, where that is another than whose it is"`
	Provider     string     `json:"provider,omitempty" doc:"The identity provider by which it was made"`
	Place        string     `json:"place,omitempty" example:"192.0.2.17" doc:"The address that it was made from"`
	Client       string     `json:"client,omitempty" doc:"What asked for it calls itself: a browser, or the command line"`
}

// NewToken asks for a token.
type NewToken struct {
	Name         string   `json:"name" minLength:"1" maxLength:"60" example:"nightly report"`
	Days         int      `json:"days,omitempty" minimum:"0" maximum:"366" doc:"Default 30"`
	Scopes       []string `json:"scopes,omitempty" maxItems:"4" enum:"read,work,launch,administer" doc:"What it reaches; without it all that its person may. Read: look. Work: terminals, commands, ports, start, stop, rebuild. Launch: launch, stop, remove. Administer: repositories, prebuilds, secrets, people, house rules"`
	Repositories []string `json:"repositories,omitempty" maxItems:"100" doc:"Those it is for; it then reaches nothing that belongs to none, like the journal"`
}

// MadeToken is a token that was made; its value is shown this once.
type MadeToken struct {
	Token
	Of    string `json:"of,omitempty" doc:"Whose it is, where that is another than whoever made it"`
	Value string `json:"value"`
}
