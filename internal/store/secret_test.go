package store

import (
	"errors"
	"testing"

	"yardbench/internal/core/secret"
)

// A secret's versions go up, its repositories are replaced, and it is gone
// whole when it is removed.
func TestSecretsAndTheirReach(t *testing.T) {
	s := populated(t)
	ctx := t.Context()
	put := func(sec Secret, repositories ...string) {
		t.Helper()
		err := s.Write(ctx, func(tx *Tx) error {
			_, err := tx.PutSecret(ctx, sec, repositories, func(version int) ([]byte, error) { return []byte{byte(version)}, nil })
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	mine := Secret{Secret: secret.Secret{Level: secret.OfPerson, Name: "KEY", Form: secret.Variable}, SubjectID: "p1"}
	put(mine, "r1")
	put(Secret{Secret: secret.Secret{Level: secret.OfRepository, Name: "KEY", Form: secret.File}, SubjectID: "r1"})
	mine.Everywhere = true
	put(mine)
	got, err := s.Read().Secrets(ctx, SecretsOf{secret.OfPerson, "p1"})
	if err != nil || len(got) != 1 || got[0].Version != 2 || got[0].Sealed[0] != 2 || len(got[0].Repositories) != 0 || !got[0].Everywhere {
		t.Errorf("the person's are %+v, %v", got, err)
	}
	if got, err = s.Read().Secrets(ctx, SecretsOf{secret.OfRepository, "r1"}); err != nil || len(got) != 1 || got[0].Version != 1 || got[0].Whose != "tide-board" || got[0].Form != secret.File {
		t.Errorf("the repository's are %+v, %v", got, err)
	}
	for n, want := range []error{nil, ErrNotFound} {
		if err := s.Write(ctx, func(tx *Tx) error { return tx.DropSecret(ctx, SecretsOf{secret.OfPerson, "p1"}, "KEY") }); !errors.Is(err, want) {
			t.Errorf("removed for the %d. time: %v", n+1, err)
		}
	}
}
