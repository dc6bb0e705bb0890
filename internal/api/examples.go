package api

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yardbench/internal/core/policy"
	"yardbench/wire"
)

// tags says what each part of the door is about.
var tags = map[string]string{
	"attention":         "What needs somebody, grouped by cause",
	"container-sizes":   "What a container that is taken on may count for",
	"quarantine":        "What the yard has of workspaces that no record knows",
	"containers":        "Containers in the yard that others started and that belong to nobody",
	"cost":              "What was used, and what it cost",
	"cost.csv":          "The same as a table for spreadsheets",
	"device-requests":   "Programs without a browser that ask to be let in",
	"enrolments":        "Links by which people set up their accounts, or new passwords",
	"events":            "What changes, as it does",
	"passkeys":          "What people sign in to the console with in place of a password",
	"passkey-questions": "What a browser is asked, to make a passkey",
	"sign-in-questions": "What a browser is asked, to sign in with a passkey",
	"passkey-sign-ins":  "Signing in with a passkey",
	"sealing-keys":      "Keys that everything secret in the records is sealed with",
	"git-hosts":         "Git hosts that people connect with",
	"git-credentials":   "What one signs in to git hosts with",
	"health":            "Whether the service is well",
	"journal":           "Who did what, and what happened: append-only, chained and signed",
	"kept":              "What people like, kept for them",
	"guests":            "People whose access ends by itself",
	"house":             "What belongs to nobody in particular",
	"launch-links":      "Prepared launches behind short addresses",
	"me":                "Who one is here",
	"oauth":             "Programs of a person's own that sign in as them (OAuth 2.0)",
	"openapi.json":      "This description",
	"openings":          "What of the installation is open, and how it is closed",
	"operations":        "One verb for many workspaces, with its own list of outcomes",
	"people":            "The people and accounts of programs, their roles and teams",
	"port-passes":       "Ways to the addresses of ports",
	"prebuild-plans":    "What is prepared ahead, and when",
	"prebuild-runs":     "The makings of prepared images",
	"preflight":         "What is said before a launch",
	"providers":         "Identity providers by which people sign in (OpenID Connect)",
	"pushes":            "The news of pushes, from git hosts",
	"recordings":        "What terminals printed and was kept",
	"repositories":      "The registered repositories, with their definitions, secrets and prebuild plans",
	"rules":             "The house rules: one versioned document of sizes, limits, rates, idle and retention rules",
	"secrets":           "A person's secrets, whose values are never given out",
	"sign-in":           "The way in by a password",
	"sign-out":          "The way out",
	"starters":          "Ready definitions for new projects",
	"teams":             "Whose money and limits belong together",
	"ssh":               "What lets people in by SSH, and where",
	"tokens":            "What one is signed in with, and tokens for programs",
	"webhooks":          "Addresses that are told of journal entries",
	"workspaces":        "Workspaces: launched, watched, used, put to rest, removed",
}

func pointer[T any](v T) *T { return &v }

// asksWith are examples of what operations are asked with, by their ids.
var asksWith = map[string]any{
	"give-quarantined":      wire.GiveStray{To: "peder"},
	"keep-quarantined":      wire.KeepStray{Reason: "peder looks through it on Monday"},
	"adopt-container":       wire.Adopt{Owner: "peder", Repository: "deck-log", Size: "small"},
	"quiet-attention":       wire.NewQuiet{Reason: "moving day", Seconds: 7200},
	"begin-recording":       wire.NewRecording{Workspace: "tide-board", Terminal: "main"},
	"add-look-link":         wire.NewLookLink{Port: 8000, Seconds: 7200, VisitsMost: 5},
	"add-key":               wire.NewSSHKey{Key: "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIMDxq5B5vJ4yQfW1xYb5oZ0sGgQq6mE8u2xJm0hP3c5T ingrid@quay"},
	"add-program":           wire.NewProgram{Name: "nightwatch", Purpose: "Reviews of pull requests", Team: "Harbour"},
	"add-repository":        wire.NewRepository{URL: "https://git.skerryline.example/tide-board.git", Team: "Timetable"},
	"add-team":              wire.NewTeam{Name: "Harbour"},
	"rename-team":           wire.TeamChange{Name: "Quays"},
	"answer-device-request": wire.DeviceAnswer{Allow: true},
	"make-launch-link":      wire.NewLaunchLink{Title: "Try the tide board", Launch: wire.Launch{Repository: "tide-board", Size: "small"}, PeopleMost: 20, Seconds: 604800},
	"change-launch-link":    wire.LaunchLinkChange{Paused: pointer(true)},
	"make-code":             wire.NewCode{Challenge: "E9Melhoa2OwvFrEMTJguCHaoeK1t8URWbuGJSstw-cM", Redirect: "http://127.0.0.1:43117/", State: "xyz"},
	"put-usual":             wire.PutUsual{Shell: "zsh", Zone: "Europe/Oslo", Size: "medium", RestAfterS: 7200},
	"make-passkey":          wire.NewPasskey{Name: "my laptop", Password: "the password", Kept: "what came with the question", Answer: "{}"},
	"sign-in-by-passkey":    wire.PasskeySignIn{Kept: "what came with the question", Answer: "{}"},
	"make-sealing-key":      wire.NewSealingKey{},
	"put-git-host": wire.PutGitHost{Title: "Skerry Line git", Authorize: "https://git.skerryline.example/oauth/authorize", Token: "https://git.skerryline.example/oauth/token", Revoke: "https://git.skerryline.example/oauth/revoke",
		Client: "yard-bench", Secret: "the one that the host has for it", Scopes: []string{"repositories"}},
	"ask-git-host-code":         wire.GitHostAsk{Kept: "what came with the code"},
	"put-git-key":               wire.PutGitKey{New: true, SignsCommits: pointer(true)},
	"put-luggage":               wire.PutLuggage{Paths: []string{"~/.bash_history", "~/.config/tide"}},
	"put-profile":               wire.PutProfile{Files: &wire.PutOwnFiles{Repository: "https://git.skerryline.example/ingrid-files.git", Run: "./install.sh"}},
	"put-provider":              wire.PutProvider{Title: "Skerry Line", Issuer: "https://id.skerryline.example", Client: "yard-bench", Secret: "the one that the provider has for it"},
	"add-webhook":               wire.NewWebhook{URL: "https://hooks.skerryline.example/yard", Kinds: []string{"workspace.phase"}},
	"allow-look":                wire.AllowLook{Seconds: 1800},
	"put-first-line":            wire.NewFirstLine{Line: ". .venv/bin/activate"},
	"ask-operation":             wire.NewOperation{Verb: "stop", Where: &wire.WorkspaceWhere{All: true, Team: "Decks", States: []string{"idle"}}, Reason: "the yard is full"},
	"commit-changes":            wire.NewCommit{Message: "Show high water in bold"},
	"discard-changes":           wire.Choice{Paths: []string{"notes.md"}},
	"fetch-changes":             wire.Exchange{},
	"push-changes":              wire.Exchange{},
	"stage-changes":             wire.Choice{Paths: []string{"src/tide.go"}, Hunks: []string{"5f0c2a91d2b3e4f6"}},
	"switch-branch":             wire.SwitchBranch{Name: "bold-tides", New: true, From: "main"},
	"unstage-changes":           wire.Choice{Paths: []string{"."}},
	"change-password":           wire.PasswordChange{Old: "the one until now", New: "tide over the skerry"},
	"change-person":             wire.PersonChange{Role: "lead", Team: pointer("Fares")},
	"change-port":               wire.PortChange{Shared: true},
	"change-repository":         wire.RepositoryChange{Team: pointer("Harbour")},
	"change-webhook":            wire.WebhookChange{Paused: pointer(true)},
	"check-rules":               wire.RulesText{Document: "currency: EUR\n"},
	"fill-starter":              wire.FillStarter{Options: map[string]string{"quay": "north"}},
	"hold-workspace":            wire.Hold{Seconds: 7200, Why: "a long test runs"},
	"keep":                      wire.KeepValue{Value: map[string]string{"mine": "team=Harbour&state=idle"}},
	"launch":                    wire.Launch{Repository: "tide-board", Branch: "storm-warnings", Name: "storm"},
	"make-certificate":          wire.NewSSHCertificate{Key: "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIMDxq5B5vJ4yQfW1xYb5oZ0sGgQq6mE8u2xJm0hP3c5T"},
	"invite-guest":              wire.NewGuest{Team: "Harbour", Until: time.Date(2027, 1, 31, 23, 0, 0, 0, time.UTC), Repositories: []string{"berth-planner"}, Sizes: []string{"small"}},
	"change-guest":              wire.GuestChange{Until: pointer(time.Date(2027, 2, 28, 23, 0, 0, 0, time.UTC))},
	"make-enrolment":            wire.NewEnrolment{Role: "developer", Team: "Harbour"},
	"make-program-token":        wire.NewToken{Name: "reviews", Days: 90, Scopes: []string{"launch", "work"}, Repositories: []string{"tide-board"}},
	"make-token":                wire.NewToken{Name: "nightly report", Scopes: []string{"read"}},
	"preflight":                 wire.Launch{Repository: "tide-board", Size: "large"},
	"put-git-credential":        wire.GitCredential{Username: "ingrid", Password: "a token of the git host's"},
	"put-plan":                  wire.PutPlan{OnPush: true, Timetable: "30 5 * * 1-5", Keep: 2},
	"put-repository-credential": wire.GitCredential{Username: "tide-reader", Password: "a token of the git host's"},
	"put-repository-secret":     wire.SecretValue{Value: "levels-of-the-quay"},
	"put-team-secret":           wire.SecretValue{Value: "levels-of-the-quay", Repositories: []string{"tide-board", "berth-planner"}},
	"put-house-secret":          wire.SecretValue{Value: "levels-of-the-quay", Everywhere: true, Branches: &[]string{"release/*"}},
	"put-rules":                 wire.RulesText{Document: "currency: EUR\n", Reason: "the boards grew"},
	"put-secret":                wire.SecretValue{Value: "levels-of-the-quay", Repositories: []string{"tide-board"}},
	"rebuild-workspace":         wire.Rebuild{NewFiles: true},
	"replay-webhook":            wire.Replay{From: 812},
	"run-plan":                  wire.Branch{Branch: "main"},
	"show-enrolment":            wire.EnrolmentKey{Key: "what stands behind the # of the link"},
	"sign-in":                   wire.SignIn{Name: "ingrid", Password: "tide over the skerry"},
	"tell-push":                 wire.Push{Repository: "https://git.skerryline.example/tide-board.git", Branch: "main", Commit: "6b037145ba0f4f4f7d1d0c2f2b1c9be7e7b40c11"},
	"use-enrolment":             wire.EnrolmentUse{Key: "what stands behind the # of the link", Name: "oddvar", FullName: "Oddvar Lie", Email: "oddvar@skerryline.example", Password: "tide over the skerry"},
	"verify-journal":            wire.JournalHeads{},
	"visit-port":                wire.PortVisit{Address: "http://k3v7q2m4xa-8000.ports.localhost:7080/"},
}

// explained says of each operation who may do it, by which scopes a token reaches
// it, and gives an example of what it is asked with.
func explained(doc *huma.OpenAPI) {
	seen := map[string]bool{}
	for _, at := range doc.Paths {
		for _, o := range []*huma.Operation{at.Get, at.Put, at.Post, at.Delete, at.Patch} {
			if o == nil {
				continue
			}
			for _, t := range o.Tags {
				seen[t] = true
			}
			o.Description = strings.TrimSpace(o.Description + "\n\n" + mayDo(o))
			if example := asksWith[o.OperationID]; example != nil && o.RequestBody != nil {
				if m := o.RequestBody.Content["application/json"]; m != nil {
					m.Example = example
				}
			}
		}
	}
	names := make([]string, 0, len(seen))
	for t := range seen {
		names = append(names, t)
	}
	slices.Sort(names)
	for _, t := range names {
		doc.Tags = append(doc.Tags, &huma.Tag{Name: t, Description: tags[t]})
	}
}

// mayDo says who may do an operation.
func mayDo(o *huma.Operation) string {
	action, _ := o.Extensions[actionKey].(policy.Action)
	if action == "" {
		return "Open to strangers."
	}
	var roles []string
	for _, r := range policy.Roles {
		var of []string
		for _, rel := range []struct {
			rel  policy.Relation
			text string
		}{{policy.Other, "anybody's"}, {policy.Team, "their team's"}, {policy.Own, "their own"}, {policy.House, ""}} {
			if policy.May(r, action, rel.rel) {
				of = append(of, rel.text)
				if rel.rel == policy.Other {
					break
				}
			}
		}
		switch {
		case len(of) == 0:
		case of[0] == "" || action == policy.SeeSelf || action == policy.ChangeSelf:
			roles = append(roles, string(r))
		default:
			roles = append(roles, fmt.Sprintf("%s (%s)", r, of[0]))
		}
	}
	var scopes []string
	for _, s := range policy.Scopes {
		if (policy.Grant{Scopes: []policy.Scope{s}}).Reaches(action) {
			scopes = append(scopes, string(s))
		}
	}
	reached := "No token with scopes reaches it."
	if len(scopes) > 0 {
		reached = "Tokens reach it with: " + strings.Join(scopes, ", ") + "."
	}
	return "For: " + strings.Join(roles, ", ") + ". " + reached
}
