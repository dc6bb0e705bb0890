// Package policy says who may do what: one table of role, action and relation.
// What the table does not allow is denied.
//
// It is part of the core: plain values, nothing read or asked.
package policy

import (
	"maps"
	"slices"
)

// Role is what a person is in the organisation.
type Role string

// The roles.
const (
	Operator  Role = "operator"
	Lead      Role = "lead"
	Developer Role = "developer"
	Auditor   Role = "auditor"
	// Guest works like a developer, in some repositories and until a day: nobody's
	// but what is their own, and nothing of the house.
	Guest Role = "guest"
)

// Roles lists them all.
var Roles = []Role{Operator, Lead, Developer, Auditor, Guest}

// Valid tells whether r is a role that somebody can be given. Who is a guest is said
// with their access.
func (r Role) Valid() bool {
	return slices.Contains(Roles, r) && r != Guest
}

// The relations by name, as the API gives them.
var relations = []struct {
	Relation
	name string
}{{House, "house"}, {Own, "own"}, {Team, "team"}, {Other, "other"}}

// Names lists the relations in r by their names.
func (r Relation) Names() (out []string) {
	for _, n := range relations {
		if r&n.Relation != 0 {
			out = append(out, n.name)
		}
	}
	return out
}

// Relation is how the one who asks stands to the one whose matter it is.
type Relation int

// The relations. House is for what belongs to nobody in particular: the list
// of repositories, the house rules.
const (
	House Relation = 1 << iota
	Own            // it is theirs
	Team           // it belongs to somebody of the team they lead or are in
	Other          // it belongs to anybody else
)

// Between gives the relation of a person, who is in some teams, to an owner.
func Between(person string, personTeams []string, owner, ownerTeam string) Relation {
	switch {
	case owner == "":
		return House
	case person == owner:
		return Own
	case ownerTeam != "" && slices.Contains(personTeams, ownerTeam):
		return Team
	}
	return Other
}

// Action is something that can be asked of the service.
type Action string

// The actions.
const (
	SeeSelf           Action = "self.see"         // who one is, one's sign-ins
	ChangeSelf        Action = "self.change"      // sign out, make and end tokens, git credentials
	SeeWorkspace      Action = "workspace.see"    // state, launch sheets, logs
	Launch            Action = "workspace.launch" // for oneself
	UseWorkspace      Action = "workspace.use"    // terminals, commands, private ports, sharing and forwarding them
	EnterWorkspace    Action = "workspace.enter"  // somebody else's, with a reason, where the house rules let operators
	SeeRecordings     Action = "recording.see"    // of terminals: one's own; those that the house rules have made, of anybody
	DriveWorkspace    Action = "workspace.drive"  // start, rebuild, hold
	StopWorkspace     Action = "workspace.stop"   // put to rest
	RemoveWorkspace   Action = "workspace.remove" // with its files
	Operate           Action = "operation.ask"    // one verb of many; what it may do to each is asked of each
	QuietAttention    Action = "attention.quiet"  // say that a cause needs nobody for a time
	AdoptContainers   Action = "container.adopt"  // see others' containers in the yard, take them on, let them go
	VisitPort         Action = "port.visit"       // a port that is shared with everybody signed in
	SeeSecrets        Action = "secret.see"       // names of a person's secrets, never values
	ChangeSecrets     Action = "secret.change"    // a person's
	SeeRepoSecrets    Action = "repo-secret.see"  // names of a repository's secrets
	ChangeRepoSecret  Action = "repo-secret.change"
	SeeTeamSecrets    Action = "team-secret.see" // names of a team's secrets
	ChangeTeamSecret  Action = "team-secret.change"
	SeeHouseSecrets   Action = "house-secret.see" // names of the house's secrets
	ChangeHouseSecret Action = "house-secret.change"
	SeeRepositories   Action = "repository.see"
	ChangeRepository  Action = "repository.change"
	SeePrebuilds      Action = "prebuild.see"
	ChangePrebuilds   Action = "prebuild.change" // plans, and runs by hand
	SeePeople         Action = "people.see"
	ChangeServices    Action = "service-account.change" // accounts of programs that belong to a team, and their tokens
	ChangePeople      Action = "people.change"          // enrolment links, roles, teams, closing accounts
	ChangeGuests      Action = "guest.change"           // bring guests in, have their access last longer, end it
	SeeRules          Action = "rules.see"
	ChangeRules       Action = "rules.change"
	SeeCost           Action = "cost.see"
	SeeJournal        Action = "journal.see"
	SeeWholeJournal   Action = "journal.whole" // its head, its soundness, its export
	SeeWebhooks       Action = "webhook.see"
	SeeLinks          Action = "launch-link.see"    // and who came by them
	ChangeLinks       Action = "launch-link.change" // make, pause and withdraw them
	SyncDirectory     Action = "directory.sync"     // tell who is here, in which groups, and who has left
	SeeProviders      Action = "provider.see"       // identity providers
	ChangeProviders   Action = "provider.change"    // add and remove them
	ChangeKeys        Action = "keys.change"        // make other keys that secrets are sealed with
	ChangeWebhooks    Action = "webhook.change"     // add, remove and try them
)

type rights map[Role]Relation

const everything = House | Own | Team | Other

func everybody(r Relation) rights {
	return rights{Operator: r, Lead: r, Developer: r, Auditor: r}
}

// workers are those who have workspaces. An auditor looks and does not touch.
func workers(r Relation) rights { return rights{Operator: r, Lead: r, Developer: r} }

// and is what guests may beside.
func (r rights) and(guest Relation) rights {
	r[Guest] = guest
	return r
}

// Table is the whole policy. An operator drives other people's workspaces and
// does not get into them, as their owner's secrets are in there, but where the house
// rules say so, with a reason.
var Table = map[Action]rights{
	SeeSelf:           everybody(House | Own).and(House | Own),
	ChangeSelf:        everybody(House | Own).and(House | Own),
	SeeWorkspace:      {Operator: everything, Lead: Own | Team, Developer: Own, Auditor: everything, Guest: Own},
	Launch:            workers(House | Own).and(House | Own),
	UseWorkspace:      workers(Own).and(Own),
	EnterWorkspace:    {Operator: Team | Other},
	SeeRecordings:     {Operator: Own, Lead: Own, Developer: Own, Auditor: everything, Guest: Own},
	DriveWorkspace:    {Operator: Own | Team | Other, Lead: Own, Developer: Own, Guest: Own},
	StopWorkspace:     {Operator: Own | Team | Other, Lead: Own | Team, Developer: Own, Guest: Own},
	RemoveWorkspace:   {Operator: Own | Team | Other, Lead: Own, Developer: Own, Guest: Own},
	Operate:           workers(House | Own).and(House | Own),
	QuietAttention:    {Operator: House},
	AdoptContainers:   {Operator: everything},
	VisitPort:         everybody(Own | Team | Other).and(Own | Team),
	SeeSecrets:        workers(House | Own).and(House | Own),
	ChangeSecrets:     workers(House | Own).and(House | Own),
	SeeRepoSecrets:    everybody(House),
	ChangeRepoSecret:  {Operator: House, Lead: House},
	SeeTeamSecrets:    {Operator: everything, Lead: Team, Developer: Team, Auditor: everything},
	ChangeTeamSecret:  {Operator: everything, Lead: Team},
	SeeHouseSecrets:   everybody(House),
	ChangeHouseSecret: {Operator: House},
	SeeRepositories:   everybody(House).and(House),
	ChangeRepository:  {Operator: House},
	SeePrebuilds:      everybody(House).and(House),
	ChangePrebuilds:   {Operator: House, Lead: House},
	SeePeople:         {Operator: everything, Lead: House | Own | Team, Auditor: everything},
	ChangePeople:      {Operator: everything},
	ChangeGuests:      {Operator: everything, Lead: House | Team},
	ChangeServices:    {Operator: everything, Lead: House | Team},
	SeeRules:          everybody(House),
	ChangeRules:       {Operator: House},
	SeeCost:           {Operator: everything, Lead: House | Own | Team, Developer: House | Own, Auditor: everything, Guest: House | Own},
	SeeWholeJournal:   {Operator: House, Auditor: House},
	SeeWebhooks:       {Operator: House, Auditor: House},
	ChangeWebhooks:    {Operator: House},
	SeeLinks:          {Operator: everything, Lead: House | Own | Team, Developer: House | Own, Auditor: everything},
	ChangeLinks:       {Operator: everything, Lead: House | Own | Team, Developer: House | Own},
	SyncDirectory:     {Operator: everything},
	SeeProviders:      {Operator: House, Auditor: House},
	ChangeProviders:   {Operator: House},
	ChangeKeys:        {Operator: House},
	SeeJournal:        {Operator: everything, Lead: Own | Team, Developer: Own, Auditor: everything, Guest: Own},
}

// Grave are the actions that change who may do what: whoever asks for them may be made
// to sign in again before.
var Grave = []Action{ChangePeople, ChangeGuests, ChangeServices, ChangeProviders, ChangeKeys, ChangeRules, SyncDirectory}

// Actions lists all that can be asked, by name.
func Actions() []Action { return slices.Sorted(maps.Keys(Table)) }

// May tells whether the table allows it.
func May(r Role, a Action, rel Relation) bool { return Table[a][r]&rel != 0 }

// Widest is the widest relation over which a role may do an action: what a
// list may show. 0 when it may not at all.
func Widest(r Role, a Action) Relation {
	for _, rel := range []Relation{Other, Team, Own, House} {
		if May(r, a, rel) {
			return rel
		}
	}
	return 0
}
