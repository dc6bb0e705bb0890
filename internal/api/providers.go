package api

import (
	"cmp"
	"context"
	"errors"
	"net/http"
	"net/url"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"yardbench/internal/core/policy"
	"yardbench/internal/fault"
	"yardbench/internal/service"
	"yardbench/wire"
)

// arrivalName is the cookie of a browser that is at an identity provider to sign in.
// Another site leads it back, so it is sent along with that.
const arrivalName = "yardbench_arrival"

// led sends a browser on.
type led struct {
	Status   int
	Location string `header:"Location"`
	// Keep keeps the answer out of caches: it is somebody's.
	Keep    string        `header:"Cache-Control"`
	Cookies []http.Cookie `header:"Set-Cookie"`
}

func leads(to string, cookies ...http.Cookie) *led {
	return &led{Status: http.StatusSeeOther, Location: to, Keep: "no-store", Cookies: cookies}
}

// byBrowser makes an operation one that a browser comes to by itself, with or without a
// sign-in, and is sent on.
func byBrowser(path, id, summary string) huma.Operation {
	o := op("GET", path, id, summary, "")
	o.Metadata, o.Security, o.DefaultStatus = public, []map[string][]string{}, http.StatusSeeOther
	o.Responses = map[string]*huma.Response{"303": {Description: "Elsewhere", Headers: map[string]*huma.Param{"Location": {Schema: &huma.Schema{Type: "string"}}}}}
	return o
}

// Named is an identity provider by its name.
type Named struct {
	Name string `path:"provider" maxLength:"32"`
}

func providerRoutes(a *API) {
	s := a.svc.Providers
	list(a, op("GET", "/providers", "list-providers", "List the identity providers by which people sign in", policy.SeeProviders), providerKind,
		func(ctx context.Context, who service.Actor, _ *Page) ([]wire.Provider, error) {
			return s.Providers(ctx, who)
		})
	answer(a, op("GET", "/providers/{provider}", "show-provider", "Show an identity provider", policy.SeeProviders),
		func(ctx context.Context, who service.Actor, in *Named) (wire.Provider, error) {
			all, err := s.Providers(ctx, who)
			return service.One(all, err, func(v wire.Provider) bool { return v.Name == in.Name }, "identity provider", in.Name)
		})
	answer(a, op("PUT", "/providers/{provider}", "put-provider", "Have people sign in by an identity provider (OpenID Connect), or change how", policy.ChangeProviders),
		func(ctx context.Context, who service.Actor, in *struct {
			Named
			Body wire.PutProvider
		}) (wire.Provider, error) {
			return s.Put(ctx, who, in.Name, in.Body)
		})
	done(a, op("DELETE", "/providers/{provider}", "drop-provider", "Remove an identity provider; whoever is signed in by it is not any more", policy.ChangeProviders),
		func(ctx context.Context, who service.Actor, in *Named) error { return s.Drop(ctx, who, in.Name) })

	doors := op("GET", "/sign-in", "list-sign-in-doors", "Tell how people sign in here", "")
	doors.Metadata, doors.Security = public, []map[string][]string{}
	answer(a, doors, func(ctx context.Context, _ service.Actor, _ *none) (wire.SignInDoors, error) { return s.Doors(ctx) })

	huma.Register(a.huma, byBrowser("/sign-in/{provider}/begin", "begin-sign-in", "Go to an identity provider to sign in"),
		func(ctx context.Context, in *struct {
			Named
			To    string `query:"to" maxLength:"2000" doc:"The page of the console to come to afterwards"`
			Again bool   `query:"again" doc:"Sign in there anew, whatever one is signed in with"`
		}) (*led, error) {
			address, kept, err := s.Begin(ctx, in.Name, in.To, in.Again)
			if err != nil {
				return a.turnedAway("/", err)
			}
			return leads(address, a.arrival(kept, 0)), nil
		})
	huma.Register(a.huma, byBrowser("/sign-in/{provider}/return", "return-from-provider", "Come back from an identity provider; the browser is signed in then"),
		func(ctx context.Context, in *struct {
			Named
			Kept    string `cookie:"yardbench_arrival"`
			Code    string `query:"code" maxLength:"4000"`
			State   string `query:"state" maxLength:"400"`
			Issuer  string `query:"iss" maxLength:"400"`
			Error   string `query:"error" maxLength:"400"`
			Details string `query:"error_description" maxLength:"2000"`
		}) (*led, error) {
			q := url.Values{"code": {in.Code}, "state": {in.State}, "iss": {in.Issuer}, "error": {in.Error}, "error_description": {in.Details}}
			v, to, err := s.Return(ctx, in.Name, in.Kept, q, caller(ctx))
			over := a.arrival("", -1)
			if err != nil {
				return a.turnedAway(to, err, over)
			}
			return leads(to, over, http.Cookie{Name: a.cookieName(), Value: v.Token, Path: "/", Expires: v.ExpiresAt, HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: a.Secure}), nil
		})
	huma.Register(a.huma, byBrowser("/sign-in/{provider}/over", "leave-provider", "Sign out at an identity provider, too"),
		func(ctx context.Context, in *Named) (*led, error) {
			return leads(cmp.Or(s.Over(ctx, in.Name), "/")), nil
		})

	told := op("POST", "/sign-in/{provider}/signed-out", "tell-signed-out", "Tell of somebody who signed out at an identity provider (OpenID Connect Back-Channel Logout)", "")
	told.Metadata, told.Security, told.DefaultStatus = public, []map[string][]string{}, http.StatusOK
	huma.Register(a.huma, told, func(ctx context.Context, in *struct {
		Named
		RawBody []byte `contentType:"application/x-www-form-urlencoded"`
	}) (*struct {
		Keep string `header:"Cache-Control"`
	}, error) {
		form, err := url.ParseQuery(string(in.RawBody))
		if err == nil {
			err = s.SignedOut(ctx, in.Name, form.Get("logout_token"), caller(ctx))
		}
		if f, ok := errors.AsType[*fault.Fault](err); ok && f.Class == fault.Stranger { // by the specification
			return nil, huma.Error400BadRequest(f.Detail)
		}
		return &struct {
			Keep string `header:"Cache-Control"`
		}{"no-store"}, err
	})
}

// arrival is the cookie of a browser at a provider; seconds below 0 take it away.
func (a *API) arrival(kept string, seconds int) http.Cookie {
	return http.Cookie{Name: arrivalName, Value: kept, Path: "/api/v1/sign-in/", HttpOnly: true, SameSite: http.SameSiteLaxMode, Secure: a.Secure, MaxAge: seconds}
}

// turnedAway leads a browser to the console, which says why nobody was let in: by a
// kind of problem alone, so that no link makes it say anything else.
func (a *API) turnedAway(to string, err error, cookies ...http.Cookie) (*led, error) {
	p := asProblem(err)
	kind := strings.TrimPrefix(p.Type, wire.ProblemPrefix)
	if p.Status == http.StatusInternalServerError {
		return nil, err
	}
	u, _ := url.Parse(to)
	if u == nil {
		u = &url.URL{Path: "/"}
	}
	q := u.Query()
	q.Set("refused", kind)
	u.RawQuery = q.Encode()
	return leads(u.String(), cookies...), nil
}
