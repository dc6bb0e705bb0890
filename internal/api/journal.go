package api

import (
	"context"
	"errors"
	"io"

	"github.com/danielgtaylor/huma/v2"

	"yardbench/internal/core/policy"
	"yardbench/internal/service"
	"yardbench/internal/wire"
)

// jsonLines is one JSON text a line (jsonlines.org).
const jsonLines = "application/jsonl"

func journalRoutes(a *API) {
	s := a.svc
	answer(a, op("GET", "/journal/head", "show-journal-head", "The journal's newest entry, signed", policy.SeeWholeJournal),
		func(ctx context.Context, who service.Actor, _ *none) (wire.JournalHead, error) {
			return s.Journal.JournalHead(ctx, who)
		})
	answer(a, op("POST", "/journal/verify", "verify-journal", "Look through the whole journal, and hold it against heads that were given out", policy.SeeWholeJournal),
		func(ctx context.Context, who service.Actor, in *struct{ Body wire.JournalHeads }) (wire.JournalVerdict, error) {
			return s.Journal.VerifyJournal(ctx, who, in.Body.Heads)
		})
	export := op("GET", "/journal/export", "export-journal", "Journal entries as CloudEvents 1.0, one a line, and last the signed head", policy.SeeWholeJournal)
	export.Responses = map[string]*huma.Response{"200": {Description: "JSON Lines", Content: map[string]*huma.MediaType{jsonLines: {}}}}
	huma.Register(a.huma, export, func(ctx context.Context, in *struct {
		After int64  `query:"after" minimum:"0" doc:"Entries after this number"`
		Kind  string `query:"kind" maxLength:"60" doc:"What the kind begins with"`
	}) (*huma.StreamResponse, error) {
		who := actor(ctx)
		// What cannot be exported is told before the first line.
		if err := s.Journal.ExportJournal(ctx, who, in.After, in.Kind, stopAtOnce{}, func() {}); err != nil && !errors.Is(err, errStop) {
			return nil, err
		}
		return a.data(jsonLines, func(ctx context.Context, w io.Writer, flush func()) error {
			return s.Journal.ExportJournal(ctx, who, in.After, in.Kind, w, flush)
		}), nil
	})
}

var errStop = errors.New("enough was written")

// stopAtOnce takes nothing.
type stopAtOnce struct{}

func (stopAtOnce) Write([]byte) (int, error) { return 0, errStop }
