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
	Document string `json:"document"`
}

// RulesText is a document to check or to put.
type RulesText struct {
	Document string `json:"document" maxLength:"262144"`
	Reason   string `json:"reason,omitempty" maxLength:"300" doc:"Why; needed to put it"`
}

// RulesCheck is what is to be said of a document.
type RulesCheck struct {
	Findings []RulesFinding `json:"findings"`
	Changes  []string       `json:"changes" doc:"What it would change"`
}

// RulesFinding is one thing that is wrong with a document.
type RulesFinding struct {
	Line   int    `json:"line"`
	Column int    `json:"column"`
	What   string `json:"what"`
	Fix    string `json:"fix,omitempty"`
}
