package policy

import "slices"

// Scope is a part of what a person may do that a token of theirs may do.
type Scope string

// The scopes. Each has what one must see for it.
const (
	Read       Scope = "read"       // look at what the person may see, and change nothing
	Work       Scope = "work"       // terminals, commands and ports of workspaces; start, stop, rebuild, hold
	Launching  Scope = "launch"     // launch workspaces, and what goes with it up to their removal
	Administer Scope = "administer" // repositories, prebuilds, secrets, people, house rules, webhooks
)

// Scopes lists them all.
var Scopes = []Scope{Read, Work, Launching, Administer}

// looked is what every scope may see: whose token it is, and of what it speaks.
var looked = []Action{SeeSelf, SeeWorkspace, SeeRepositories, SeePrebuilds, SeeRules}

// scoped is what each scope may do beside. ChangeSelf is in none: a token with
// scopes makes no other, and neither changes a password nor a git credential. Nor is
// EnterWorkspace: a person comes into somebody else's, not a program.
var scoped = map[Scope][]Action{
	Read:       {SeeSecrets, SeeRepoSecrets, SeeTeamSecrets, SeeHouseSecrets, SeePeople, SeeCost, SeeJournal, SeeWholeJournal, SeeWebhooks, SeeProviders, SeeLinks},
	Work:       {UseWorkspace, SeeRecordings, DriveWorkspace, StopWorkspace, VisitPort, Operate},
	Launching:  {Launch, DriveWorkspace, StopWorkspace, RemoveWorkspace, Operate, SeeLinks, ChangeLinks},
	Administer: {AdoptContainers, QuietAttention, ChangeSecrets, ChangeRepoSecret, ChangeTeamSecret, ChangeHouseSecret, ChangeRepository, ChangePrebuilds, ChangePeople, ChangeGuests, ChangeServices, ChangeRules, ChangeWebhooks, ChangeProviders, ChangeKeys, SeeProviders, SyncDirectory, SeeSecrets, SeeRepoSecrets, SeeTeamSecrets, SeeHouseSecrets, SeePeople, SeeWebhooks},
}

// narrowed is what a grant of some repositories may do at most: what belongs to a
// repository. Whatever is everybody's, like the journal and cost, is not.
var narrowed = []Action{SeeSelf, SeeWorkspace, SeeRepositories, SeePrebuilds, SeeRules, SeeRepoSecrets, UseWorkspace, SeeRecordings, DriveWorkspace, StopWorkspace, RemoveWorkspace, Launch, Operate, VisitPort, ChangeRepoSecret, ChangePrebuilds}

// Grant is how much of what a person may do a sign-in of theirs may do. The zero
// Grant is all of it.
type Grant struct {
	Scopes       []Scope  `json:"scopes,omitempty"`       // none is all
	Repositories []string `json:"repositories,omitempty"` // the ids of those it is for; none is all
}

// Whole tells whether it is everything.
func (g Grant) Whole() bool { return len(g.Scopes) == 0 && len(g.Repositories) == 0 }

// Reaches tells whether an action is in it.
func (g Grant) Reaches(a Action) bool {
	if len(g.Repositories) > 0 && !slices.Contains(narrowed, a) {
		return false
	}
	if len(g.Scopes) == 0 || slices.Contains(looked, a) {
		return true
	}
	return slices.ContainsFunc(g.Scopes, func(s Scope) bool { return slices.Contains(scoped[s], a) })
}

// Holds tells whether what belongs to a repository is in it.
func (g Grant) Holds(repository string) bool {
	return len(g.Repositories) == 0 || slices.Contains(g.Repositories, repository)
}

// Covers tells whether another grant has nothing that this one has not.
func (g Grant) Covers(other Grant) bool {
	within := func(has, wants []string) bool {
		return len(has) == 0 || len(wants) > 0 && !slices.ContainsFunc(wants, func(w string) bool { return !slices.Contains(has, w) })
	}
	texts := func(all []Scope) (out []string) {
		for _, s := range all {
			out = append(out, string(s))
		}
		return out
	}
	return within(texts(g.Scopes), texts(other.Scopes)) && within(g.Repositories, other.Repositories)
}
