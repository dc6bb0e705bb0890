package journal

import (
	"time"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/policy"
	"yardbench/internal/core/secret"
)

// Payload is what an entry of one kind tells beside whom it is about. Kinds and
// their JSON are what other people's programs hold on to: a field may come, none
// changes or goes. Fields stand in the order of their names, as the entries of
// earlier releases have them. No payload holds a secret.
type Payload interface{ Kind() string }

// RulesPut puts a version of the house rules in force.
type RulesPut struct {
	Changes []string `json:"changes"`
	Reason  string   `json:"reason"`
}

// SecretPut is a value given for a secret; which value is not said.
type SecretPut struct {
	Branches     []string     `json:"branches,omitempty"`
	Everywhere   bool         `json:"everywhere"`
	Form         secret.Form  `json:"form"`
	Level        secret.Level `json:"level"`
	Name         string       `json:"name"`
	Repositories []string     `json:"repositories"`
	Version      int          `json:"version"`
	Whose        string       `json:"whose,omitempty"` // the name of the repository or team
}

// SecretRemoved takes one away.
type SecretRemoved struct {
	Level secret.Level `json:"level"`
	Name  string       `json:"name"`
	Whose string       `json:"whose,omitempty"`
}

// CredentialPut is what somebody signs in to a git host with, given.
type CredentialPut struct {
	Host string `json:"host"`
	Lent bool   `json:"lent,omitempty"` // by the host itself
}

// GitHostPut has people connect with a git host, or changes how.
type GitHostPut struct {
	Host   string `json:"host"`
	Client string `json:"client"`
}

// GitHostDropped has nobody connect with it any more.
type GitHostDropped struct {
	Host string `json:"host"`
}

// CredentialRemoved takes it away.
type CredentialRemoved struct {
	Host string `json:"host"`
}

// GitKeyPut is a key of somebody's that signs them in to git hosts by SSH, and their
// commits: made or brought, or another use of the one they had.
type GitKeyPut struct {
	Fingerprint string `json:"fingerprint"`
	From        string `json:"from,omitempty"` // made or brought; empty where it stays
	Signs       bool   `json:"signs_commits,omitempty"`
}

// GitKeyRemoved takes it away.
type GitKeyRemoved struct{}

// SealingKeyMade is another key that everything secret in the records is sealed with.
type SealingKeyMade struct {
	Key string `json:"key"`
}

// SealingKeyRetired forgets an older one, which nothing needs any more.
type SealingKeyRetired struct {
	Key string `json:"key"`
}

// PasskeyMade is a passkey of somebody's, made.
type PasskeyMade struct {
	Name string `json:"name"`
}

// PasskeyRemoved takes one away.
type PasskeyRemoved struct{}

// RepositoryAdded registers a repository.
type RepositoryAdded struct {
	Name string `json:"name"`
	Team string `json:"team"`
	URL  string `json:"url"`
}

// RepositoryChanged gives it another team, address or default branch; those are
// how it is after that.
type RepositoryChanged struct {
	Branch     string `json:"branch,omitempty"`
	Repository string `json:"repository"`
	Team       string `json:"team"`
	URL        string `json:"url,omitempty"`
}

// RepositoryRemoved has it registered no more.
type RepositoryRemoved struct {
	Repository string `json:"repository"`
	URL        string `json:"url"`
}

// RepositoryCredentialPut gives a repository a credential of its own, or takes
// it away.
type RepositoryCredentialPut struct {
	Gone       bool   `json:"gone,omitempty"`
	Key        string `json:"key,omitempty"` // the fingerprint, where it is one for SSH
	Repository string `json:"repository"`
}

// PushKeyMade is a new key for the news of a repository's pushes.
type PushKeyMade struct {
	Repository string `json:"repository"`
}

// PersonAdded takes somebody in, by an enrolment link or by the service itself.
type PersonAdded struct {
	Role      policy.Role `json:"role"`
	Team      string      `json:"team"`
	Enrolment string      `json:"enrolment,omitempty"` // the link's id
	Provider  string      `json:"provider,omitempty"`  // the name of the identity provider that knew them
}

// PersonChanged tells how they stand now.
type PersonChanged struct {
	Also     []string    `json:"also,omitempty"` // the teams they are in beside their own
	Closed   bool        `json:"closed"`
	Provider string      `json:"provider,omitempty"` // the identity provider that says so
	Role     policy.Role `json:"role"`
	Team     string      `json:"team"`
}

// GuestPut says until when a guest's access lasts, and what it is for.
type GuestPut struct {
	Repositories []string  `json:"repositories"`
	Sizes        []string  `json:"sizes"` // none is every size
	Until        time.Time `json:"until"`
}

// GuestEnding says that a guest's access ends soon.
type GuestEnding struct {
	Until time.Time `json:"until"`
}

// PersonErased is the last that is told of somebody.
type PersonErased struct{}

// PasswordSet is somebody setting their password, by a link or by the old one.
type PasswordSet struct{}

// SignedIn is a sign-in at a door.
type SignedIn struct {
	Door     string `json:"door"`
	Place    string `json:"place,omitempty"`    // the address it was made from
	Provider string `json:"provider,omitempty"` // the identity provider's name
}

// SignInsRefused is sign-ins by password that failed within a minute: told once for all of
// them, as anybody may cause any number.
type SignInsRefused struct {
	Count   int      `json:"count"`
	From    []string `json:"from"`     // the first addresses
	People  []string `json:"people"`   // the first of those whose names were given
	TooMany int      `json:"too_many"` // how many were not even tried, after too many before
}

// ServiceStarted is a start of the service, and what it goes on with.
type ServiceStarted struct {
	GoesOnWith int    `json:"goes_on_with"` // workspaces that something was under way for
	Version    string `json:"version"`
	Yard       string `json:"yard"`
}

// ServiceStopped is its end, told while it ends.
type ServiceStopped struct {
	Why string `json:"why"`
}

// SignedOut ends it.
type SignedOut struct{}

// TeamRenamed gives a team another name.
type TeamRenamed struct {
	From string `json:"from"`
	To   string `json:"to"`
}

// TeamRemoved removes a team.
type TeamRemoved struct {
	Name string `json:"name"`
}

// TeamAdded makes a team.
type TeamAdded struct {
	Name string `json:"name"`
}

// EnrolmentMade is a link by which somebody sets up an account.
type EnrolmentMade struct {
	Role policy.Role `json:"role"`
	Team string      `json:"team"`
	Name string      `json:"name,omitempty"` // of the account, where that was said
}

// EnrolmentEnded is a link that was taken back before anybody used it.
type EnrolmentEnded struct{}

// TokenMade is a way in for a program.
type TokenMade struct {
	ExpiresAt    time.Time      `json:"expires_at"`
	Name         string         `json:"name"`
	Repositories []string       `json:"repositories,omitempty"` // those it is for; none is all
	Scopes       []policy.Scope `json:"scopes,omitempty"`       // what it reaches; none is all
}

// TokenExpiring says that one expires within a week.
type TokenExpiring struct {
	ExpiresAt time.Time `json:"expires_at"`
	Name      string    `json:"name"`
}

// TokenEnded ends one, or a sign-in.
type TokenEnded struct{}

// ProviderPut has people sign in by an identity provider.
type ProviderPut struct {
	Client string `json:"client"`
	Issuer string `json:"issuer"`
	Name   string `json:"name"`
}

// ProviderDropped ends that, and what people were signed in with by it.
type ProviderDropped struct {
	Name string `json:"name"`
}

// LuggagePut is what of somebody's home folder goes along from workspace to workspace.
type LuggagePut struct {
	Paths []string `json:"paths"`
}

// ProfilePut is what of somebody's own comes into their workspaces.
type ProfilePut struct {
	Files string `json:"files"` // the repository with their files; "" is none
}

// LaunchLinkPut is a launch link that was made, or changed.
type LaunchLinkPut struct {
	GuestS     int64      `json:"guest_s,omitempty"` // for how long guests have access who set up their accounts by it
	Paused     bool       `json:"paused,omitempty"`
	PeopleMost int        `json:"people_most,omitempty"`
	Repository string     `json:"repository,omitempty"` // where it was made
	Team       string     `json:"team,omitempty"`
	Title      string     `json:"title"`
	Until      *time.Time `json:"until,omitempty"`
}

// LaunchLinkUsed gave somebody a workspace.
type LaunchLinkUsed struct {
	Title     string `json:"title"`
	Workspace string `json:"workspace"`
}

// LaunchLinkDropped withdraws one that so many people have used.
type LaunchLinkDropped struct {
	Title string `json:"title"`
	Used  int    `json:"used"`
}

// WebhookAdded has entries told to an address.
type WebhookAdded struct {
	Kinds []string `json:"kinds"`
	URL   string   `json:"url"`
}

// WebhookChanged is where entries are told, of which kinds, and whether at all.
type WebhookChanged struct {
	Kinds  []string `json:"kinds"`
	Paused bool     `json:"paused,omitempty"`
	URL    string   `json:"url"`
}

// WebhookKeyMade gives its deliveries another mark.
type WebhookKeyMade struct {
	URL string `json:"url"`
}

// WebhookReplayed has it told from an entry on, where it was told up to another.
type WebhookReplayed struct {
	From int64  `json:"from"`
	URL  string `json:"url"`
	Was  int64  `json:"was"`
}

// WebhookRemoved ends that.
type WebhookRemoved struct {
	URL string `json:"url"`
}

// PlanPut is how images of a branch are prepared.
type PlanPut struct {
	Branch     string `json:"branch"`
	Keep       int    `json:"keep"`
	OnPush     bool   `json:"on_push"`
	Repository string `json:"repository"`
	Timetable  string `json:"timetable"`
}

// PlanRemoved ends that.
type PlanRemoved struct {
	Branch     string `json:"branch"`
	Repository string `json:"repository"`
}

// PrebuildBegun is one image being prepared.
type PrebuildBegun struct {
	Branch     string `json:"branch"`
	Commit     string `json:"commit"`
	Number     int    `json:"number"`
	Plan       string `json:"plan"`
	Reason     string `json:"reason"`
	Repository string `json:"repository"`
}

// PrebuildEnded tells how that went.
type PrebuildEnded struct {
	Cause   string            `json:"cause"`
	Number  int               `json:"number"`
	Outcome lifecycle.Outcome `json:"outcome"`
	Plan    string            `json:"plan"`
}

// YardAway is a yard that does not answer.
type YardAway struct {
	Cause string `json:"cause"`
}

// YardBack is one that answers again.
type YardBack struct {
	AwayS int64 `json:"away_s"`
}

// YardQuarantined is files in the yard of which nothing is known.
type YardQuarantined struct {
	Named   bool `json:"named"`
	Volumes int  `json:"volumes"`
}

// QuarantineGiven is files that no record knew and that became somebody's workspace.
type QuarantineGiven struct {
	Branch     string `json:"branch"`
	Name       string `json:"name"`
	Owner      string `json:"owner"` // the name, as it was then
	Repository string `json:"repository"`
}

// QuarantineKept is what no record knows and stays where it is, looked at.
type QuarantineKept struct {
	Reason string `json:"reason"`
}

// QuarantineRemoved is what no record knew, taken out of the yard.
type QuarantineRemoved struct {
	Name    string `json:"name"`  // what its files were told, "" for nothing
	Owner   string `json:"owner"` // likewise
	Named   bool   `json:"named"`
	Volumes int    `json:"volumes"`
}

// RecordsRestored is records that were put back from a backup.
type RecordsRestored struct {
	Ended  int64     `json:"ended"` // sign-ins and links that were ended with it
	MadeAt time.Time `json:"made_at"`
}

// YardSetBack is records that are older than what the yard holds.
type YardSetBack struct {
	Found int `json:"found"`
	Known int `json:"known"`
}

// The kinds, and what begins the names of those that follow a session.
func (RulesPut) Kind() string                { return "rules.put" }
func (SecretPut) Kind() string               { return "secret.put" }
func (SecretRemoved) Kind() string           { return "secret.removed" }
func (CredentialPut) Kind() string           { return "git-credential.put" }
func (CredentialRemoved) Kind() string       { return "git-credential.removed" }
func (GitHostPut) Kind() string              { return "git-host.put" }
func (GitHostDropped) Kind() string          { return "git-host.dropped" }
func (SealingKeyMade) Kind() string          { return "sealing-key.made" }
func (SealingKeyRetired) Kind() string       { return "sealing-key.retired" }
func (PasskeyMade) Kind() string             { return "passkey.made" }
func (PasskeyRemoved) Kind() string          { return "passkey.removed" }
func (GitKeyPut) Kind() string               { return "git-key.put" }
func (GitKeyRemoved) Kind() string           { return "git-key.removed" }
func (RepositoryAdded) Kind() string         { return "repository.added" }
func (RepositoryChanged) Kind() string       { return "repository.changed" }
func (RepositoryRemoved) Kind() string       { return "repository.removed" }
func (RepositoryCredentialPut) Kind() string { return "repository.credential" }
func (PushKeyMade) Kind() string             { return "repository.push-key" }
func (GuestPut) Kind() string                { return "guest.put" }
func (GuestEnding) Kind() string             { return "guest.ending" }
func (PersonAdded) Kind() string             { return "person.added" }
func (PersonChanged) Kind() string           { return "person.changed" }
func (PersonErased) Kind() string            { return "person.erased" }
func (PasswordSet) Kind() string             { return "person.new-password" }
func (SignedIn) Kind() string                { return "person.signed-in" }
func (SignedOut) Kind() string               { return "person.signed-out" }
func (TeamAdded) Kind() string               { return "team.added" }
func (TeamRenamed) Kind() string             { return "team.renamed" }
func (TeamRemoved) Kind() string             { return "team.removed" }
func (EnrolmentMade) Kind() string           { return "enrolment.made" }
func (EnrolmentEnded) Kind() string          { return "enrolment.ended" }
func (TokenExpiring) Kind() string           { return "token.expiring" }
func (TokenMade) Kind() string               { return "token.made" }
func (TokenEnded) Kind() string              { return "token.ended" }
func (ProviderPut) Kind() string             { return "provider.put" }
func (ProviderDropped) Kind() string         { return "provider.dropped" }
func (LuggagePut) Kind() string              { return "person.luggage" }
func (ProfilePut) Kind() string              { return "person.profile" }
func (LaunchLinkPut) Kind() string           { return "launch-link.put" }
func (LaunchLinkUsed) Kind() string          { return "launch-link.used" }
func (LaunchLinkDropped) Kind() string       { return "launch-link.dropped" }
func (WebhookAdded) Kind() string            { return "webhook.added" }
func (WebhookChanged) Kind() string          { return "webhook.changed" }
func (WebhookKeyMade) Kind() string          { return "webhook.key" }
func (WebhookReplayed) Kind() string         { return "webhook.replayed" }
func (WebhookRemoved) Kind() string          { return "webhook.removed" }
func (PlanPut) Kind() string                 { return "prebuild.plan-put" }
func (PlanRemoved) Kind() string             { return "prebuild.plan-removed" }
func (PrebuildBegun) Kind() string           { return "prebuild.begun" }
func (PrebuildEnded) Kind() string           { return "prebuild.ended" }
func (YardAway) Kind() string                { return "yard.away" }
func (YardBack) Kind() string                { return "yard.back" }
func (YardQuarantined) Kind() string         { return "yard.quarantined" }
func (QuarantineGiven) Kind() string         { return "quarantine.given" }
func (QuarantineKept) Kind() string          { return "quarantine.kept" }
func (QuarantineRemoved) Kind() string       { return "quarantine.removed" }
func (SignInsRefused) Kind() string          { return "sign-in.refused" }
func (ServiceStarted) Kind() string          { return "service.started" }
func (ServiceStopped) Kind() string          { return "service.stopped" }
func (RecordsRestored) Kind() string         { return "records.restored" }
func (YardSetBack) Kind() string             { return "yard.set-back" }
