package store

import (
	"context"
	"errors"
)

// Profile is what of somebody's own comes into each of their workspaces.
type Profile struct {
	FilesURL  string // the repository with their files; "" is none
	Branch    string // "" is its default
	Run       string // what puts them in place; "" is the usual
	EachStart bool   // they are brought up to date at each start
}

// ProfileOf is somebody's; the zero Profile where they have none.
func (q peopleReads) ProfileOf(ctx context.Context, person string) (Profile, error) {
	p, err := one(ctx, q.reader, func(scan func(...any) error) (p Profile, err error) {
		err = scan(&p.FilesURL, &p.Branch, &p.Run, &p.EachStart)
		return p, err
	}, "SELECT files_url, branch, run, each_start FROM profiles WHERE person_id = ?", person)
	if errors.Is(err, ErrNotFound) {
		return Profile{}, nil
	}
	return p, err
}

// PutProfile sets somebody's.
func (tx peopleWrites) PutProfile(ctx context.Context, person string, p Profile) error {
	return tx.exec(ctx, `INSERT INTO profiles (person_id, files_url, branch, run, each_start, changed_at) VALUES (?, ?, ?, ?, ?, ?)
		ON CONFLICT (person_id) DO UPDATE SET files_url = excluded.files_url, branch = excluded.branch, run = excluded.run, each_start = excluded.each_start, changed_at = excluded.changed_at`,
		person, p.FilesURL, p.Branch, p.Run, p.EachStart, micros(tx.now))
}
