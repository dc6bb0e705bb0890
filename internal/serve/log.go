package serve

import (
	"context"
	"io"
	"log/slog"
	"time"

	"yardbench/internal/store"
)

// Log makes the service's log: lines with a time and its zone, a level and named values, as
// text or as JSON.
func Log(to io.Writer, asJSON bool, least slog.Level) *slog.Logger {
	o := &slog.HandlerOptions{Level: least}
	if asJSON {
		return slog.New(slog.NewJSONHandler(to, o))
	}
	return slog.New(slog.NewTextHandler(to, o))
}

// naming adds to what is logged of a workspace, which the code knows by its id, what people
// know it by: its name, its owner and its repository.
type naming struct {
	slog.Handler
	store *store.Store
}

func (h naming) Handle(ctx context.Context, r slog.Record) error {
	id := ""
	r.Attrs(func(a slog.Attr) bool {
		if a.Key == "workspace" && a.Value.Kind() == slog.KindString {
			id = a.Value.String()
		}
		return id == ""
	})
	if id == "" {
		return h.Handler.Handle(ctx, r)
	}
	// The log must not wait for a database that does not answer.
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
	defer cancel()
	q := h.store.Read()
	if w, err := q.WorkspaceByID(ctx, id); err == nil {
		r = r.Clone()
		r.AddAttrs(slog.String("name", w.Name))
		if p, err := q.PersonByID(ctx, w.OwnerID); err == nil {
			r.AddAttrs(slog.String("owner", p.Name))
		}
		if of, err := q.RepositoryByID(ctx, w.RepositoryID); err == nil {
			r.AddAttrs(slog.String("repository", of.Name))
		}
	}
	return h.Handler.Handle(ctx, r)
}

func (h naming) WithAttrs(attrs []slog.Attr) slog.Handler {
	return naming{h.Handler.WithAttrs(attrs), h.store}
}

func (h naming) WithGroup(name string) slog.Handler {
	return naming{h.Handler.WithGroup(name), h.store}
}

// named has the log name workspaces until the returned function is called.
func named(log *slog.Logger, st *store.Store) (end func()) {
	if log == nil { // nor may what is there by default be wrapped: it would log to itself
		return func() {}
	}
	slog.SetDefault(slog.New(naming{log.Handler(), st}))
	return func() { slog.SetDefault(log) }
}
