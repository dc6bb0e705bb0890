package wire

import "time"

// RulesVersion is a version of the house rules in a list.
type RulesVersion struct {
	Version int       `json:"version"`
	Author  string    `json:"author"`
	Reason  string    `json:"reason"`
	At      time.Time `json:"at"`
	Changes []string  `json:"changes" doc:"What it changed in the version before"`
}

// Rules is the house rules document, one version of it.
type Rules struct {
	RulesVersion
	Document string        `json:"document"`
	Effects  []RulesEffect `json:"effects,omitempty" doc:"As they are put: what comes of it"`
}

// RulesText is a document to check or to put.
type RulesText struct {
	Document string `json:"document" maxLength:"262144"`
	Reason   string `json:"reason,omitempty" maxLength:"300" doc:"Why; needed to put it"`
	Meant    bool   `json:"meant,omitempty" doc:"Put it though it reaches a large part of the fleet"`
}

// RulesCheck is what is to be said of a document.
type RulesCheck struct {
	Findings []RulesFinding `json:"findings"`
	Warnings []RulesFinding `json:"warnings" doc:"What may be a mistake: names that nobody has, what has ended"`
	Changes  []string       `json:"changes" doc:"What it would change"`
	Effects  []RulesEffect  `json:"effects" doc:"What that would do to what is there now, for who may put it"`
}

// RulesFinding is one thing that is wrong with a document.
type RulesFinding struct {
	Line   int    `json:"line"`
	Column int    `json:"column"`
	What   string `json:"what"`
	Fix    string `json:"fix,omitempty"`
}

// RulesEffect is what a change of the house rules does to what is there.
type RulesEffect struct {
	Kind  string     `json:"kind" enum:"rests,removed,stays,over limit"`
	Text  string     `json:"text" example:"3 of the 7 that run are put to rest, the first at 14:05 CET, unless somebody works in them: quay.ingrid, pier.mats and quay.hauk"`
	Names []string   `json:"names" doc:"Which workspaces, with their owners; of a limit, whose it is"`
	Of    int        `json:"of" doc:"Of how many; 0 of a limit"`
	At    *time.Time `json:"at,omitempty" doc:"When the first is"`
	Wide  bool       `json:"wide,omitempty" doc:"It reaches so much that it must be said that it is meant"`
}
