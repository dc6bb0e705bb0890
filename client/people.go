package client

import (
	"context"
	"net/url"

	"yardbench/wire"
)

// SignIn checks a password and gives a token.
func (c Self) SignIn(ctx context.Context, name, password string) (wire.SignedIn, error) {
	return call[wire.SignedIn](ctx, c.link, "POST", "/sign-in", wire.SignIn{Name: name, Password: password})
}

// Renew gives this sign-in another value. The one that the client has is good until that
// is used, and five minutes more.
func (c Self) Renew(ctx context.Context) (wire.SignedIn, error) {
	return call[wire.SignedIn](ctx, c.link, "POST", "/me/sign-in", nil)
}

// SignOut ends this sign-in.
func (c Self) SignOut(ctx context.Context) error {
	_, err := call[nothing](ctx, c.link, "POST", "/sign-out", nil)
	return err
}

// Profile is what of one's own comes into each of one's workspaces.
func (c Self) Profile(ctx context.Context) (wire.Profile, error) {
	return call[wire.Profile](ctx, c.link, "GET", "/me/profile", nil)
}

// PutProfile sets it.
func (c Self) PutProfile(ctx context.Context, in wire.PutProfile) (wire.Profile, error) {
	return call[wire.Profile](ctx, c.link, "PUT", "/me/profile", in)
}

// Luggage is what of one's home folder goes along from workspace to workspace.
func (c Self) Luggage(ctx context.Context) (wire.Luggage, error) {
	return call[wire.Luggage](ctx, c.link, "GET", "/me/luggage", nil)
}

// PutLuggage names what is to go along.
func (c Self) PutLuggage(ctx context.Context, in wire.PutLuggage) (wire.Luggage, error) {
	return call[wire.Luggage](ctx, c.link, "PUT", "/me/luggage", in)
}

// Me tells who is signed in.
func (c Self) Me(ctx context.Context) (wire.Me, error) {
	return call[wire.Me](ctx, c.link, "GET", "/me", nil)
}

// GitCredentials lists what one signs in to git hosts with, but for the secrets.
func (c Self) GitCredentials(ctx context.Context) ([]wire.KnownCredential, error) {
	return all[wire.KnownCredential](ctx, c.link, "/git-credentials")
}

// DropGitCredential forgets what one signs in to a git host with.
func (c Self) DropGitCredential(ctx context.Context, host string) error {
	_, err := call[nothing](ctx, c.link, "DELETE", "/git-credentials/"+url.PathEscape(host), nil)
	return err
}

// ChangePassword sets another password, and ends all other sign-ins.
func (c Self) ChangePassword(ctx context.Context, in wire.PasswordChange) error {
	_, err := call[nothing](ctx, c.link, "PUT", "/me/password", in)
	return err
}

// PutGitCredential sets what one signs in to a git host with.
func (c Self) PutGitCredential(ctx context.Context, host string, in wire.GitCredential) error {
	_, err := call[nothing](ctx, c.link, "PUT", "/git-credentials/"+url.PathEscape(host), in)
	return err
}

// List lists the people one may see.
func (c People) List(ctx context.Context) ([]wire.Person, error) {
	return all[wire.Person](ctx, c.link, "/people")
}

// Change changes somebody's role or team, or closes or opens their account.
func (c People) Change(ctx context.Context, name string, in wire.PersonChange) (wire.Person, error) {
	return call[wire.Person](ctx, c.link, "PATCH", "/people/"+url.PathEscape(name), in)
}

// Erase takes away everything that is known of somebody whose account is
// closed.
func (c People) Erase(ctx context.Context, name string) error {
	_, err := call[nothing](ctx, c.link, "DELETE", "/people/"+url.PathEscape(name), nil)
	return err
}

// Teams lists the teams.
func (c People) Teams(ctx context.Context) ([]wire.Team, error) {
	return all[wire.Team](ctx, c.link, "/teams")
}

// AddTeam adds a team.
func (c People) AddTeam(ctx context.Context, name string) (wire.Team, error) {
	return call[wire.Team](ctx, c.link, "POST", "/teams", wire.NewTeam{Name: name})
}

// RenameTeam gives a team another name.
func (c People) RenameTeam(ctx context.Context, name, to string) (wire.Team, error) {
	return call[wire.Team](ctx, c.link, "PATCH", "/teams/"+url.PathEscape(name), wire.TeamChange{Name: to})
}

// RemoveTeam removes a team that has nothing and nobody any more.
func (c People) RemoveTeam(ctx context.Context, name string) error {
	_, err := call[nothing](ctx, c.link, "DELETE", "/teams/"+url.PathEscape(name), nil)
	return err
}

// Enrol makes an enrolment link.
func (c People) Enrol(ctx context.Context, in wire.NewEnrolment) (wire.Enrolment, error) {
	return call[wire.Enrolment](ctx, c.link, "POST", "/enrolments", in)
}

// Enrolments lists the links that can still be used.
func (c People) Enrolments(ctx context.Context) ([]wire.OpenEnrolment, error) {
	return all[wire.OpenEnrolment](ctx, c.link, "/enrolments")
}

// EndEnrolment takes back a link that nobody has used.
func (c People) EndEnrolment(ctx context.Context, id string) error {
	_, err := call[nothing](ctx, c.link, "DELETE", "/enrolments/"+url.PathEscape(id), nil)
	return err
}

// Offer tells what an enrolment link is for.
func (c People) Offer(ctx context.Context, key string) (wire.EnrolmentOffer, error) {
	return call[wire.EnrolmentOffer](ctx, c.link, "POST", "/enrolments/offer", wire.EnrolmentKey{Key: key})
}

// UseEnrolment sets up an account, or a new password.
func (c People) UseEnrolment(ctx context.Context, in wire.EnrolmentUse) (wire.Person, error) {
	return call[wire.Person](ctx, c.link, "POST", "/enrolments/use", in)
}

// Tokens lists one's sign-ins and tokens.
func (c Self) Tokens(ctx context.Context) ([]wire.Token, error) {
	return all[wire.Token](ctx, c.link, "/tokens")
}

// MakeToken makes a token.
func (c Self) MakeToken(ctx context.Context, in wire.NewToken) (wire.MadeToken, error) {
	return call[wire.MadeToken](ctx, c.link, "POST", "/tokens", in)
}

// EndToken ends a sign-in or token.
func (c Self) EndToken(ctx context.Context, id string) error {
	_, err := call[nothing](ctx, c.link, "DELETE", "/tokens/"+url.PathEscape(id), nil)
	return err
}

// AddProgram makes an account for programs of a team.
func (c People) AddProgram(ctx context.Context, in wire.NewProgram) (wire.Person, error) {
	return call[wire.Person](ctx, c.link, "POST", "/people", in)
}

// ProgramTokens lists the tokens of an account of programs.
func (c People) ProgramTokens(ctx context.Context, name string) ([]wire.Token, error) {
	return all[wire.Token](ctx, c.link, "/people/"+url.PathEscape(name)+"/tokens")
}

// MakeProgramToken makes a token of an account of programs.
func (c People) MakeProgramToken(ctx context.Context, name string, in wire.NewToken) (wire.MadeToken, error) {
	return call[wire.MadeToken](ctx, c.link, "POST", "/people/"+url.PathEscape(name)+"/tokens", in)
}

// EndProgramToken ends a token of an account of programs.
func (c People) EndProgramToken(ctx context.Context, name, id string) error {
	_, err := call[nothing](ctx, c.link, "DELETE", "/people/"+url.PathEscape(name)+"/tokens/"+url.PathEscape(id), nil)
	return err
}

// Usual says what one usually wants.
func (c Self) Usual(ctx context.Context) (wire.Usual, error) {
	return call[wire.Usual](ctx, c.link, "GET", "/me/usual", nil)
}

// PutUsual sets it.
func (c Self) PutUsual(ctx context.Context, in wire.PutUsual) (wire.Usual, error) {
	return call[wire.Usual](ctx, c.link, "PUT", "/me/usual", in)
}

// GitKey is the key that one signs in to git hosts with by SSH.
func (c Self) GitKey(ctx context.Context) (wire.GitKey, error) {
	return call[wire.GitKey](ctx, c.link, "GET", "/me/git-key", nil)
}

// PutGitKey makes or brings one, or says what it is for.
func (c Self) PutGitKey(ctx context.Context, in wire.PutGitKey) (wire.GitKey, error) {
	return call[wire.GitKey](ctx, c.link, "PUT", "/me/git-key", in)
}

// DropGitKey forgets it.
func (c Self) DropGitKey(ctx context.Context) error {
	_, err := call[nothing](ctx, c.link, "DELETE", "/me/git-key", nil)
	return err
}
