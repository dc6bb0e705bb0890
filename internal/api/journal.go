package api

import (
	"context"
	"errors"
	"io"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"yardbench/internal/core/policy"
	"yardbench/internal/service"
	"yardbench/wire"
)

// jsonLines is one JSON text a line (jsonlines.org).
const jsonLines = "application/jsonl"

func journalRoutes(a *API) {
	s := a.svc
	entries := op("GET", "/journal", "list-journal", "List journal entries, the oldest first", policy.SeeJournal)
	entries.Description = "Without after or before the oldest come first. With before, or with newest, the newest come first, and next is a before."
	answer(a, entries, func(ctx context.Context, who service.Actor, in *struct {
		After      int64  `query:"after" minimum:"0" doc:"Entries after this number"`
		Before     int64  `query:"before" minimum:"0" doc:"Entries before this number, the newest first"`
		Newest     bool   `query:"newest" doc:"The newest first, instead of the oldest"`
		Workspace  string `query:"workspace" maxLength:"80" doc:"Of this one, NAME or NAME.OWNER; where there is none of the name, of the last that was"`
		Repository string `query:"repository" maxLength:"64" doc:"Of this one: what was changed of it and of its prebuild plans, not what was launched from it"`
		Person     string `query:"person" maxLength:"64" doc:"Whose matter it is, or who did it"`
		Kind       string `query:"kind" maxLength:"60" doc:"What the kind begins with, like workspace.phase"`
		From       string `query:"from" maxLength:"40" doc:"A time, or a day in the house's time zone"`
		To         string `query:"to" maxLength:"40" doc:"The time or day after the last"`
		Limit      int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
	}) (wire.List[wire.JournalEntry], error) {
		var v wire.List[wire.JournalEntry]
		from, err := a.time(ctx, "from", in.From)
		if err != nil {
			return v, err
		}
		to, err := a.time(ctx, "to", in.To)
		if err != nil {
			return v, err
		}
		if v.AsOf, err = s.Journal.Newest(ctx); err != nil {
			return v, err
		}
		v.Items, err = s.Journal.Journal(ctx, who, service.JournalQuery{After: in.After, Before: in.Before, Newest: in.Newest || in.Before > 0, Workspace: in.Workspace, Repository: in.Repository, Person: in.Person, Kind: in.Kind, From: from, To: to, Limit: in.Limit})
		if n := len(v.Items); n > 0 && n == in.Limit {
			v.Next = strconv.FormatInt(v.Items[n-1].Number, 10)
		}
		return v, err
	})
	answer(a, op("GET", "/journal/{number}", "show-journal-entry", "Show a journal entry", policy.SeeJournal),
		func(ctx context.Context, who service.Actor, in *struct {
			Number int64 `path:"number" minimum:"1"`
		}) (wire.JournalEntry, error) {
			some, err := s.Journal.Journal(ctx, who, service.JournalQuery{After: in.Number - 1, Before: in.Number + 1, Limit: 1})
			return service.One(some, err, func(e wire.JournalEntry) bool { return e.Number == in.Number }, "journal entry", strconv.FormatInt(in.Number, 10))
		})
	answer(a, op("GET", "/journal/head", "show-journal-head", "The journal's newest entry, signed", policy.SeeWholeJournal),
		func(ctx context.Context, who service.Actor, _ *none) (wire.JournalHead, error) {
			return s.Journal.JournalHead(ctx, who)
		})
	answer(a, op("POST", "/journal/verify", "verify-journal", "Look through the whole journal, and hold it against heads that were given out", policy.SeeWholeJournal),
		func(ctx context.Context, who service.Actor, in *struct{ Body wire.JournalHeads }) (wire.JournalVerdict, error) {
			return s.Journal.VerifyJournal(ctx, who, in.Body)
		})
	export := op("GET", "/journal/export", "export-journal", "Journal entries as CloudEvents 1.0, one a line, and last the signed head", policy.SeeWholeJournal)
	export.Responses = map[string]*huma.Response{"200": {Description: "JSON Lines", Content: map[string]*huma.MediaType{jsonLines: {}}}}
	huma.Register(a.huma, export, func(ctx context.Context, in *struct {
		After      int64  `query:"after" minimum:"0" doc:"Entries after this number"`
		Kind       string `query:"kind" maxLength:"60" doc:"What the kind begins with"`
		Workspace  string `query:"workspace" maxLength:"80" doc:"Of this one"`
		Repository string `query:"repository" maxLength:"64" doc:"Of this one"`
		Person     string `query:"person" maxLength:"64" doc:"Whose matter it is, or who did it"`
		From       string `query:"from" maxLength:"40" doc:"A time, or a day in the house's time zone"`
		To         string `query:"to" maxLength:"40" doc:"The time or day after the last"`
	}) (*huma.StreamResponse, error) {
		who := actor(ctx)
		from, err := a.time(ctx, "from", in.From)
		if err != nil {
			return nil, err
		}
		to, err := a.time(ctx, "to", in.To)
		if err != nil {
			return nil, err
		}
		q := service.JournalQuery{After: in.After, Kind: in.Kind, Workspace: in.Workspace, Repository: in.Repository, Person: in.Person, From: from, To: to}
		// What cannot be exported is told before the first line.
		if err := s.Journal.ExportJournal(ctx, who, q, stopAtOnce{}, func() {}); err != nil && !errors.Is(err, errStop) {
			return nil, err
		}
		return a.data(jsonLines, func(ctx context.Context, w io.Writer, flush func()) error {
			return s.Journal.ExportJournal(ctx, who, q, w, flush)
		}), nil
	})
}

var errStop = errors.New("enough was written")

// stopAtOnce takes nothing.
type stopAtOnce struct{}

func (stopAtOnce) Write([]byte) (int, error) { return 0, errStop }
