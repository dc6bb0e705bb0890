package reconcile

import (
	"context"
	"errors"
	"path/filepath"
	"strings"
	"testing"

	"yardbench/internal/core/secret"
	"yardbench/internal/session"
	"yardbench/internal/store"
	"yardbench/internal/vault"
	"yardbench/internal/yard/sim"
)

// A value that does not open stops neither the service nor a stop: the look at
// the work says that it could not be done.
func TestAValueThatDoesNotOpen(t *testing.T) {
	v, err := vault.Open(filepath.Join(t.TempDir(), "sealing.json"), nil)
	if err != nil {
		t.Fatal(err)
	}
	y, err := sim.New("a", nil, sim.Options{})
	if err != nil {
		t.Fatal(err)
	}
	b := newBench(t, func(r *Rooms) { r.Vault, r.Sessions.Vault, r.Yard = v, v, y })
	b.write(func(tx *store.Tx) error {
		_, err := tx.PutSecret(t.Context(), store.Secret{Secret: secret.Secret{Level: secret.OfPerson, Name: "KEY", Everywhere: true, Form: secret.Variable}, SubjectID: "p"}, nil,
			func(int) ([]byte, error) { return []byte("sealed by nobody"), nil })
		return err
	})
	w, _ := b.workspace()
	work, err := b.Rest.Look(t.Context(), w)
	if err != nil || !strings.Contains(work.Problem, "does not open") || work.Clean() {
		t.Errorf("the look comes to %+v, %v", work, err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	b.Keeper = New(ctx, b.Rooms)
	if err := b.Run(); err != nil {
		t.Errorf("the service does not start: %v", err)
	}
	cancel()
	b.Wait()
}

// What goes wrong in a step is told without the secrets that were handed out.
func TestErrorsOfStepsAreMasked(t *testing.T) {
	d := &doing{opened: session.Opened{Mask: secret.NewValues(map[string]string{"KEY": "hunter2hunter2"})}}
	cause := errors.New("it said hunter2hunter2")
	err := maskedError{d.masked(cause.Error()), cause}
	if strings.Contains(err.Error(), "hunter2") || !errors.Is(err, cause) {
		t.Errorf("told is %q", err)
	}
}
