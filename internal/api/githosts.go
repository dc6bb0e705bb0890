package api

import (
	"context"
	"net/http"
	"net/url"

	"github.com/danielgtaylor/huma/v2"

	"yardbench/internal/core/policy"
	"yardbench/internal/service"
	"yardbench/wire"
)

// lendingName is the cookie of a browser that is at a git host. Another site leads it
// back, so it is sent along with that.
const lendingName = "yardbench_lending"

func gitHostRoutes(a *API) {
	s := a.svc.GitHosts
	list(a, op("GET", "/git-hosts", "list-git-hosts", "List the git hosts that people connect with", policy.SeeSelf), gitHostKind,
		func(ctx context.Context, who service.Actor, _ *Page) ([]wire.GitHost, error) {
			return s.GitHosts(ctx, who)
		})
	answer(a, op("GET", "/git-hosts/{host}", "show-git-host", "Show a git host", policy.SeeSelf),
		func(ctx context.Context, who service.Actor, in *HostPath) (wire.GitHost, error) {
			all, err := s.GitHosts(ctx, who)
			return service.One(all, err, func(v wire.GitHost) bool { return v.Host == in.Host }, "git host", in.Host)
		})
	answer(a, op("PUT", "/git-hosts/{host}", "put-git-host", "Have people connect with a git host (OAuth 2.0), or change how", policy.ChangeProviders),
		func(ctx context.Context, who service.Actor, in *struct {
			HostPath
			Body wire.PutGitHost
		}) (wire.GitHost, error) {
			return s.Put(ctx, who, in.Host, in.Body)
		})
	done(a, op("DELETE", "/git-hosts/{host}", "drop-git-host", "Have nobody connect with a git host any more; what it lent is given back", policy.ChangeProviders),
		func(ctx context.Context, who service.Actor, in *HostPath) error { return s.Drop(ctx, who, in.Host) })
	list(a, op("GET", "/git-hosts/{host}/repositories", "list-hosted-repositories", "List the repositories that a git host lets you read", policy.SeeSelf), hostedKind,
		func(ctx context.Context, who service.Actor, in *struct {
			HostPath
			Page
		}) ([]wire.HostedRepository, error) {
			return s.Repositories(ctx, who, in.Host)
		})
	answer(a, op("POST", "/git-hosts/{host}/codes", "begin-git-host-code", "Connect with a git host by a code that you type there", policy.ChangeSelf),
		func(ctx context.Context, who service.Actor, in *HostPath) (wire.GitHostCode, error) {
			return s.BeginDevice(ctx, who, in.Host)
		})
	answer(a, op("POST", "/git-hosts/{host}/code-answers", "ask-git-host-code", "Ask whether it was typed", policy.ChangeSelf),
		func(ctx context.Context, who service.Actor, in *struct {
			HostPath
			Body wire.GitHostAsk
		}) (wire.GitHostAnswer, error) {
			return s.AskDevice(ctx, who, in.Host, in.Body.Kept)
		})

	// A browser of the console asks where it is to go, and keeps what it must bring back.
	begin := op("POST", "/git-hosts/{host}/connections", "begin-git-host", "Go to a git host to let this service in as you", policy.ChangeSelf)
	huma.Register(a.huma, begin, func(ctx context.Context, in *HostPath) (*struct {
		Cookies []http.Cookie `header:"Set-Cookie"`
		Keep    string        `header:"Cache-Control"`
		Body    wire.Elsewhere
	}, error) {
		address, kept, err := s.Begin(ctx, actor(ctx), in.Host)
		return &struct {
			Cookies []http.Cookie `header:"Set-Cookie"`
			Keep    string        `header:"Cache-Control"`
			Body    wire.Elsewhere
		}{[]http.Cookie{a.lending(kept, 0)}, "no-store", wire.Elsewhere{To: address}}, err
	})
	huma.Register(a.huma, byBrowser("/git-hosts/return", "return-from-git-host", "Come back from a git host; you are connected with it then"),
		func(ctx context.Context, in *struct {
			Kept    string `cookie:"yardbench_lending"`
			Code    string `query:"code" maxLength:"4000"`
			State   string `query:"state" maxLength:"400"`
			Error   string `query:"error" maxLength:"400"`
			Details string `query:"error_description" maxLength:"2000"`
		}) (*led, error) {
			q := url.Values{"code": {in.Code}, "state": {in.State}, "error": {in.Error}, "error_description": {in.Details}}
			over := a.lending("", -1)
			if err := s.Return(ctx, in.Kept, q); err != nil {
				return a.turnedAway("/you", err, over)
			}
			return leads("/you#git-hosts", over), nil
		})
}

// lending is the cookie of a browser at a git host; seconds below 0 take it away.
func (a *API) lending(kept string, seconds int) http.Cookie {
	return http.Cookie{Name: lendingName, Value: kept, Path: "/api/v1/git-hosts/", HttpOnly: true, SameSite: http.SameSiteLaxMode, Secure: a.Secure, MaxAge: seconds}
}

// HostPath is a git host, as it stands in addresses of repositories.
type HostPath struct {
	Host string `path:"host" maxLength:"260"`
}
