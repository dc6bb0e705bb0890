package demo

import (
	"context"
	"fmt"
	"math/rand/v2"
	"sort"
	"strings"
	"sync/atomic"
	"time"

	"yardbench/internal/core/definition"
	"yardbench/internal/core/journal"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/rules"
	"yardbench/internal/service"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Clock is a clock that can be put into the past and let go again.
type Clock struct{ at atomic.Pointer[time.Time] }

// Now is the time it shows.
func (c *Clock) Now() time.Time {
	if t := c.at.Load(); t != nil {
		return *t
	}
	return time.Now()
}

// Begin puts it to where the invented past begins.
func (c *Clock) Begin() { c.set(pastBegins(time.Now())) }

// pastBegins is the beginning of the day thirty days ago, as the house has it.
func pastBegins(now time.Time) time.Time {
	zone := time.UTC
	if r, findings := rules.Parse([]byte(Rules)); len(findings) == 0 {
		zone = r.Zone
	}
	l := now.In(zone)
	return time.Date(l.Year(), l.Month(), l.Day()-pastDays, 0, 0, 0, 0, zone)
}

// set stops it at a time; free lets it go.
func (c *Clock) set(t time.Time) { c.at.Store(&t) }
func (c *Clock) free()           { c.at.Store(nil) }

// pastDays is how far the invented past goes back.
const pastDays = 30

// furnished are those whose workspaces Furnish brings up, and what those of
// their past are called: the names that Furnish takes stay free.
var (
	furnished = []string{"ingrid", "marit", "peder", "mats"}
	pastNames = map[string]string{"mats": "south-berths", "ingrid": "winter-tables", "marit": "school-fares", "peder": "lomvi-index"}
)

// FillPast is Fill with thirty days of invented past before it, written by
// what writes the present: the journal, the sheets and the metering cannot
// tell. A service that has it already stays as it is.
func FillPast(ctx context.Context, s *service.Service, rooms service.Rooms, clock *Clock, gitHost string) error {
	done, err := rooms.Store.Read().Meta(ctx, "demo-past")
	if err != nil || done != "" {
		return errOr(err, func() error { return Fill(ctx, s, rooms, gitHost) })
	}
	defer clock.free()
	now := time.Now()
	p := &past{rules: RulesBeside(gitHost), ctx: ctx, s: s, rooms: rooms, r: rand.New(rand.NewPCG(62, 5)), now: now, plans: map[string]store.Plan{}, of: map[string]*store.Workspace{}, prepared: map[string]bool{}}
	first := pastBegins(now)
	clock.set(first)
	if err := Fill(ctx, s, rooms, gitHost); err != nil {
		return err
	}
	for _, team := range Teams {
		name := teamRepository[team]
		if p.plans[name], err = s.Definitions.PlanOf(ctx, People[0].Name, name); err != nil {
			return fmt.Errorf("read %s: %w", name, err)
		}
	}
	for d := range pastDays {
		day := first.AddDate(0, 0, d)
		clock.set(day)
		if err := p.milestones(d); err != nil {
			return err
		}
		if err := p.day(day); err != nil {
			return fmt.Errorf("the past of %s: %w", day.Format(time.DateOnly), err)
		}
	}
	clock.free()
	return rooms.Store.Write(ctx, func(tx *store.Tx) error { return tx.SetMeta(ctx, "demo-past", "written") })
}

func errOr(err error, do func() error) error {
	if err != nil {
		return err
	}
	return do()
}

var teamRepository = map[string]string{"Timetable": "tide-board", "Harbour": "berth-planner", "Fares": "fare-desk", "Decks": "deck-log"}

// past writes one day after the other.
type past struct {
	ctx      context.Context
	s        *service.Service
	rooms    service.Rooms
	r        *rand.Rand
	now      time.Time
	plans    map[string]store.Plan       // by repository
	of       map[string]*store.Workspace // by person; nil when they have none
	prepared map[string]bool             // repositories with a prepared image
	rules    string                      // the house's, as they are in the end
	rest     time.Duration
	events   []event
}

type event struct {
	at time.Time
	do func(tx *store.Tx) error
}

// milestones are what operators and leads did on some of the days.
func (p *past) milestones(day int) error {
	switch day {
	case 0:
		p.rest = 90 * time.Minute
		return p.putRules(strings.Replace(p.rules, "rest_after: 45 min", "rest_after: 90 min", 1), "people asked for longer lunches")
	case 8:
		for _, plan := range []struct{ lead, repository string }{{"runa", "tide-board"}, {"bjarne", "fare-desk"}} {
			a, err := actor(p.ctx, p.rooms.Store, plan.lead)
			if err != nil {
				return err
			}
			if _, err := p.s.Prebuilds.PutPlan(p.ctx, a, plan.repository, wire.PutPlan{OnPush: true, Timetable: "30 5 * * 1-5"}); err != nil {
				return err
			}
		}
	case 16:
		p.rest = 45 * time.Minute
		return p.putRules(p.rules, "half of what was paid went to evenings in which nobody worked")
	}
	return nil
}

func (p *past) putRules(document, why string) error {
	a, err := actor(p.ctx, p.rooms.Store, "astrid")
	if err != nil {
		return err
	}
	_, err = p.s.HouseRules.PutRules(p.ctx, a, wire.RulesText{Document: document, Reason: why})
	return err
}

// day writes what people did on one day, in the order of time.
func (p *past) day(day time.Time) error {
	p.events = nil
	if w := day.Weekday(); w != time.Saturday && w != time.Sunday {
		for _, repository := range []string{"tide-board", "fare-desk"} {
			if plans, err := p.rooms.Store.Read().PrebuildPlans(p.ctx, ""); err != nil {
				return err
			} else if len(plans) > 0 {
				p.prebuild(repository, day.Add(5*time.Hour+30*time.Minute))
			}
		}
		for _, person := range People {
			if person.Team != "" && p.r.Float64() < 0.78 {
				p.workday(person, day)
			}
		}
	}
	sort.SliceStable(p.events, func(i, j int) bool { return p.events[i].at.Before(p.events[j].at) })
	return p.rooms.Store.Write(p.ctx, func(tx *store.Tx) error {
		for _, e := range p.events {
			tx.At(e.at)
			if err := e.do(tx); err != nil {
				return err
			}
		}
		return nil
	})
}

func (p *past) at(t time.Time, do func(tx *store.Tx) error) {
	p.events = append(p.events, event{t, do})
}

// between is a length of time between two, in minutes.
func (p *past) between(from, to float64) time.Duration {
	return time.Duration((from + p.r.Float64()*(to-from)) * float64(time.Minute))
}

// workday is one person's day: up in the morning, lunch, home in the afternoon.
func (p *past) workday(person Person, day time.Time) {
	up := day.Add(7*time.Hour + 20*time.Minute + p.between(0, 130))
	lunch, back := up.Add(p.between(150, 220)), time.Time{}
	back = lunch.Add(p.between(25, 65))
	home := back.Add(p.between(150, 280))
	if home.Add(3 * time.Hour).After(p.now) {
		return // it is not over yet: nothing of it is past
	}
	w := p.of[person.Name]
	repository := teamRepository[person.Team]
	if w == nil {
		w = p.launch(person, repository, up)
		if w == nil {
			return
		}
	} else {
		p.ask(w, person.Name, "start", up)
		p.phases(w, "service", up, lifecycle.StartSheet, []lifecycle.Phase{lifecycle.Starting, lifecycle.Ready}, []string{"Start", "Steward connects"}, p.between(0.005, 0.03))
	}
	id := w.ID
	if back.Sub(lunch) > p.rest {
		p.idle(id, lunch, p.rest)
		p.rested(id, lunch.Add(p.rest), "its processor was busy", lunch)
		p.ask(w, person.Name, "start", back)
		p.phases(w, "service", back, lifecycle.StartSheet, []lifecycle.Phase{lifecycle.Starting, lifecycle.Ready}, []string{"Start", "Steward connects"}, p.between(0.005, 0.03))
	} else {
		p.idle(id, lunch, back.Sub(lunch))
	}
	held := false
	switch {
	case p.r.Float64() < 0.35:
		p.ask(w, person.Name, "stop", home)
		p.phases(w, "service", home, lifecycle.StopSheet, []lifecycle.Phase{lifecycle.Stopping, lifecycle.Stopped}, []string{"Stop"}, p.between(0.002, 0.01))
	case p.r.Float64() < 0.08 && home.Add(14*time.Hour).Before(p.now):
		held = true
		until := home.Add(p.between(300, 700)) // into the night
		p.at(home, func(tx *store.Tx) error {
			now, err := tx.WorkspaceByID(p.ctx, id)
			if err != nil {
				return err
			}
			return tx.SetHold(p.ctx, now, store.Hold{Until: until, Why: "a long calculation runs", ByID: now.OwnerID})
		})
		p.idle(id, home, until.Sub(home))
		p.rested(id, until, "something was typed", home)
	default:
		p.idle(id, home, p.rest)
		p.rested(id, home.Add(p.rest), "something was typed", home)
	}
	if !held && p.r.Float64() < 0.05 && home.Add(4*time.Hour).Before(p.now) {
		p.remove(w, person.Name, home.Add(3*time.Hour))
	}
}

// launch brings up a new workspace; nil where it failed.
func (p *past) launch(person Person, repository string, at time.Time) *store.Workspace {
	plan := p.plans[repository]
	size := []string{"small", "small", "small", "middle", "large"}[p.r.IntN(5)]
	w := &store.Workspace{ID: store.NewID(), Name: repository, Branch: "main", Plan: &plan, Phase: lifecycle.Waiting, Wanted: lifecycle.WantReady, Body: 1, Volume: 1, Size: size, PortKey: service.NewPortKey()}
	if name := pastNames[person.Name]; name != "" {
		w.Name = name
	}
	failed := p.r.Float64() < 0.04
	prepared := p.prepared[repository]
	p.at(at, func(tx *store.Tx) error {
		owner, err := tx.PersonByName(p.ctx, person.Name)
		if err != nil {
			return err
		}
		r, err := tx.RepositoryByName(p.ctx, repository)
		if err != nil {
			return err
		}
		v, err := tx.Rules(p.ctx)
		if err != nil {
			return err
		}
		house, _ := rules.Parse([]byte(v.Document))
		z := house.Sizes[size]
		w.OwnerID, w.RepositoryID, w.CoresMilli, w.MemoryBytes, w.DiskBytes = owner.ID, r.ID, z.CoresMilli, z.MemoryBytes, z.DiskBytes
		if w.StewardToken, err = p.rooms.Vault.Seal(store.NewID(), "steward", w.ID); err != nil {
			return err
		}
		if prepared {
			w.Plan.Prepared = &store.Prepared{Run: "past", Number: 1, MadeAt: at.Add(-3 * time.Hour), Behind: p.r.IntN(4)}
		}
		return p.s.Launches.Accept(p.ctx, tx, w, lifecycle.LaunchSheet, owner.ID, r.Name)
	})
	steps := []string{"Image", "Network", "Volume", "Container", "Start", "Steward connects", "Clone"}
	took := p.between(0.6, 1.6)
	if prepared {
		took = p.between(0.03, 0.09)
	}
	if failed {
		p.phases(w, "service", at, "", []lifecycle.Phase{lifecycle.Preparing, lifecycle.Failed}, steps[:1], took)
		p.ask(w, person.Name, "remove", at.Add(took+2*time.Minute))
		p.phases(w, person.Name, at.Add(took+2*time.Minute), lifecycle.RemoveSheet, []lifecycle.Phase{lifecycle.Removing, lifecycle.Removed}, []string{"Remove"}, time.Second)
		return nil
	}
	p.phases(w, "service", at, "", []lifecycle.Phase{lifecycle.Preparing, lifecycle.Starting, lifecycle.Ready}, append(steps, string(definition.PostCreate)), took)
	p.of[person.Name] = w
	return w
}

// ask writes what a person asked for.
func (p *past) ask(w *store.Workspace, person, verb string, at time.Time) {
	p.at(at, func(tx *store.Tx) error {
		who, err := tx.PersonByName(p.ctx, person)
		if err != nil {
			return err
		}
		now, err := tx.WorkspaceByID(p.ctx, w.ID)
		if err != nil {
			return err
		}
		now.Wanted = map[string]lifecycle.Wanted{"start": lifecycle.WantReady, "stop": lifecycle.WantStopped, "remove": lifecycle.WantRemoved}[verb]
		if verb == "start" {
			if err := tx.SetPhase(p.ctx, &now, lifecycle.Waiting, who.ID, ""); err != nil {
				return err
			}
		}
		if err := tx.SaveWorkspace(p.ctx, now); err != nil {
			return err
		}
		return tx.Journal(p.ctx, now.ID, now.OwnerID, who.ID, journal.WorkspaceAsked{Verb: lifecycle.Verb(verb)})
	})
}

// phases writes a launch sheet with its steps, and the phases it goes through;
// an empty kind goes on with the sheet that is open.
func (p *past) phases(w *store.Workspace, actor string, at time.Time, kind lifecycle.SheetKind, phases []lifecycle.Phase, steps []string, took time.Duration) {
	parts := make([]float64, len(steps))
	sum := 0.0
	for i, s := range steps {
		parts[i] = 0.2 + p.r.Float64()
		if s == "Image" || s == string(definition.PostCreate) || s == string(definition.OnCreate) {
			parts[i] *= 6
		}
		sum += parts[i]
	}
	var sheet store.Sheet
	p.at(at, func(tx *store.Tx) (err error) {
		if kind == "" {
			sheet, err = tx.CurrentSheet(p.ctx, w.ID)
		} else {
			sheet, err = tx.OpenSheet(p.ctx, w.ID, kind)
		}
		return err
	})
	end := phases[len(phases)-1]
	for i, s := range steps {
		from := at
		for _, f := range parts[:i] {
			from = from.Add(time.Duration(float64(took) * f / sum))
		}
		to := from.Add(time.Duration(float64(took) * parts[i] / sum))
		p.at(from, func(tx *store.Tx) error {
			st, err := tx.BeginStep(p.ctx, store.Step{SheetID: sheet.ID, Key: fmt.Sprintf("past/%d", i), Title: s, Body: 1})
			if err != nil {
				return err
			}
			st.EndedAt = &to
			outcome, cause := lifecycle.Done, ""
			if end == lifecycle.Failed && i == len(steps)-1 {
				outcome, cause = lifecycle.FailedStep, failure
			}
			return tx.EndStep(p.ctx, st, outcome, s == "Image" && took < 20*time.Second, cause)
		})
	}
	for i, phase := range phases {
		when := at.Add(time.Duration(float64(took) * float64(i) / float64(len(phases)-1)))
		p.at(when, func(tx *store.Tx) error {
			now, err := tx.WorkspaceByID(p.ctx, w.ID)
			if err != nil {
				return err
			}
			cause := ""
			if phase == lifecycle.Failed {
				cause = failure
			}
			if phase == lifecycle.Stopped {
				cause = now.Cause
				if err := tx.ClearConditions(p.ctx, now, lifecycle.IdleNow, lifecycle.Held); err != nil {
					return err
				}
			}
			if err := tx.SetPhase(p.ctx, &now, phase, actor, cause); err != nil || phase != end {
				return err
			}
			outcome := lifecycle.Done
			if end == lifecycle.Failed {
				outcome = lifecycle.FailedStep
			}
			return tx.CloseSheet(p.ctx, sheet.ID, outcome, cause)
		})
	}
}

const failure = "build step [3/4] COPY requirements.txt: requirements.txt is not in the build context"

// idle writes that nobody works in a workspace from a time on, for so long.
func (p *past) idle(id string, since time.Time, long time.Duration) {
	if long < 6*time.Minute {
		return
	}
	p.at(since.Add(5*time.Minute), func(tx *store.Tx) error {
		w, err := tx.WorkspaceByID(p.ctx, id)
		if err != nil {
			return err
		}
		return tx.SetConditionSince(p.ctx, w, lifecycle.IdleNow, "something was typed, and nothing since", since)
	})
	p.at(since.Add(long), func(tx *store.Tx) error {
		w, err := tx.WorkspaceByID(p.ctx, id)
		if err != nil {
			return err
		}
		return tx.ClearCondition(p.ctx, w, lifecycle.IdleNow)
	})
}

// rested writes that the service put a workspace to rest.
func (p *past) rested(id string, at time.Time, what string, since time.Time) {
	p.at(at, func(tx *store.Tx) error {
		w, err := tx.WorkspaceByID(p.ctx, id)
		if err != nil {
			return err
		}
		why := fmt.Sprintf("put to rest: %s at %s, and nothing since", what, since.Format("15:04"))
		if err := tx.DropHold(p.ctx, w, "service"); err != nil {
			return err
		}
		if err := tx.Journal(p.ctx, id, w.OwnerID, "service", journal.WorkspaceRested{Why: why}); err != nil {
			return err
		}
		w.Wanted = lifecycle.WantStopped
		sheet, err := tx.OpenSheet(p.ctx, id, lifecycle.StopSheet)
		if err == nil {
			err = tx.SetPhase(p.ctx, &w, lifecycle.Stopping, "service", why)
		}
		if err == nil {
			err = tx.SetPhase(p.ctx, &w, lifecycle.Stopped, "service", why)
		}
		if err != nil {
			return err
		}
		return tx.CloseSheet(p.ctx, sheet.ID, lifecycle.Done, "")
	})
}

func (p *past) remove(w *store.Workspace, person string, at time.Time) {
	p.ask(w, person, "remove", at)
	p.phases(w, "service", at, lifecycle.RemoveSheet, []lifecycle.Phase{lifecycle.Removing, lifecycle.Removed}, []string{"Remove"}, time.Second)
	delete(p.of, person)
}

// prebuild writes a run of a plan. Its image is long dropped: the demo makes
// real ones.
func (p *past) prebuild(repository string, at time.Time) {
	plan := p.plans[repository]
	failed := p.r.Float64() < 0.08
	took := p.between(0.8, 1.9)
	if at.Add(took).After(p.now) {
		return
	}
	p.prepared[repository] = true
	run := store.PrebuildRun{ID: store.NewID(), Reason: "by its timetable", Commit: plan.Commit, Fingerprint: definition.Prepared(plan.Definition, plan.Fingerprint)}
	w := &store.Workspace{ID: store.NewID(), Name: "prebuild-" + run.ID, Branch: "main", Plan: &plan, Kind: store.ForPrebuild, Phase: lifecycle.Waiting, Wanted: lifecycle.WantReady, Body: 1, Volume: 1, Size: "small"}
	p.at(at, func(tx *store.Tx) error {
		r, err := tx.RepositoryByName(p.ctx, repository)
		if err != nil {
			return err
		}
		of, err := tx.PrebuildPlan(p.ctx, r.ID, "main")
		if err != nil {
			return err
		}
		run.PlanID, run.WorkspaceID, w.RepositoryID, w.OwnerID = of.ID, w.ID, r.ID, of.MadeBy
		if w.StewardToken, err = p.rooms.Vault.Seal(store.NewID(), "steward", w.ID); err != nil {
			return err
		}
		if err := p.s.Launches.Accept(p.ctx, tx, w, lifecycle.PrebuildRun, "service", r.Name); err != nil {
			return err
		}
		return tx.AddRun(p.ctx, &run)
	})
	phases, steps := []lifecycle.Phase{lifecycle.Preparing, lifecycle.Starting, lifecycle.Removing, lifecycle.Removed}, []string{"Image", "Network", "Volume", "Container", "Start", "Steward connects", "Clone", string(definition.OnCreate), "Keep as prepared image"}
	p.phases(w, "service", at, "", phases, steps, took)
	p.at(at.Add(took), func(tx *store.Tx) error {
		if failed {
			return tx.EndRun(p.ctx, run.ID, store.Kept{}, lifecycle.FailedStep, "onCreateCommand ended with exit code 2, its last line: make: *** [tables] Error 1")
		}
		if err := tx.EndRun(p.ctx, run.ID, store.Kept{Image: "past"}, lifecycle.Done, ""); err != nil {
			return err
		}
		return tx.DropRun(p.ctx, run.ID)
	})
}
