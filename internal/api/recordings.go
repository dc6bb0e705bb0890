package api

import (
	"context"
	"io"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"yardbench/internal/core/cast"
	"yardbench/internal/core/policy"
	"yardbench/internal/service"
	"yardbench/wire"
)

// recordingRoutes are what terminals printed and was kept.
func recordingRoutes(a *API) {
	s := a.svc.Recordings
	type Path struct {
		ID string `path:"recording" maxLength:"40"`
	}
	list(a, op("GET", "/recordings", "list-recordings", "List the recordings of terminals that you may see, the newest first", policy.SeeRecordings), recordingKind,
		func(ctx context.Context, who service.Actor, _ *Page) ([]wire.Recording, error) {
			return s.Recordings(ctx, who)
		})
	made(a, op("POST", "/recordings", "begin-recording", "Record a terminal of yours from now on", policy.UseWorkspace),
		func(v wire.Recording) string { return "/recordings/" + v.ID }, s.Show,
		func(ctx context.Context, who service.Actor, in *struct{ Body wire.NewRecording }) (wire.Recording, error) {
			return s.Record(ctx, who, in.Body)
		})
	answer(a, op("GET", "/recordings/{recording}", "show-recording", "Show a recording", policy.SeeRecordings),
		func(ctx context.Context, who service.Actor, in *Path) (wire.Recording, error) {
			return s.Show(ctx, who, in.ID)
		})
	answer(a, op("POST", "/recordings/{recording}/end", "end-recording", "End a recording that you asked for", policy.SeeRecordings),
		func(ctx context.Context, who service.Actor, in *Path) (wire.Recording, error) {
			return s.Stop(ctx, who, in.ID)
		})
	done(a, op("DELETE", "/recordings/{recording}", "remove-recording", "Remove a recording that you asked for", policy.SeeRecordings),
		func(ctx context.Context, who service.Actor, in *Path) error { return s.Drop(ctx, who, in.ID) })
	o := op("GET", "/recordings/{recording}/content", "read-recording", "Read what a recording holds, as far as it has come", policy.SeeRecordings)
	o.Responses = map[string]*huma.Response{"200": {Description: "A file in the format asciicast, version 2", Content: map[string]*huma.MediaType{cast.MediaType: {Schema: &huma.Schema{Type: "string", Format: "binary"}}}}}
	huma.Register(a.huma, o, func(ctx context.Context, in *Path) (*huma.StreamResponse, error) {
		f, err := s.Content(ctx, actor(ctx), in.ID)
		if err != nil {
			return nil, err
		}
		return &huma.StreamResponse{Body: func(c huma.Context) {
			defer f.Close()
			c.SetHeader("Content-Type", cast.MediaType)
			c.SetHeader("Content-Disposition", `attachment; filename="`+in.ID+`.cast"`)
			c.SetHeader("X-Content-Type-Options", "nosniff")
			c.SetStatus(http.StatusOK)
			_, _ = io.Copy(c.BodyWriter(), f) // whoever reads may have gone
		}}, nil
	})
}
