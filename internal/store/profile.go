package store

import (
	"context"
	"encoding/json"
	"errors"
	"time"
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

// Usual is what somebody usually wants; what is empty is as it is for everybody.
type Usual struct {
	GitName   string        `json:"git_name,omitempty"`
	GitEmail  string        `json:"git_email,omitempty"`
	Shell     string        `json:"shell,omitempty"`    // a program's name, or its path
	Zone      string        `json:"zone,omitempty"`     // of the IANA time zone database
	Language  string        `json:"language,omitempty"` // a locale, like nb_NO.UTF-8
	Size      string        `json:"size,omitempty"`
	RestAfter time.Duration `json:"rest_after,omitempty"`
}

// UsualOf is what somebody usually wants.
func (q peopleReads) UsualOf(ctx context.Context, person string) (Usual, error) {
	u, err := one(ctx, q.reader, func(scan func(...any) error) (u Usual, err error) {
		var text string
		if err = scan(&text); err != nil {
			return u, err
		}
		return u, json.Unmarshal([]byte(text), &u)
	}, "SELECT usual FROM profiles WHERE person_id = ?", person)
	if errors.Is(err, ErrNotFound) {
		return Usual{}, nil
	}
	return u, err
}

// PutUsual sets it.
func (tx peopleWrites) PutUsual(ctx context.Context, person string, u Usual) error {
	text, err := json.Marshal(u)
	if err != nil {
		return err
	}
	return tx.exec(ctx, `INSERT INTO profiles (person_id, files_url, branch, run, each_start, changed_at, usual) VALUES (?, '', '', '', 0, ?, ?)
		ON CONFLICT (person_id) DO UPDATE SET usual = excluded.usual, changed_at = excluded.changed_at`, person, micros(tx.now), string(text))
}
