package service

import (
	"context"
	"encoding/csv"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"yardbench/internal/core/cost"
	"yardbench/internal/core/policy"
	"yardbench/internal/core/rules"
	"yardbench/internal/store"
	"yardbench/internal/wire"
)

// FirstRules puts the first house rules into a service that has none.
func (s *Service) FirstRules(ctx context.Context, document string) error {
	if _, err := s.Store.Read().Rules(ctx); err == nil {
		return nil
	}
	if _, findings := rules.Parse([]byte(document)); len(findings) > 0 {
		return fmt.Errorf("the first house rules: %s", findings[0])
	}
	return s.Store.Write(ctx, func(tx *store.Tx) error {
		_, err := s.putRules(ctx, tx, store.RulesVersion{Document: document, AuthorID: "service", Reason: "the service's first start"}, nil)
		return err
	})
}

func (s *Service) putRules(ctx context.Context, tx *store.Tx, r store.RulesVersion, changes []string) (int, error) {
	version, err := tx.AddRules(ctx, r)
	if err != nil {
		return 0, err
	}
	return version, tx.Journal(ctx, "rules.put", fmt.Sprint(version), "", r.AuthorID, map[string]any{"reason": r.Reason, "changes": changes})
}

// Rules gives every version of the house rules, the newest first.
func (s *Service) Rules(ctx context.Context, a Actor) ([]wire.Rules, error) {
	if !a.may(policy.SeeRules) {
		return nil, denied(a, "see the house rules")
	}
	rows, err := s.Store.Read().RulesVersions(ctx)
	if err != nil {
		return nil, err
	}
	out := []wire.Rules{}
	var before rules.Rules
	for n, r := range rows {
		v := wire.Rules{Version: r.Version, Document: r.Document, Author: s.nameOf(ctx, r.AuthorID), Reason: r.Reason, At: r.At, Changes: []string{}}
		now, _ := rules.Parse([]byte(r.Document))
		if n > 0 {
			v.Changes = append(v.Changes, rules.Diff(before, now)...)
		}
		before = now
		out = append(out, v)
	}
	slices.Reverse(out)
	return out, nil
}

// nameOf is a person's name for people to read; the service's own otherwise.
func (s *Service) nameOf(ctx context.Context, id string) string {
	if p, err := s.Store.Read().PersonByID(ctx, id); err == nil {
		return p.Name
	}
	return "the service"
}

// CheckRules says what is wrong with a document, and what it would change.
func (s *Service) CheckRules(ctx context.Context, a Actor, document string) (wire.RulesCheck, error) {
	if !a.may(policy.SeeRules) {
		return wire.RulesCheck{}, denied(a, "see the house rules")
	}
	return s.checkRules(ctx, document)
}

func (s *Service) checkRules(ctx context.Context, document string) (wire.RulesCheck, error) {
	c := wire.RulesCheck{Findings: []wire.RulesFinding{}, Changes: []string{}}
	r, findings := rules.Parse([]byte(document))
	for _, f := range findings {
		c.Findings = append(c.Findings, wire.RulesFinding(f))
	}
	if len(findings) > 0 {
		return c, nil
	}
	now, _, err := s.House.Rules(ctx, s.Store.Read())
	if err == nil {
		c.Changes = append(c.Changes, rules.Diff(now, r)...)
	}
	return c, err
}

// PutRules makes a document the house rules: in force at once.
func (s *Service) PutRules(ctx context.Context, a Actor, in wire.RulesText) (wire.Rules, error) {
	if !a.may(policy.ChangeRules) {
		return wire.Rules{}, denied(a, "change the house rules")
	}
	in.Reason = strings.TrimSpace(in.Reason)
	if in.Reason == "" || hasControl(in.Reason) {
		return wire.Rules{}, invalid("the reason is missing", "say why the house rules change: it stands in the journal")
	}
	c, err := s.checkRules(ctx, in.Document)
	if err != nil {
		return wire.Rules{}, err
	}
	if len(c.Findings) > 0 {
		p := problem(422, "rules", fmt.Sprintf("the document has %d mistakes; nothing is changed", len(c.Findings)), "correct them and put it again")
		for _, f := range c.Findings {
			p.Errors = append(p.Errors, wire.FieldProblem{Field: fmt.Sprintf("line %d, column %d", f.Line, f.Column), Detail: strings.TrimSuffix(f.What+"; "+f.Fix, "; ")})
		}
		return wire.Rules{}, p
	}
	if len(c.Changes) == 0 {
		return wire.Rules{}, conflict("no-change", "the document changes nothing", "")
	}
	out := wire.Rules{Document: in.Document, Author: a.Name, Reason: in.Reason, Changes: c.Changes}
	err = s.Store.Write(ctx, func(tx *store.Tx) error {
		now, err := tx.Rules(ctx)
		if err != nil {
			return err
		}
		if in.Base != 0 && in.Base != now.Version {
			return conflict("newer-rules", fmt.Sprintf("version %d was put meanwhile, and this was made from version %d", now.Version, in.Base), "look at what changed and make yours from it")
		}
		out.At = tx.Now()
		out.Version, err = s.putRules(ctx, tx, store.RulesVersion{Document: in.Document, AuthorID: a.ID, Reason: in.Reason}, c.Changes)
		return err
	})
	if err == nil {
		err = s.Keeper.Rejudge(ctx)
	}
	return out, err
}

// Cost tells what was used between two times, and what it cost, of those whom
// the actor may see. Zero times are the month so far.
func (s *Service) Cost(ctx context.Context, a Actor, by string, from, to time.Time) (wire.Cost, error) {
	scope, ok := a.scope(policy.SeeCost)
	if !ok {
		return wire.Cost{}, denied(a, "see what was used")
	}
	house, _, err := s.House.Rules(ctx, s.Store.Read())
	if err != nil {
		return wire.Cost{}, err
	}
	now := s.now().UTC()
	local := now.In(house.Zone)
	if from.IsZero() {
		from = time.Date(local.Year(), local.Month(), 1, 0, 0, 0, 0, house.Zone)
	}
	if to.IsZero() {
		to = time.Date(local.Year(), local.Month()+1, 1, 0, 0, 0, 0, house.Zone)
	}
	if !from.Before(to) || to.Sub(from) > 400*24*time.Hour {
		return wire.Cost{}, invalid("the time from "+from.Format(time.DateOnly)+" to "+to.Format(time.DateOnly)+" cannot be reported", "end it after it begins, at most 400 days later")
	}
	intervals, err := s.Store.Read().Intervals(ctx, scope, from, to)
	if err != nil {
		return wire.Cost{}, err
	}
	rates, err := s.House.Rates(ctx, s.Store.Read())
	if err != nil {
		return wire.Cost{}, err
	}
	out := wire.Cost{Currency: house.Currency, From: from.UTC(), To: to.UTC(), By: by, Rows: []wire.CostRow{}}
	for _, r := range cost.Report(intervals, rates, from, to, now, cost.By(by), house.Zone) {
		out.Rows = append(out.Rows, costRow(r))
	}
	for _, r := range cost.Report(intervals, rates, from, to, now, cost.ByAll, house.Zone) {
		out.Total = costRow(r)
	}
	out.Total.Key = "total"
	return out, nil
}

func costRow(r cost.Row) wire.CostRow {
	s := func(d time.Duration) int64 { return int64(d.Round(time.Second) / time.Second) }
	return wire.CostRow{Key: r.Key, ActiveS: s(r.Running), IdleS: s(r.Idle), PrebuildS: s(r.Prebuild), StoredGiBHours: r.StoredGiBHours,
		ActiveMicros: int64(r.RunningMoney), IdleMicros: int64(r.IdleMoney), StorageMicros: int64(r.StorageMoney), PrebuildMicros: int64(r.PrebuildMoney), TotalMicros: int64(r.Total)}
}

// WriteCostCSV writes a report as comma-separated values (RFC 4180).
func WriteCostCSV(w io.Writer, c wire.Cost) error {
	out := csv.NewWriter(w)
	money := func(m int64) string { return rules.Money(m).Decimal() }
	rows := [][]string{{c.By, "active_s", "idle_s", "prebuild_s", "stored_gib_hours", "active_" + c.Currency, "idle_" + c.Currency, "storage_" + c.Currency, "prebuild_" + c.Currency, "total_" + c.Currency}}
	for _, r := range c.Rows {
		rows = append(rows, []string{formula(r.Key), strconv.FormatInt(r.ActiveS, 10), strconv.FormatInt(r.IdleS, 10), strconv.FormatInt(r.PrebuildS, 10),
			strconv.FormatFloat(r.StoredGiBHours, 'f', 3, 64), money(r.ActiveMicros), money(r.IdleMicros), money(r.StorageMicros), money(r.PrebuildMicros), money(r.TotalMicros)})
	}
	return out.WriteAll(rows)
}

// formula keeps a name from being taken for a formula by a spreadsheet.
func formula(s string) string {
	if s != "" && strings.ContainsRune("=+-@", rune(s[0])) {
		return "'" + s
	}
	return s
}

// JournalQuery says which journal entries are wanted; empty fields do not count.
type JournalQuery struct {
	After     int64
	Newest    bool   // the newest instead of the oldest, newest first
	Workspace string // NAME or NAME.OWNER
	Person    string // whose matter, or who did it
	Kind      string // the beginning of the kind
	From, To  time.Time
	Limit     int
}

// Journal lists journal entries that the actor may see.
func (s *Service) Journal(ctx context.Context, a Actor, in JournalQuery) ([]wire.JournalEntry, error) {
	scope, ok := a.scope(policy.SeeJournal)
	if !ok {
		return nil, denied(a, "read the journal")
	}
	f := store.JournalFilter{After: in.After, Newest: in.Newest, Owner: scope.OwnerID, Team: scope.TeamID, Kind: in.Kind, From: in.From, To: in.To, Limit: in.Limit}
	if !in.To.IsZero() && !in.From.Before(in.To) {
		return nil, invalid("the journal is asked for from a time to one that is not later", "end it after it begins")
	}
	if in.Workspace != "" {
		w, err := s.find(ctx, a, in.Workspace)
		if err != nil {
			return nil, err
		}
		f.Subject = w.ID
	}
	if in.Person != "" {
		p, err := s.Store.Read().PersonByName(ctx, in.Person)
		if err != nil || !a.mayOf(policy.SeeJournal, p) {
			return nil, notFound("person", in.Person, "see who is here with: yardbench people")
		}
		f.Person = p.ID
	}
	rows, err := s.Store.Read().Journal(ctx, f)
	if err != nil {
		return nil, err
	}
	return s.entryViews(ctx, rows)
}

// entryViews are journal entries with the names of whom and what they speak.
func (s *Service) entryViews(ctx context.Context, rows []store.Entry) ([]wire.JournalEntry, error) {
	names := map[string]string{}
	name := func(id string, of func(context.Context, string) string) string {
		if _, known := names[id]; !known {
			names[id] = of(ctx, id)
		}
		return names[id]
	}
	out := []wire.JournalEntry{}
	for _, e := range rows {
		v, err := entryView(e)
		if err != nil {
			return nil, err
		}
		if v.ActorName = "service"; e.Actor != "service" && e.Actor != "" {
			v.ActorName = name(e.Actor, s.nameOf)
		}
		if e.OwnerID != "" {
			v.OwnerName = name(e.OwnerID, s.nameOf)
		}
		if strings.HasPrefix(e.Kind, "workspace.") {
			v.SubjectName = name(e.Subject, func(ctx context.Context, id string) string {
				n, err := s.Store.Read().NameOf(ctx, id)
				if err != nil {
					return ""
				}
				return n
			})
		}
		out = append(out, v)
	}
	return out, nil
}
