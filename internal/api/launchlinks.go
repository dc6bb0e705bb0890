package api

import (
	"bytes"
	"context"
	"html/template"
	"net/http"
	"unicode/utf8"

	"github.com/danielgtaylor/huma/v2"
	"rsc.io/qr"

	"yardbench/internal/core/policy"
	"yardbench/internal/service"
	"yardbench/wire"
)

// LinkID is a launch link by what stands in its address.
type LinkID struct {
	ID string `path:"link" maxLength:"40"`
}

func launchLinkRoutes(a *API) {
	s := a.svc.LaunchLinks
	list(a, op("GET", "/launch-links", "list-launch-links", "List the launch links, the newest first", policy.SeeLinks), launchLinkKind,
		func(ctx context.Context, who service.Actor, _ *Page) ([]wire.LaunchLink, error) {
			return s.List(ctx, who)
		})
	answer(a, op("GET", "/launch-links/{link}", "show-launch-link", "Show a launch link", policy.SeeLinks),
		func(ctx context.Context, who service.Actor, in *LinkID) (wire.LaunchLink, error) {
			return s.Show(ctx, who, in.ID)
		})
	made(a, op("POST", "/launch-links", "make-launch-link", "Make a launch link: a prepared choice behind one short address", policy.ChangeLinks),
		func(v wire.LaunchLink) string { return "/launch-links/" + v.ID }, s.Show,
		func(ctx context.Context, who service.Actor, in *struct{ Body wire.NewLaunchLink }) (wire.LaunchLink, error) {
			return s.Make(ctx, who, in.Body)
		})
	answer(a, matching(op("PATCH", "/launch-links/{link}", "change-launch-link", "Change who may use a launch link, how many, until when, and whether at all", policy.ChangeLinks)),
		func(ctx context.Context, who service.Actor, in *struct {
			LinkID
			Body wire.LaunchLinkChange
		}) (wire.LaunchLink, error) {
			return s.Change(ctx, who, in.ID, in.Body)
		})
	done(a, op("DELETE", "/launch-links/{link}", "drop-launch-link", "Withdraw a launch link; the workspaces that came of it stay", policy.ChangeLinks),
		func(ctx context.Context, who service.Actor, in *LinkID) error { return s.Drop(ctx, who, in.ID) })
	list(a, op("GET", "/launch-links/{link}/uses", "list-link-uses", "List who came by a launch link, the newest first", policy.SeeLinks), linkUseKind,
		func(ctx context.Context, who service.Actor, in *struct {
			LinkID
			Page
		}) ([]wire.LinkUse, error) {
			return s.Uses(ctx, who, in.ID)
		})
	answer(a, op("GET", "/launch-links/{link}/offer", "show-link-offer", "Show what a launch link comes to for you", policy.Launch),
		func(ctx context.Context, who service.Actor, in *LinkID) (wire.LinkOffer, error) {
			return s.Offer(ctx, who, in.ID)
		})
	answer(a, op("POST", "/launch-links/{link}/use", "use-launch-link", "Have a workspace of your own by a launch link, or come back to the one you have", policy.Launch),
		func(ctx context.Context, who service.Actor, in *LinkID) (wire.UsedLink, error) {
			return s.Use(ctx, who, in.ID)
		})

	picture := func(path, id, summary, kind string, draw func(ctx context.Context, in *LinkID) ([]byte, error)) {
		o := op("GET", "/launch-links/{link}/"+path, id, summary, "")
		o.Metadata, o.Security = public, []map[string][]string{}
		o.Responses = map[string]*huma.Response{"200": {Description: "The picture", Content: map[string]*huma.MediaType{kind: {}}}}
		huma.Register(a.huma, o, func(ctx context.Context, in *LinkID) (*drawn, error) {
			body, err := draw(ctx, in)
			return &drawn{kind, "max-age=300", "cross-origin", body}, err
		})
	}
	picture("badge.svg", "draw-link-badge", "Draw the badge of a launch link, for a page or a README", "image/svg+xml", func(ctx context.Context, in *LinkID) ([]byte, error) {
		title, usable, ok, err := s.Plate(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		if !ok {
			title = "no such link"
		}
		return badge(title, ok && usable)
	})
	picture("qr.png", "draw-link-qr", "Draw the address of a launch link as a QR code (ISO/IEC 18004)", "image/png", func(ctx context.Context, in *LinkID) ([]byte, error) {
		if _, _, ok, err := s.Plate(ctx, in.ID); err != nil || !ok {
			return nil, newProblem(http.StatusNotFound, "there is no such launch link", err)
		}
		c, err := qr.Encode(s.Address(in.ID), qr.M)
		if err != nil {
			return nil, err
		}
		c.Scale = 6
		return c.PNG(), nil
	})
}

// drawn is a picture, which pages of others may show.
type drawn struct {
	Kind   string `header:"Content-Type"`
	Keep   string `header:"Cache-Control"`
	Policy string `header:"Cross-Origin-Resource-Policy"`
	Body   []byte
}

var badgePlate = template.Must(template.New("").Parse(`<svg xmlns="http://www.w3.org/2000/svg" width="{{.Width}}" height="28" role="img" aria-label="{{.Says}}"><rect width="{{.Width}}" height="28" rx="3" fill="#fffdf8" stroke="#5b6a75"/><g transform="translate(8 6) scale(.5)"><path d="M4 12h24v5H4z" fill="{{.Top}}"/><path d="M7 17h4v10H7zM21 17h4v10h-4z" fill="#1f7a67"/><path d="M11 21h10v2H11z" fill="#1f7a67"/></g><text x="32" y="18.5" font-family="'Source Sans 3','Noto Sans','DejaVu Sans',sans-serif" font-size="13" fill="#16283a">{{.Says}}</text></svg>`))

// badge draws a small plate that says what a link launches.
func badge(title string, usable bool) ([]byte, error) {
	of := struct {
		Says, Top string
		Width     int
	}{title, "#c8501e", 0}
	if !usable {
		of.Says, of.Top = title+" (closed)", "#5b6a75"
	}
	of.Width = 44 + utf8.RuneCountInString(of.Says)*8
	var b bytes.Buffer
	err := badgePlate.Execute(&b, of)
	return b.Bytes(), err
}
