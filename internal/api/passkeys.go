package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"yardbench/internal/core/policy"
	"yardbench/internal/service"
	"yardbench/wire"
)

func passkeyRoutes(a *API) {
	s := a.svc.Passkeys
	list(a, op("GET", "/passkeys", "list-passkeys", "List your passkeys, by which you sign in to the console without a password", policy.SeeSelf), passkeyKind,
		func(ctx context.Context, who service.Actor, _ *Page) ([]wire.Passkey, error) {
			return s.List(ctx, who)
		})
	type path struct {
		ID string `path:"id" maxLength:"1400"`
	}
	answer(a, op("GET", "/passkeys/{id}", "show-passkey", "Show a passkey of yours", policy.SeeSelf),
		func(ctx context.Context, who service.Actor, in *path) (wire.Passkey, error) {
			all, err := s.List(ctx, who)
			return service.One(all, err, func(v wire.Passkey) bool { return v.ID == in.ID }, "passkey", in.ID)
		})
	answer(a, op("POST", "/passkey-questions", "ask-for-passkey", "Ask a browser of yours for a new passkey", policy.ChangeSelf),
		func(ctx context.Context, who service.Actor, _ *none) (wire.PasskeyQuestion, error) {
			return s.Ask(ctx, who)
		})
	made(a, op("POST", "/passkeys", "make-passkey", "Make yourself a passkey of a browser's answer", policy.ChangeSelf),
		func(v wire.Passkey) string { return "/passkeys/" + v.ID }, nil,
		func(ctx context.Context, who service.Actor, in *struct{ Body wire.NewPasskey }) (wire.Passkey, error) {
			return s.Make(ctx, who, in.Body, from(ctx))
		})
	done(a, op("DELETE", "/passkeys/{id}", "drop-passkey", "Forget a passkey of yours", policy.ChangeSelf), func(ctx context.Context, who service.Actor, in *path) error { return s.Drop(ctx, who, in.ID) })

	ask := op("POST", "/sign-in-questions", "ask-who", "Ask a browser for whoever has a passkey", "")
	ask.Metadata, ask.Security = public, []map[string][]string{}
	answer(a, ask, func(context.Context, service.Actor, *none) (wire.PasskeyQuestion, error) { return s.AskWho() })
	in := op("POST", "/passkey-sign-ins", "sign-in-by-passkey", "Sign in to the console with a passkey", "")
	in.Metadata, in.Security = public, []map[string][]string{}
	huma.Register(a.huma, in, func(ctx context.Context, in *struct{ Body wire.PasskeySignIn }) (*struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
		Body      wire.SignedIn
	}, error) {
		v, err := s.SignIn(ctx, in.Body, caller(ctx))
		if err != nil {
			return nil, err
		}
		cookie := http.Cookie{Name: a.cookieName(), Value: v.Token, Path: "/", Expires: v.ExpiresAt, HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: a.Secure}
		v.Token = ""
		return &struct {
			SetCookie http.Cookie `header:"Set-Cookie"`
			Body      wire.SignedIn
		}{cookie, v}, nil
	})
}
