package api

import (
	"context"
	"net/url"

	"yardbench/internal/core/policy"
	"yardbench/internal/service"
	"yardbench/wire"
)

// PersonPath names somebody.
type PersonPath struct {
	Person string `path:"person" maxLength:"64"`
}

func peopleRoutes(a *API) {
	s := a.svc
	list(a, op("GET", "/people", "list-people", "List the people you may see", policy.SeePeople), personKind,
		func(ctx context.Context, who service.Actor, _ *Page) ([]wire.Person, error) {
			return s.People.People(ctx, who)
		})
	answer(a, op("GET", "/people/{person}", "show-person", "Show somebody", policy.SeePeople),
		func(ctx context.Context, who service.Actor, in *PersonPath) (wire.Person, error) {
			return s.People.Person(ctx, who, in.Person)
		})
	answer(a, matching(op("PATCH", "/people/{person}", "change-person", "Change somebody's role or team, or close or open their account", policy.ChangePeople)),
		func(ctx context.Context, who service.Actor, in *struct {
			PersonPath
			Body wire.PersonChange
		}) (wire.Person, error) {
			return s.People.ChangePerson(ctx, who, in.Person, in.Body)
		})
	done(a, op("DELETE", "/people/{person}", "erase-person", "Take away everything that is known of somebody whose account is closed", policy.ChangePeople),
		func(ctx context.Context, who service.Actor, in *PersonPath) error {
			return s.People.ErasePerson(ctx, who, in.Person)
		})
	list(a, op("GET", "/teams", "list-teams", "List the teams", policy.SeePeople), teamKind,
		func(ctx context.Context, who service.Actor, _ *Page) ([]wire.Team, error) {
			return s.People.Teams(ctx, who)
		})
	answer(a, op("PATCH", "/teams/{team}", "rename-team", "Give a team another name", policy.ChangePeople),
		func(ctx context.Context, who service.Actor, in *struct {
			TeamPath
			Body wire.TeamChange
		}) (wire.Team, error) {
			return s.People.RenameTeam(ctx, who, in.Team, in.Body)
		})
	done(a, op("DELETE", "/teams/{team}", "remove-team", "Remove a team that has nothing and nobody any more", policy.ChangePeople),
		func(ctx context.Context, who service.Actor, in *TeamPath) error {
			return s.People.RemoveTeam(ctx, who, in.Team)
		})
	answer(a, op("GET", "/teams/{team}", "show-team", "Show a team", policy.SeePeople),
		func(ctx context.Context, who service.Actor, in *TeamPath) (wire.Team, error) {
			all, err := s.People.Teams(ctx, who)
			return service.One(all, err, func(v wire.Team) bool { return v.Name == in.Team }, "team", in.Team)
		})
	made(a, op("POST", "/teams", "add-team", "Add a team", policy.ChangePeople),
		func(v wire.Team) string { return "/teams/" + url.PathEscape(v.Name) }, nil,
		func(ctx context.Context, who service.Actor, in *struct{ Body wire.NewTeam }) (wire.Team, error) {
			return s.People.AddTeam(ctx, who, in.Body)
		})
	made(a, op("POST", "/enrolments", "make-enrolment", "Make a link by which somebody sets up their account, or a new password", policy.ChangePeople),
		func(v wire.Enrolment) string { return "/enrolments/" + v.ID }, nil,
		func(ctx context.Context, who service.Actor, in *struct{ Body wire.NewEnrolment }) (wire.Enrolment, error) {
			return s.People.Enrol(ctx, who, in.Body)
		})
	list(a, op("GET", "/enrolments", "list-enrolments", "List the enrolment links that can still be used", policy.ChangePeople), enrolmentKind,
		func(ctx context.Context, who service.Actor, _ *Page) ([]wire.OpenEnrolment, error) {
			return s.People.Enrolments(ctx, who)
		})
	answer(a, op("GET", "/enrolments/{id}", "show-open-enrolment", "Show an enrolment link that can still be used", policy.ChangePeople),
		func(ctx context.Context, who service.Actor, in *IDPath) (wire.OpenEnrolment, error) {
			all, err := s.People.Enrolments(ctx, who)
			return service.One(all, err, func(v wire.OpenEnrolment) bool { return v.ID == in.ID }, "enrolment link", in.ID)
		})
	done(a, op("DELETE", "/enrolments/{id}", "end-enrolment", "Take back an enrolment link that nobody has used", policy.ChangePeople),
		func(ctx context.Context, who service.Actor, in *IDPath) error {
			return s.People.EndEnrolment(ctx, who, in.ID)
		})
	offer := op("POST", "/enrolments/offer", "show-enrolment", "What an enrolment link is for", "")
	use := op("POST", "/enrolments/use", "use-enrolment", "Set up an account, or a new password, by a link; a link is used once", "")
	offer.Metadata, use.Metadata = public, public
	offer.Security, use.Security = []map[string][]string{}, []map[string][]string{}
	answer(a, offer, func(ctx context.Context, _ service.Actor, in *struct{ Body wire.EnrolmentKey }) (wire.EnrolmentOffer, error) {
		return s.People.Offer(ctx, in.Body.Key)
	})
	made(a, use, func(v wire.Person) string { return "/people/" + url.PathEscape(v.Name) }, nil, func(ctx context.Context, _ service.Actor, in *struct{ Body wire.EnrolmentUse }) (wire.Person, error) {
		return s.People.UseEnrolment(ctx, in.Body)
	})
	list(a, op("GET", "/tokens", "list-tokens", "List what you are signed in with, and your tokens", policy.SeeSelf), tokenKind,
		func(ctx context.Context, who service.Actor, _ *Page) ([]wire.Token, error) {
			return s.SignIns.Tokens(ctx, who)
		})
	answer(a, op("GET", "/tokens/{id}", "show-token", "Show one of your sign-ins or tokens", policy.SeeSelf),
		func(ctx context.Context, who service.Actor, in *IDPath) (wire.Token, error) {
			all, err := s.SignIns.Tokens(ctx, who)
			return service.One(all, err, func(v wire.Token) bool { return v.ID == in.ID }, "sign-in or token", in.ID)
		})
	made(a, op("POST", "/tokens", "make-token", "Make a token with a name, for programs", policy.ChangeSelf),
		func(v wire.MadeToken) string { return "/tokens/" + v.ID }, nil,
		func(ctx context.Context, who service.Actor, in *struct{ Body wire.NewToken }) (wire.MadeToken, error) {
			return s.SignIns.MakeToken(ctx, who, in.Body)
		})
	done(a, op("DELETE", "/tokens/{id}", "end-token", "End one of your sign-ins or tokens", policy.ChangeSelf),
		func(ctx context.Context, who service.Actor, in *IDPath) error {
			return s.SignIns.EndToken(ctx, who, in.ID)
		})
}

// programRoutes are the accounts of programs, and their tokens.
func programRoutes(a *API) {
	s := a.svc
	made(a, op("POST", "/people", "add-program", "Make an account for programs, which belongs to a team and to no person", policy.ChangeServices),
		func(v wire.Person) string { return "/people/" + url.PathEscape(v.Name) }, nil,
		func(ctx context.Context, who service.Actor, in *struct{ Body wire.NewProgram }) (wire.Person, error) {
			return s.Programs.Add(ctx, who, in.Body)
		})
	type ProgramPath struct {
		Person string `path:"person" maxLength:"64"`
	}
	list(a, op("GET", "/people/{person}/tokens", "list-program-tokens", "List the tokens of an account of programs", policy.ChangeServices), tokenKind,
		func(ctx context.Context, who service.Actor, in *struct {
			ProgramPath
			Page
		}) ([]wire.Token, error) {
			return s.Programs.Tokens(ctx, who, in.Person)
		})
	answer(a, op("GET", "/people/{person}/tokens/{id}", "show-program-token", "Show a token of an account of programs", policy.ChangeServices),
		func(ctx context.Context, who service.Actor, in *struct {
			ProgramPath
			IDPath
		}) (wire.Token, error) {
			all, err := s.Programs.Tokens(ctx, who, in.Person)
			return service.One(all, err, func(v wire.Token) bool { return v.ID == in.ID }, "token", in.ID)
		})
	answerOf := func(v wire.MadeToken) string { return "/people/" + url.PathEscape(v.Of) + "/tokens/" + v.ID }
	made(a, op("POST", "/people/{person}/tokens", "make-program-token", "Make a token of an account of programs", policy.ChangeServices), answerOf, nil,
		func(ctx context.Context, who service.Actor, in *struct {
			ProgramPath
			Body wire.NewToken
		}) (wire.MadeToken, error) {
			return s.Programs.MakeToken(ctx, who, in.Person, in.Body)
		})
	done(a, op("DELETE", "/people/{person}/tokens/{id}", "end-program-token", "End a token of an account of programs", policy.ChangeServices),
		func(ctx context.Context, who service.Actor, in *struct {
			ProgramPath
			IDPath
		}) error {
			return s.Programs.EndToken(ctx, who, in.Person, in.ID)
		})
}

// IDPath is something in a path that has an id and no name.
type IDPath struct {
	ID string `path:"id" maxLength:"40"`
}

// SecretPath is a secret in a path.
type SecretPath struct {
	Name string `path:"name" maxLength:"200"`
}

// RepositoryPath is a repository in a path.
type RepositoryPath struct {
	Repository string `path:"repository" maxLength:"64"`
}

// RepositoryPage is a part of a list of something that a repository has.
type RepositoryPage struct {
	RepositoryPath
	Page
}

// RepositoryBranch is one of its branches.
type RepositoryBranch struct {
	RepositoryPath
	Branch string `query:"branch" maxLength:"256" doc:"Default: the repository's default branch"`
}
