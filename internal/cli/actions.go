package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"yardbench/wire"
)

// commandOf is the command line's own way of each action that a problem may name,
// by the operation of the HTTP door that it is; % is what it is done to.
var commandOf = map[string]string{
	"add-repository":            "repository add %",
	"change-person":             "person open %",
	"change-person closed":      "person close %",
	"check-definition":          "definition check %",
	"end-enrolment":             "enrolment remove %",
	"end-recording":             "recording end %",
	"list-attention":            "attention list",
	"list-quarantine":           "quarantine list",
	"remove-quarantined":        "quarantine remove %",
	"list-containers":           "container list",
	"list-enrolments":           "enrolment list",
	"list-git-credentials":      "credential list",
	"begin-git-host":            "credential connect %",
	"list-git-hosts":            "git-host list",
	"list-guests":               "guest list",
	"list-keys":                 "key list",
	"list-operations":           "operation list",
	"list-people":               "person list",
	"list-plans":                "prebuild list",
	"list-providers":            "provider list",
	"list-recordings":           "recording list",
	"list-launch-links":         "launch-link list",
	"list-look-links":           "look-link list %",
	"list-repositories":         "repository list",
	"list-rules":                "rules list",
	"list-secrets":              "secret list",
	"list-services":             "service list %",
	"list-sheets":               "show %",
	"list-starters":             "starter list",
	"list-teams":                "team list",
	"list-tokens":               "token list",
	"list-webhooks":             "webhook list",
	"list-workspaces":           "list",
	"make-program-token":        "token add NAME --of %",
	"make-push-key":             "repository push-key %",
	"put-git-key":               "me git-key --new",
	"show-git-key":              "me git-key",
	"put-git-credential":        "credential put %",
	"make-deploy-key":           "repository deploy-key %",
	"put-plan":                  "prebuild put %",
	"put-secret":                "secret put % --for REPOSITORY",
	"put-repository-credential": "repository credential % --username NAME",
	"put-rules meant":           "rules put FILE --why REASON --yes",
	"rebuild-workspace":         "rebuild %",
	"remove-workspace":          "remove %",
	"show-workspace":            "show %",
	"show-starter":              "starter show %",
	"sign-in":                   "sign-in",
	"start-workspace":           "start %",
	"stop-workspace":            "stop %",
}

// commandFor is the command that does an action; empty where there is none.
func commandFor(do wire.Action) string {
	text, with := commandOf[strings.TrimSpace(do.Rel+" "+strings.Join(do.With, " "))], false
	if text == "" {
		text, with = commandOf[do.Rel], true
	}
	if text == "" {
		return ""
	}
	text = "yardbench " + strings.Replace(text, "%", do.Subject, 1)
	if with {
		for _, w := range do.With {
			text += " --" + strings.ReplaceAll(w, "_", "-")
		}
	}
	return text
}

// nextSteps is what to do about a problem, with the commands that do it.
func nextSteps(p *wire.Problem) string {
	var commands []string
	for _, do := range p.Actions {
		if c := commandFor(do); c != "" {
			commands = append(commands, c)
		}
	}
	switch {
	case len(commands) == 0:
		return p.Next
	case p.Next == "":
		return strings.Join(commands, "; or: ")
	}
	return p.Next + " with: " + strings.Join(commands, "; or: ")
}

// flagOf is the flag of the command that ran by which a part of what was asked is
// given; the part itself where there is none.
func flagOf(ran *cobra.Command, field string) string {
	name := strings.ReplaceAll(strings.TrimPrefix(field, "/"), "_", "-")
	for _, try := range []string{name, map[string]string{"repositories": "for", "rest-after-s": "rest-after", "seconds": "timeout", "people-most": "most", "guest-s": "guests", "reason": "why", "paths": "add"}[name]} {
		if try != "" && ran != nil && !strings.Contains(try, " ") && ran.Flags().Lookup(try) != nil {
			return "--" + try
		}
	}
	return strings.TrimPrefix(field, "/")
}
