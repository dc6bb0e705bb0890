package client

import (
	"context"
	"net/url"

	"yardbench/wire"
)

// SignIn checks a password and gives a token.
func (c *Client) SignIn(ctx context.Context, name, password string) (wire.SignedIn, error) {
	return call[wire.SignedIn](ctx, c, "POST", "/sign-in", wire.SignIn{Name: name, Password: password})
}

// SignOut ends this sign-in.
func (c *Client) SignOut(ctx context.Context) error {
	_, err := call[nothing](ctx, c, "POST", "/sign-out", nil)
	return err
}

// Me tells who is signed in.
func (c *Client) Me(ctx context.Context) (wire.Me, error) {
	return call[wire.Me](ctx, c, "GET", "/me", nil)
}

// GitCredentials lists what one signs in to git hosts with, but for the secrets.
func (c *Client) GitCredentials(ctx context.Context) ([]wire.KnownCredential, error) {
	return all[wire.KnownCredential](ctx, c, "/git-credentials")
}

// DropGitCredential forgets what one signs in to a git host with.
func (c *Client) DropGitCredential(ctx context.Context, host string) error {
	_, err := call[nothing](ctx, c, "DELETE", "/git-credentials/"+url.PathEscape(host), nil)
	return err
}

// ChangePassword sets another password, and ends all other sign-ins.
func (c *Client) ChangePassword(ctx context.Context, in wire.PasswordChange) error {
	_, err := call[nothing](ctx, c, "PUT", "/me/password", in)
	return err
}

// PutGitCredential sets what one signs in to a git host with.
func (c *Client) PutGitCredential(ctx context.Context, host string, in wire.GitCredential) error {
	_, err := call[nothing](ctx, c, "PUT", "/git-credentials/"+url.PathEscape(host), in)
	return err
}

// People lists the people one may see.
func (c *Client) People(ctx context.Context) ([]wire.Person, error) {
	return all[wire.Person](ctx, c, "/people")
}

// ChangePerson changes somebody's role or team, or closes or opens their account.
func (c *Client) ChangePerson(ctx context.Context, name string, in wire.PersonChange) (wire.Person, error) {
	return call[wire.Person](ctx, c, "PATCH", "/people/"+url.PathEscape(name), in)
}

// ErasePerson takes away everything that is known of somebody whose account is
// closed.
func (c *Client) ErasePerson(ctx context.Context, name string) error {
	_, err := call[nothing](ctx, c, "DELETE", "/people/"+url.PathEscape(name), nil)
	return err
}

// Teams lists the teams.
func (c *Client) Teams(ctx context.Context) ([]wire.Team, error) {
	return all[wire.Team](ctx, c, "/teams")
}

// AddTeam adds a team.
func (c *Client) AddTeam(ctx context.Context, name string) (wire.Team, error) {
	return call[wire.Team](ctx, c, "POST", "/teams", wire.NewTeam{Name: name})
}

// Enrol makes an enrolment link.
func (c *Client) Enrol(ctx context.Context, in wire.NewEnrolment) (wire.Enrolment, error) {
	return call[wire.Enrolment](ctx, c, "POST", "/enrolments", in)
}

// Enrolments lists the links that can still be used.
func (c *Client) Enrolments(ctx context.Context) ([]wire.OpenEnrolment, error) {
	return all[wire.OpenEnrolment](ctx, c, "/enrolments")
}

// EndEnrolment takes back a link that nobody has used.
func (c *Client) EndEnrolment(ctx context.Context, id string) error {
	_, err := call[nothing](ctx, c, "DELETE", "/enrolments/"+url.PathEscape(id), nil)
	return err
}

// Offer tells what an enrolment link is for.
func (c *Client) Offer(ctx context.Context, key string) (wire.EnrolmentOffer, error) {
	return call[wire.EnrolmentOffer](ctx, c, "POST", "/enrolments/offer", wire.EnrolmentKey{Key: key})
}

// UseEnrolment sets up an account, or a new password.
func (c *Client) UseEnrolment(ctx context.Context, in wire.EnrolmentUse) (wire.Person, error) {
	return call[wire.Person](ctx, c, "POST", "/enrolments/use", in)
}

// Tokens lists one's sign-ins and tokens.
func (c *Client) Tokens(ctx context.Context) ([]wire.Token, error) {
	return all[wire.Token](ctx, c, "/tokens")
}

// MakeToken makes a token.
func (c *Client) MakeToken(ctx context.Context, in wire.NewToken) (wire.MadeToken, error) {
	return call[wire.MadeToken](ctx, c, "POST", "/tokens", in)
}

// EndToken ends a sign-in or token.
func (c *Client) EndToken(ctx context.Context, id string) error {
	_, err := call[nothing](ctx, c, "DELETE", "/tokens/"+url.PathEscape(id), nil)
	return err
}

// AddProgram makes an account for programs of a team.
func (c *Client) AddProgram(ctx context.Context, in wire.NewProgram) (wire.Person, error) {
	return call[wire.Person](ctx, c, "POST", "/people", in)
}

// ProgramTokens lists the tokens of an account of programs.
func (c *Client) ProgramTokens(ctx context.Context, name string) ([]wire.Token, error) {
	return all[wire.Token](ctx, c, "/people/"+url.PathEscape(name)+"/tokens")
}

// MakeProgramToken makes a token of an account of programs.
func (c *Client) MakeProgramToken(ctx context.Context, name string, in wire.NewToken) (wire.MadeToken, error) {
	return call[wire.MadeToken](ctx, c, "POST", "/people/"+url.PathEscape(name)+"/tokens", in)
}

// EndProgramToken ends a token of an account of programs.
func (c *Client) EndProgramToken(ctx context.Context, name, id string) error {
	_, err := call[nothing](ctx, c, "DELETE", "/people/"+url.PathEscape(name)+"/tokens/"+url.PathEscape(id), nil)
	return err
}
