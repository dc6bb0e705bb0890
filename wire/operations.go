package wire

import "time"

// NewOperation asks one verb of many workspaces: of those that are named, or of
// those that fit Where.
type NewOperation struct {
	Verb     string          `json:"verb" enum:"start,stop,rebuild,hold,let rest,remove,tell" doc:"tell puts the reason before the owner of each"`
	Names    []string        `json:"names,omitempty" maxItems:"10000" doc:"NAME, or NAME.OWNER for somebody else's"`
	Where    *WorkspaceWhere `json:"where,omitempty" doc:"Instead of names: all that fit when it is asked"`
	Reason   string          `json:"reason,omitempty" maxLength:"300" doc:"Why, for the owners and the journal; hold and tell want one"`
	Seconds  int64           `json:"seconds,omitempty" minimum:"60" doc:"With hold: how long"`
	NewFiles bool            `json:"new_files,omitempty" doc:"With rebuild: drop the files too and clone anew"`
	Discard  bool            `json:"discard,omitempty" doc:"With remove, or rebuild with new files: even when work exists nowhere else"`
}

// WorkspaceWhere says which workspaces are meant, in the words of their list; empty
// fields do not count.
type WorkspaceWhere struct {
	All        bool     `json:"all,omitempty" doc:"Everybody's whom one may see, not one's own alone"`
	Owner      string   `json:"owner,omitempty" maxLength:"64"`
	Team       string   `json:"team,omitempty" maxLength:"40"`
	Repository string   `json:"repository,omitempty" maxLength:"64"`
	Branch     string   `json:"branch,omitempty" maxLength:"256"`
	Size       string   `json:"size,omitempty" maxLength:"20"`
	States     []string `json:"states,omitempty" maxItems:"30" doc:"Phases and conditions: those of which one is so"`
	Find       string   `json:"find,omitempty" maxLength:"200" doc:"A part of the name, the owner, the repository or the branch"`
	Cause      string   `json:"cause,omitempty" maxLength:"20" doc:"The id of what needs somebody"`
}

// Operation is one verb asked of many workspaces.
type Operation struct {
	ID          string     `json:"id"`
	Verb        string     `json:"verb" enum:"start,stop,rebuild,hold,let rest,remove,tell"`
	Reason      string     `json:"reason,omitempty"`
	By          string     `json:"by" doc:"Who asked"`
	MadeAt      time.Time  `json:"made_at"`
	EndedAt     *time.Time `json:"ended_at,omitempty" doc:"When it was over with all of them; missing while it is under way"`
	CancelledBy string     `json:"cancelled_by,omitempty"`
	Total       int        `json:"total" doc:"How many workspaces it is asked of"`
	Waiting     int        `json:"waiting" doc:"Of these, those whose turn has not come"`
	UnderWay    int        `json:"under_way"`
	Done        int        `json:"done"`
	Failed      int        `json:"failed" doc:"Those that were asked and came to something else"`
	Refused     int        `json:"refused" doc:"Those of which it was not possible, or not allowed"`
	Cancelled   int        `json:"cancelled" doc:"Those whose turn never came"`
}

// Outcome is how an operation stands with one workspace.
type Outcome struct {
	Number int       `json:"number"`
	Name   string    `json:"name" doc:"NAME.OWNER, as it was called when it was asked"`
	State  string    `json:"state" enum:"waiting,under way,done,failed,refused,cancelled"`
	Kind   string    `json:"kind,omitempty" doc:"The kind of the problem, where it was refused; see docs/problems.md"`
	Detail string    `json:"detail,omitempty"`
	At     time.Time `json:"at" doc:"Since when it is so"`
}
