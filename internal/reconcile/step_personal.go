package reconcile

import (
	"context"
	_ "embed"
	"errors"
	"fmt"
	"maps"
	"time"

	"yardbench/internal/core/definition"
)

// personalStep brings its owner's own files into a workspace. It fails without harm:
// the workspace is ready before it begins, and is ready when it has failed.
type personalStep struct{ setUpStep }

// personalMost is how long that may take; the script ends what goes on for longer.
const personalMost = 12 * time.Minute

//go:embed personal.sh
var personalScript string

func (d personalStep) do(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, personalMost)
	defer cancel()
	p, err := d.store.Read().ProfileOf(ctx, d.w.OwnerID)
	if err != nil || p.FilesURL == "" { // it was taken back meanwhile
		return err
	}
	d.session.Env = maps.Clone(d.session.Env)
	if d.session.Env == nil {
		d.session.Env = map[string]string{}
	}
	maps.Copy(d.session.Env, map[string]string{"OWN_FILES_URL": p.FilesURL, "OWN_FILES_BRANCH": p.Branch, "OWN_FILES_RUN": p.Run})
	err = d.command(ctx, 0, definition.Command{Shell: personalScript}, false)
	if errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return fmt.Errorf("%w: your files took longer than %s", errSetUp, personalMost)
	}
	return err
}
