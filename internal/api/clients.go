package api

import (
	"context"
	"net/http"
	"net/url"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"yardbench/internal/core/policy"
	"yardbench/internal/service"
	"yardbench/wire"
)

// form is what is sent as one (RFC 6749, appendix B).
type form struct {
	RawBody []byte `contentType:"application/x-www-form-urlencoded"`
}

func (f form) values() url.Values {
	v, _ := url.ParseQuery(string(f.RawBody)) // what is no form has no values
	return v
}

// oauth is an answer in the form of RFC 6749: an error has a status, and is no Problem.
type oauth[T any] struct {
	Status int
	Keep   string `header:"Cache-Control"`
	Body   T
}

// clientRoutes are programs of a person's own that sign in as them by the console.
func clientRoutes(a *API) {
	s := a.svc.Clients
	open := func(path, id, summary string) huma.Operation {
		o := op("POST", path, id, summary, "")
		o.Metadata, o.Security, o.DefaultStatus = public, []map[string][]string{}, http.StatusOK
		return o
	}
	huma.Register(a.huma, open("/oauth/device_authorization", "begin-device", "Have a program without a browser wait for somebody to let it in (RFC 8628)"),
		func(ctx context.Context, in *form) (*oauth[wire.DeviceAuthorization], error) {
			if in.values().Get("client_id") != wire.OAuthClient {
				return &oauth[wire.DeviceAuthorization]{http.StatusBadRequest, "no-store", wire.DeviceAuthorization{Error: "invalid_client"}}, nil
			}
			v, err := s.BeginDevice(ctx, caller(ctx))
			return &oauth[wire.DeviceAuthorization]{http.StatusOK, "no-store", v}, err
		})
	huma.Register(a.huma, open("/oauth/token", "redeem-token", "Give a program the sign-in that somebody lets it have (RFC 6749, RFC 8628)"),
		func(ctx context.Context, in *form) (*oauth[wire.OAuthToken], error) {
			v, err := s.Redeem(ctx, in.values(), caller(ctx))
			out := &oauth[wire.OAuthToken]{http.StatusOK, "no-store", v}
			if v.Error != "" {
				out.Status = http.StatusBadRequest
			}
			return out, err
		})
	type Code struct {
		Code string `path:"code" maxLength:"40"`
	}
	answer(a, op("GET", "/device-requests/{code}", "show-device-request", "Show which program waits with a code to be let in as you", policy.ChangeSelf),
		func(ctx context.Context, who service.Actor, in *Code) (wire.DeviceRequest, error) {
			return s.Device(ctx, who, in.Code, caller(ctx))
		})
	done(a, op("POST", "/device-requests/{code}/answer", "answer-device-request", "Let a program in as you that waits with a code, or not", policy.ChangeSelf),
		func(ctx context.Context, who service.Actor, in *struct {
			Code
			Body wire.DeviceAnswer
		}) error {
			return s.AnswerDevice(ctx, who, in.Code.Code, caller(ctx), in.Body.Allow)
		})
	answer(a, op("POST", "/oauth/codes", "make-code", "Let the command line in as you that waits on this machine (RFC 8252)", policy.ChangeSelf),
		func(ctx context.Context, who service.Actor, in *struct{ Body wire.NewCode }) (wire.MadeCode, error) {
			return s.Code(ctx, who, in.Body)
		})
	a.engine.GET("/.well-known/oauth-authorization-server", func(c *gin.Context) { c.JSON(http.StatusOK, s.Metadata()) })
}
