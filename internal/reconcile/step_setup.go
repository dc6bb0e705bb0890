package reconcile

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"yardbench/internal/core/definition"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/steward"
	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
	"yardbench/internal/yard"
)

// setUpStep runs the commands of one moment.
type setUpStep struct{ *doing }

// errSetUp says that a set-up command failed: the workspace comes up marked.
var errSetUp = errors.New("set-up failed")

// do runs the commands of one moment, side by side.
func (d setUpStep) do(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, setUpTimeout)
	defer cancel()
	switch d.mv.Moment {
	case definition.Personal:
		return personalStep{d}.do(ctx)
	case definition.Luggage:
		return luggageStep{d}.do(ctx)
	}
	err := d.layers(ctx)
	if err == nil || !errors.Is(err, errSetUp) {
		return err
	}
	text := strings.ReplaceAll(err.Error(), "\n", "; ")
	if d.w.Kind == store.ForPrebuild {
		return errors.New(text) // a prepared image whose set-up failed serves nobody
	}
	d.set = func(tx *store.Tx, w *store.Workspace) error {
		return tx.SetCondition(d.ctx, *w, lifecycle.SetUpFailed, text)
	}
	return fmt.Errorf("%w%s", errSetUp, strings.TrimPrefix(text, errSetUp.Error()))
}

// layers runs what each layer has for a moment, one after the other: what the
// image and its features bring, then what the definition says.
func (d setUpStep) layers(ctx context.Context) error {
	m := d.mv.Moment
	if m == definition.Services {
		return servicesStep(d).do(ctx)
	}
	first := 0
	for _, layer := range d.w.Target().Definition.At(m) {
		if layer.From != "" {
			fmt.Fprintf(d.log, "-- %s of %s\n", m, layer.From)
		}
		results := make([]error, len(layer.Commands))
		var wg sync.WaitGroup
		for n, c := range layer.Commands {
			wg.Go(func() { results[n] = d.command(ctx, first+n, c, len(layer.Commands) > 1) })
		}
		wg.Wait()
		first += len(layer.Commands)
		for _, err := range results {
			if err != nil && !errors.Is(err, errSetUp) {
				return err
			}
		}
		if err := errors.Join(results...); err != nil {
			return err
		}
	}
	return nil
}

func (d setUpStep) command(ctx context.Context, n int, c definition.Command, several bool) error {
	m, session := d.mv.Moment, d.session
	name := string(m)
	var out io.Writer = d.log
	if several {
		label := c.Label
		if label == "" {
			label = strconv.Itoa(n + 1)
		}
		name += " " + label
		parts, start := map[string]store.Step{}, time.Now()
		d.subStep(ctx, parts, yard.Progress{ID: label, Title: label, StartedAt: &start})
		lines := &labelled{to: d.log, label: label}
		defer lines.Close()
		masked := d.opened.Mask.Masker(lines) // before a label stands in the middle of a value
		defer masked.Close()
		out = masked
		defer func() { // the sheet shows each command's own time
			end := time.Now()
			d.subStep(ctx, parts, yard.Progress{ID: label, Title: label, StartedAt: &start, EndedAt: &end})
		}()
	}
	session.Env = maps.Clone(session.Env)
	session.Argv = c.Argv()
	r := steward.Request{Kind: steward.SetUp, ID: d.sheet.ID + "." + string(m) + "." + strconv.Itoa(n), Process: session}
	conn, err := d.hub.Ask(ctx, outside.Link(d.w.ID, d.body), r)
	if err != nil {
		return d.lost(ctx, err)
	}
	defer conn.Stream.Close()
	x, err := outside.Follow(ctx, conn, out)
	switch {
	case err != nil:
		return d.lost(ctx, err)
	case x.Interrupted:
		return fmt.Errorf("%w: %s was cut off by the end of its container and is not run again; run it by hand, or rebuild", errSetUp, name)
	case x.Problem != "":
		return fmt.Errorf("%w: %s cannot be run: %s", errSetUp, name, d.masked(x.Problem))
	case x.Code != 0:
		what := fmt.Errorf("%w: %s ended with exit code %d", errSetUp, name, x.Code)
		if last := d.log.lastLine(); last != "" {
			what = fmt.Errorf("%w, its last line: %s", what, last)
		}
		return what
	}
	return nil
}

// labelled puts a command's label before each of its lines, so that several
// can share a log.
type labelled struct {
	mu    sync.Mutex
	to    io.Writer
	label string
	line  []byte
}

func (l *labelled) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.line = append(l.line, p...)
	for {
		i := slices.Index(l.line, '\n')
		if i < 0 && len(l.line) < 8192 {
			return len(p), nil
		}
		if i < 0 {
			i = len(l.line) - 1
		}
		if _, err := fmt.Fprintf(l.to, "%s | %s", l.label, l.line[:i+1]); err != nil {
			return 0, err
		}
		l.line = append([]byte(nil), l.line[i+1:]...)
	}
}

// Close passes on a last line without an end.
func (l *labelled) Close() {
	if len(l.line) > 0 {
		_, _ = l.Write([]byte("\n")) // a full disk shows at the log's Close
	}
}
