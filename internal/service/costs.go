package service

import (
	"context"
	"encoding/csv"
	"io"
	"strconv"
	"strings"
	"time"

	"yardbench/internal/core/cost"
	"yardbench/internal/core/policy"
	"yardbench/internal/core/rules"
	"yardbench/internal/house"
	"yardbench/internal/store"
	"yardbench/wire"
)

// Costs tells what was used and what it cost.
type Costs struct {
	house *house.Book
	store *store.Store
	now   func() time.Time
}

// Cost tells what was used between two times, and what it cost, of those whom
// the actor may see; of only some of it, where that is said. Zero times are the
// month so far.
func (s *Costs) Cost(ctx context.Context, a Actor, by string, only cost.Only, from, to time.Time) (wire.Cost, error) {
	scope, ok := a.scope(policy.SeeCost)
	if !ok {
		return wire.Cost{}, denied(a, "see what was used")
	}
	house, _, err := s.house.Rules(ctx, s.store.Read())
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
	intervals, err := s.store.Read().Intervals(ctx, scope, from, to)
	if err != nil {
		return wire.Cost{}, err
	}
	intervals = only.Of(intervals)
	rates, err := s.house.Rates(ctx, s.store.Read())
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
