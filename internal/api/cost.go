package api

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"yardbench/internal/core/cost"
	"yardbench/internal/core/policy"
	"yardbench/internal/service"
	"yardbench/wire"
)

// costQuery says what is to be reported.
type costQuery struct {
	By   string `query:"by" enum:"person,team,repository,workspace,day" default:"team"`
	From string `query:"from" maxLength:"40" doc:"A time, or a day in the house's time zone; default: the first of this month"`
	To   string `query:"to" maxLength:"40" doc:"The time or day after the last; default: the end of this month"`

	Team       string `query:"team" maxLength:"40" doc:"Only what was this team's"`
	Person     string `query:"person" maxLength:"64" doc:"Only what was theirs; prebuilds are nobody's"`
	Repository string `query:"repository" maxLength:"80"`
	Workspace  string `query:"workspace" maxLength:"120" doc:"Only this one, NAME.OWNER; also one that is removed"`
}

// time reads a time or a day; the zero time for nothing.
func (a *API) time(ctx context.Context, field, s string) (time.Time, error) {
	if s == "" {
		return time.Time{}, nil
	}
	if t, err := time.Parse(time.RFC3339, s); err == nil {
		return t, nil
	}
	zone, err := a.svc.HouseRules.Zone(ctx)
	if err != nil {
		return time.Time{}, err
	}
	t, err := time.ParseInLocation(time.DateOnly, s, zone)
	if err != nil {
		return t, &wire.Problem{Type: "urn:yardbench:problem:invalid", Title: "Unprocessable Entity", Status: http.StatusUnprocessableEntity,
			Detail: fmt.Sprintf("%s %q is no day and no time", field, s), Next: "write a day like 2026-11-01, or a time like 2026-11-01T08:00:00Z"}
	}
	return t, nil
}

func (a *API) cost(ctx context.Context, who service.Actor, in costQuery) (wire.Cost, error) {
	from, err := a.time(ctx, "from", in.From)
	if err != nil {
		return wire.Cost{}, err
	}
	to, err := a.time(ctx, "to", in.To)
	if err != nil {
		return wire.Cost{}, err
	}
	return a.svc.Costs.Cost(ctx, who, in.By, cost.Only{Team: in.Team, Person: in.Person, Repository: in.Repository, Workspace: in.Workspace}, from, to)
}

func costRoutes(a *API) {
	answer(a, op("GET", "/cost", "report-cost", "What was used, and what it cost, of those whom you may see", policy.SeeCost),
		func(ctx context.Context, who service.Actor, in *costQuery) (wire.Cost, error) {
			return a.cost(ctx, who, *in)
		})
	asCSV := op("GET", "/cost.csv", "report-cost-csv", "The same as comma-separated values (RFC 4180)", policy.SeeCost)
	asCSV.Responses = map[string]*huma.Response{"200": {Description: "The report", Content: map[string]*huma.MediaType{"text/csv": {}}}}
	huma.Register(a.huma, asCSV, func(ctx context.Context, in *costQuery) (*huma.StreamResponse, error) {
		c, err := a.cost(ctx, actor(ctx), *in)
		if err != nil {
			return nil, err
		}
		zone, err := a.svc.HouseRules.Zone(ctx)
		if err != nil {
			return nil, err
		}
		return &huma.StreamResponse{Body: func(h huma.Context) {
			h.SetHeader("Content-Type", "text/csv; charset=utf-8")
			h.SetHeader("Content-Disposition", fmt.Sprintf(`attachment; filename="cost-by-%s-%s.csv"`, c.By, c.From.In(zone).Format(time.DateOnly)))
			_ = service.WriteCostCSV(h.BodyWriter(), c) // whoever asked may be gone
		}}, nil
	})
}
