package yard

import (
	"context"
	"errors"
)

// Claimer is a yard that tells which service keeps an installation's part of
// it, so that two with the same records do not take each other's workspaces
// away.
type Claimer interface {
	// Claimed gives the claim with the highest number; ok is false where there
	// is none. It gives [ErrAway] while the yard does not answer.
	Claimed(ctx context.Context) (c Claim, ok bool, err error)
	// Claim puts a claim down, and takes those with lower numbers away. Where
	// somebody else has put one with the same number, theirs stands: look with
	// Claimed.
	Claim(ctx context.Context, c Claim) error
}

// Claim is what a service leaves in a yard at each of its starts.
type Claim struct {
	Number int    // one more than the one before
	Holder string // the data directory, as a word that no copy of it has
	Where  string // the data directory, for people
}

// ErrClaimed says that another service keeps the yard.
var ErrClaimed = errors.New("another service keeps this yard's workspaces")
