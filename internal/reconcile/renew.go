package reconcile

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"yardbench/internal/core/definition"
	"yardbench/internal/core/plain"
	"yardbench/internal/steward"
	"yardbench/internal/steward/outside"
	"yardbench/internal/store"
)

const (
	renewTimeout = 2 * time.Minute // of what was begun anew; what takes longer goes on by itself
	maxRenewed   = 16 << 10        // bytes of what each said
)

// ErrRenewing is that it is done already.
var ErrRenewing = errors.New("it is begun anew just now")

// Renewed is one command of a definition that was begun anew.
type Renewed struct {
	Command string // its moment, with its label where it has one
	Exit    *steward.Exit
	Output  string // the end of what it said, masked
}

// Renew ends what the commands of each start have left running in a workspace, and
// begins those commands anew: they have the secrets as they are now.
func (k *Status) Renew(ctx context.Context, w store.Workspace) (out []Renewed, secrets map[string]int, err error) {
	w.NextPlan = nil // the body in use, not what a rebuild is making
	if _, busy := k.renewing.LoadOrStore(w.ID, true); busy {
		return nil, nil, ErrRenewing
	}
	defer k.renewing.Delete(w.ID)
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), renewTimeout) // what was ended is begun again, whoever waits
	defer cancel()
	process, opened, err := k.sessions.Of(ctx, w)
	if err != nil {
		return nil, nil, err
	}
	defer k.sessions.Asking().WriteDown(w.ID, opened.Mask)()
	c, err := k.hub.Ask(ctx, outside.Link(w.ID, w.Body), steward.Request{Kind: steward.EndLeft, ID: string(definition.PostStart)})
	if err != nil {
		return nil, nil, err
	}
	defer c.Stream.Close()
	var left steward.Left
	if err := c.ReceiveAtMost(&left, steward.MaxAsked); err != nil {
		return nil, nil, fmt.Errorf("%w: %w", outside.ErrAway, err)
	}
	if len(left.Ended) == 0 {
		return nil, nil, nil
	}
	if err := k.sessions.Used(ctx, opened.Given); err != nil {
		return nil, nil, err
	}
	n := 0
	for _, layer := range w.Plan.Definition.At(definition.PostStart) {
		for _, command := range layer.Commands {
			if leftBy(left.Ended, n) {
				p := process
				p.Argv = command.Argv()
				out = append(out, k.renewed(ctx, w, n, command, p, opened.Mask.Mask))
			}
			n++
		}
	}
	return out, process.Secrets, nil
}

// leftBy tells whether a moment's command is among set-up ids: SHEET.MOMENT.N, with
// more behind it where it was begun anew before.
func leftBy(ids []string, n int) bool {
	for _, id := range ids {
		if parts := strings.Split(id, "."); len(parts) > 2 && parts[2] == strconv.Itoa(n) {
			return true
		}
	}
	return false
}

func (k *Status) renewed(ctx context.Context, w store.Workspace, n int, command definition.Command, p steward.Process, mask func(string) string) Renewed {
	r := Renewed{Command: string(definition.PostStart)}
	if command.Label != "" {
		r.Command += " " + command.Label
	}
	fail := func(err error) Renewed {
		r.Exit = &steward.Exit{Code: 127, Problem: plain.Line(mask(err.Error()), 300)}
		return r
	}
	id := fmt.Sprintf("again.%s.%d.%d", definition.PostStart, n, k.now().UnixMilli())
	c, err := k.hub.Ask(ctx, outside.Link(w.ID, w.Body), steward.Request{Kind: steward.SetUp, ID: id, Process: p})
	if err != nil {
		return fail(err)
	}
	defer c.Stream.Close()
	said := &lastBytes{most: maxRenewed}
	x, err := outside.Follow(ctx, c, said)
	r.Output = mask(said.kept.String())
	switch {
	case errors.Is(err, context.DeadlineExceeded): // it goes on
	case err != nil:
		return fail(err)
	default:
		x.Problem = mask(x.Problem)
		r.Exit = &x
	}
	return r
}

// lastBytes keeps the end of what is written.
type lastBytes struct {
	kept bytes.Buffer
	most int
}

func (l *lastBytes) Write(p []byte) (int, error) {
	l.kept.Write(p)
	if over := l.kept.Len() - l.most; over > 0 {
		_, _ = io.CopyN(io.Discard, &l.kept, int64(over)) // from memory
	}
	return len(p), nil
}
