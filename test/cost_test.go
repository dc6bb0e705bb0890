package test

import (
	"encoding/csv"
	"path/filepath"
	"reflect"
	"regexp"
	"strings"
	"testing"

	yb "yardbench/client"

	"time"

	"yardbench/internal/store"
)

// What was used is metered to the second, the same after a kill, priced by
// the rules, and seen by whom it concerns.
func TestCost(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	c := w.client("ingrid")
	w.rules("small: 0.06", "small: 3600") // a euro a second
	began := time.Now()
	w.must(w.as("ingrid", "", "launch", "berth-planner", "--name", "metered"), 0)
	time.Sleep(1500 * time.Millisecond)
	w.kill()
	time.Sleep(1500 * time.Millisecond)
	w.start()
	w.until(c, "metered", 10*time.Second, inPhase("ready"))
	w.must(w.as("ingrid", "", "stop", "metered"), 0)
	ran := time.Since(began)
	report, err := c.Costs.Report(t.Context(), yb.CostQuery{By: "workspace"})
	if err != nil || len(report.Rows) != 1 || report.Rows[0].Key != "metered.ingrid" || report.Currency != "EUR" {
		t.Fatalf("the report is %+v, %v", report, err)
	}
	row := report.Rows[0]
	if euros := time.Duration(row.ActiveMicros+row.IdleMicros) * time.Microsecond; euros < 3*time.Second || euros > ran {
		t.Errorf("at a euro a second it cost %s, and ran %s", euros, ran)
	}
	if ws, err := c.Workspaces.Show(t.Context(), "metered"); err != nil || ws.CostMicros != report.Total.TotalMicros || len(ws.Day) == 0 {
		t.Errorf("the workspace says %d, the report %d, %v", ws.CostMicros, report.Total.TotalMicros, err)
	}
	w.must(w.as("runa", "", "cost", "--by", "person"), 0, "ingrid")
	if out := w.must(w.as("mats", "", "cost"), 0); strings.Contains(out, "Timetable") {
		t.Errorf("somebody else sees it:\n%s", out)
	}
	rows, err := csv.NewReader(strings.NewReader(w.must(w.as("audun", "", "cost", "--by", "day", "--csv"), 0))).ReadAll()
	if err != nil || len(rows) < 2 || rows[0][9] != "total_EUR" || !regexp.MustCompile(`^\d{4}-\d\d-\d\d$`).MatchString(rows[1][0]) {
		t.Errorf("as CSV it is %v, %v", rows, err)
	}
	w.must(w.as("ingrid", "", "cost", "--from", "yesterday"), 4, "is no day")
	w.must(w.as("ingrid", "", "cost", "--from", "2026-02-01", "--to", "2026-01-01"), 4, "cannot be reported")
	w.must(w.as("ingrid", "", "cost", "--by", "colour"), 4, "by")
	w.kill()
	st, err := store.Open(t.Context(), filepath.Join(w.dir, "data", "yardbench.db"), time.Now)
	if err != nil {
		t.Fatal(err)
	}
	stored, computed, err := st.Read().Remeter(t.Context())
	if err != nil || len(stored) < 2 || !reflect.DeepEqual(stored, computed) {
		t.Errorf("stored is %v, the journal comes to %v, %v", stored, computed, err)
	}
	st.Close()
	w.start()
}
