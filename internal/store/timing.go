package store

import (
	"context"
	"time"

	"yardbench/internal/core/lifecycle"
)

// keptTimes is how many times of one kind of step are kept, the newest.
const keptTimes = 50

// StepKind is what times of steps are compared by.
type StepKind struct {
	Key    string
	Cached bool
}

// wholeLaunch is the key of a launch from its acceptance to ready; cached tells
// then whether it began with a prepared image.
const wholeLaunch = ""

// keepTime keeps how long a step, or a launch, of a repository took.
func (tx sheetsWrites) keepTime(ctx context.Context, repository string, kind lifecycle.SheetKind, key string, cached bool, took time.Duration) error {
	tx.took = append(tx.took, Took{Step: key, Launch: key == wholeLaunch, Cached: cached, Time: took})
	if err := tx.exec(ctx, "INSERT INTO step_times (repository_id, kind, key, cached, took_us) VALUES (?, ?, ?, ?, ?)", repository, kind, key, cached, took.Microseconds()); err != nil {
		return err
	}
	return tx.exec(ctx, `DELETE FROM step_times WHERE repository_id = ?1 AND kind = ?2 AND key = ?3 AND cached = ?4 AND id <=
		(SELECT id FROM step_times WHERE repository_id = ?1 AND kind = ?2 AND key = ?3 AND cached = ?4 ORDER BY id DESC LIMIT 1 OFFSET ?5)`, repository, kind, key, cached, keptTimes)
}

// StepTimes gives how long each step of a repository's sheets of a kind took,
// of the newest 50 that went well, shortest first.
func (q sheetsReads) StepTimes(ctx context.Context, repository string, kind lifecycle.SheetKind) (map[StepKind][]time.Duration, error) {
	out := map[StepKind][]time.Duration{}
	_, err := list(ctx, q.reader, func(scan func(...any) error) (struct{}, error) {
		var k StepKind
		var us int64
		err := scan(&k.Key, &k.Cached, &us)
		out[k] = append(out[k], time.Duration(us)*time.Microsecond)
		return struct{}{}, err
	}, "SELECT key, cached, took_us FROM step_times WHERE repository_id = ? AND kind = ? AND key > '' ORDER BY took_us", repository, kind)
	return out, err
}

// UsualTimes gives how long the newest launches of a repository took to be
// ready, at most 50 each, with a prepared image and without, shortest first.
func (q sheetsReads) UsualTimes(ctx context.Context, repository string) (prepared, scratch []time.Duration, err error) {
	_, err = list(ctx, q.reader, func(scan func(...any) error) (struct{}, error) {
		var us int64
		var p bool
		err := scan(&us, &p)
		if d := time.Duration(us) * time.Microsecond; p {
			prepared = append(prepared, d)
		} else {
			scratch = append(scratch, d)
		}
		return struct{}{}, err
	}, "SELECT took_us, cached FROM step_times WHERE repository_id = ? AND kind = 'launch' AND key = '' ORDER BY took_us", repository)
	return prepared, scratch, err
}
