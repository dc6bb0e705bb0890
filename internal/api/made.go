package api

import (
	"context"
	"encoding/json"
	"log/slog"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"yardbench/internal/service"
	"yardbench/wire"
)

// keyHeader is the key of whoever asks; see the draft "The Idempotency-Key HTTP
// Header Field" of the IETF.
const keyHeader = "Idempotency-Key"

type askedKey struct{}

// madeOut is the answer of what was made, and where it is.
type madeOut[T any] struct {
	Location string `header:"Location" doc:"Where it is read"`
	ETag     string `header:"ETag" doc:"Which state of it this is, where several people change it"`
	Body     T
}

// made registers an operation that makes something: it is answered 201, or as the
// operation says, with its place; and it is done once for each key, however often
// it is asked. again gives the answer once more, by whom the making was about; nil
// where what is answered is not to be had again: then it is kept.
func made[In, Out any](a *API, o huma.Operation, place func(Out) string, again func(ctx context.Context, who service.Actor, subject string) (Out, error), do func(ctx context.Context, who service.Actor, in *In) (Out, error)) {
	if o.DefaultStatus == 0 {
		o.DefaultStatus = http.StatusCreated
	}
	huma.Register(a.huma, keyed(o), func(ctx context.Context, in *In) (*madeOut[Out], error) {
		who := actor(ctx)
		key, _ := ctx.Value(askedKey{}).(string)
		v, err := once(a, ctx, who, key, o.OperationID, in, again, do)
		if err != nil {
			return nil, err
		}
		return &madeOut[Out]{"/api/v1" + place(v), tagOf(v), v}, nil
	})
}

// keyed says of an operation that it takes a key, where it is known whose.
func keyed(o huma.Operation) huma.Operation {
	if o.Security == nil {
		most := 255
		o.Parameters = append(o.Parameters, &huma.Param{Name: keyHeader, In: "header", Description: "A random key of whoever asks: what is asked again with it within a day is not done again, and is answered as the first time", Schema: &huma.Schema{Type: huma.TypeString, MaxLength: &most}})
	}
	return o
}

// asked registers a verb of a workspace, which is done once for each key too.
func asked[In any](a *API, o huma.Operation, do func(ctx context.Context, who service.Actor, in *In) (wire.Workspace, error)) {
	o.DefaultStatus = http.StatusAccepted
	answer(a, matching(keyed(o)), func(ctx context.Context, who service.Actor, in *In) (wire.Workspace, error) {
		key, _ := ctx.Value(askedKey{}).(string)
		return once(a, ctx, who, key, o.OperationID, in, a.svc.Workspaces.Made, do)
	})
}

// once does what is asked with a key, if it was not done before.
func once[In, Out any](a *API, ctx context.Context, who service.Actor, key, operation string, in *In, again func(context.Context, service.Actor, string) (Out, error), do func(context.Context, service.Actor, *In) (Out, error)) (v Out, err error) {
	ctx, k, err := a.svc.Twice.Begin(ctx, who, key, operation, in)
	if err != nil {
		return v, err
	}
	defer k.End()
	switch {
	case k.Answer != nil:
		return v, json.Unmarshal(k.Answer, &v)
	case k.Before && again != nil:
		return again(ctx, who, k.Subject)
	case k.Before:
		return v, service.AnswerLost()
	}
	if v, err = do(ctx, who, in); err != nil || again != nil {
		return v, err
	}
	if err := k.Keep(ctx, v); err != nil {
		slog.Warn("an answer is not kept: whoever asks again is told that it was done", "operation", operation, "error", err)
	}
	return v, nil
}
