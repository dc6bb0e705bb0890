package rules

import "time"

// Put is a version of the house rules and when it was put.
type Put struct {
	Rules
	At time.Time
}

// Sooner is since when things come as soon as they do by the rules in force: when they
// were last put so that they come sooner than before. Zero is never.
type Sooner struct {
	Rest, RestMost, Removal time.Time
}

// RemovalNotice is how long a change of the rules removes nothing: so long people have to
// see that it would.
const RemovalNotice = 24 * time.Hour

// SinceWhen reads it from versions, the oldest first, of which the last is in force.
func SinceWhen(versions []Put) Sooner {
	since := func(of func(Rules) time.Duration) time.Time {
		for i := len(versions) - 1; i > 0; i-- {
			if of(versions[i-1].Rules) > of(versions[len(versions)-1].Rules) {
				return versions[i].At
			}
		}
		return time.Time{}
	}
	return Sooner{
		Rest:     since(func(r Rules) time.Duration { return r.Idle.RestAfter }),
		RestMost: since(func(r Rules) time.Duration { return r.Idle.RestAfterMost }),
		Removal:  since(func(r Rules) time.Duration { return r.StoppedMost }),
	}
}

// RestsNotBefore is before when a change of the rules puts nothing to rest that would
// not have rested without it: so that the time of warning counts from the change. asked is what
// the owner asked for, 0 for nothing.
func (r Rules) RestsNotBefore(asked time.Duration) time.Time {
	since := r.Sooner.Rest
	if asked > 0 {
		if since = r.Sooner.RestMost; asked <= r.Idle.RestAfterMost {
			return time.Time{}
		}
	}
	if since.IsZero() {
		return since
	}
	return since.Add(r.Idle.WarnBefore)
}

// RemovesAt is when something that was stopped at a time is removed.
func (r Rules) RemovesAt(stopped time.Time) time.Time {
	at := stopped.Add(r.StoppedMost)
	if notice := r.Sooner.Removal.Add(RemovalNotice); !r.Sooner.Removal.IsZero() && notice.After(at) {
		return notice
	}
	return at
}

// PutOver is the rules as they would be, put over others now.
func (r Rules) PutOver(was Rules, now time.Time) Rules {
	since := SinceWhen([]Put{{Rules: was}, {Rules: r, At: now}})
	r.Sooner = was.Sooner
	for _, s := range []struct{ is, put *time.Time }{{&r.Sooner.Rest, &since.Rest}, {&r.Sooner.RestMost, &since.RestMost}, {&r.Sooner.Removal, &since.Removal}} {
		if !s.put.IsZero() {
			*s.is = *s.put
		}
	}
	return r
}
