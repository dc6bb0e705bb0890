package store

import (
	"context"
	"fmt"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"
)

// growing are the tables of which nobody throws anything away, or not soon: a
// query that looks at all rows of one is slow after a year.
var growing = []string{"workspaces", "plans", "plan_images", "sheets", "steps", "step_times", "journal", "intervals", "totals", "prebuild_runs", "deliveries", "tokens", "conditions", "asked", "operations", "outcomes", "look_links", "recordings"}

// mayScan are queries that look at all rows on purpose: who asks for them wants
// the whole, or an index holds only what exists now.
var mayScan = []string{
	"USING INDEX workspaces_living", "USING COVERING INDEX workspaces_living", "USING INDEX workspaces_reserved", "USING COVERING INDEX workspaces_reserved", // what exists
	"FROM errands ORDER BY",                                // what goes on
	"IN (SELECT id FROM workspaces WHERE owner_id = ?)",    // of somebody who is erased, once
	"operations_open",                                      // what is under way
	"FROM operations ORDER BY made_at DESC LIMIT",          // the newest
	"FROM conditions ORDER BY kind",                        // of everything that exists
	"FROM journal ORDER BY number",                         // the verification of the whole chain; the head
	"SELECT workspace_id, kind, from_at, to_at FROM inter", // the metering of the whole journal anew
	"recordings_open",                                      // what goes on
	"FROM recordings ORDER BY began_at DESC LIMIT",         // the newest
	"SELECT COALESCE(SUM(bytes), 0) FROM recordings",       // once a minute
	"SELECT COALESCE(MAX(number), 0) FROM journal",
	"FROM tokens WHERE door IN", "SELECT COUNT(*) FROM tokens WHERE expires_at", "FROM look_links WHERE TRUE", // once, of records that are put back
	"SELECT COALESCE(a.workspace_id", // the sums held against all intervals
}

var scanned = regexp.MustCompile(`SCAN (\w+)`)

// Every query goes by an index, but for the few that want everything.
func TestNoQueryLooksAtAllThereEverWas(t *testing.T) {
	s := open(t, filepath.Join(t.TempDir(), "a.db"), time.Now)
	ctx := t.Context()
	fill(t, s)
	called := 0
	call := func(v reflect.Value, m reflect.Method, values func(reflect.Type) []reflect.Value) {
		defer func() { _ = recover() }() // of nothing some can make nothing; their queries before that count
		args := [][]reflect.Value{{v}}
		for i := 1; i < m.Type.NumIn(); i++ {
			if m.Type.IsVariadic() && i == m.Type.NumIn()-1 {
				break
			}
			var next [][]reflect.Value
			for _, a := range args {
				for _, one := range values(m.Type.In(i)) {
					next = append(next, append(slices.Clone(a), one))
				}
			}
			args = next
		}
		for _, a := range args {
			called++
			m.Func.Call(a)
		}
	}
	now := time.Now()
	values := func(t reflect.Type) (out []reflect.Value) {
		add := func(vs ...any) {
			for _, v := range vs {
				out = append(out, reflect.ValueOf(v).Convert(t))
			}
		}
		switch {
		case t == reflect.TypeFor[context.Context]():
			return []reflect.Value{reflect.ValueOf(ctx)}
		case t == reflect.TypeFor[time.Time]():
			add(now)
		case t == reflect.TypeFor[Scope]():
			add(Scope{}, Scope{OwnerID: "p1"}, Scope{Teams: []string{"t1"}})
		case t == reflect.TypeFor[JournalFilter]():
			for _, f := range []JournalFilter{{}, {Newest: true}, {Of: Scope{OwnerID: "p1"}}, {Of: Scope{OwnerID: "p1", Teams: []string{"t1", "t2"}}}, {Subject: "w1"}, {Person: "p1", Newest: true}, {Kind: "workspace."}, {From: now.Add(-time.Hour), To: now}, {Of: Scope{OwnerID: "p1"}, Kind: "workspace."}, {Of: Scope{OwnerID: "p1"}, By: "p1"}, {Of: Scope{OwnerID: "p1", Teams: []string{"t1"}}, By: "p1", Person: "p2", Newest: true}} {
				f.Limit = 10
				add(f)
			}
		case t.Kind() == reflect.String:
			out = append(out, reflect.Zero(t), reflect.ValueOf("w1").Convert(t))
		case t.Kind() == reflect.Func:
			out = append(out, reflect.Zero(t))
		case t.Kind() == reflect.Pointer:
			out = append(out, reflect.New(t.Elem()))
		case t == reflect.TypeFor[Workspace]():
			w, err := s.Read().WorkspaceByID(ctx, "w1")
			if err == nil {
				add(w)
			}
		default:
			out = append(out, reflect.Zero(t))
		}
		return out
	}
	q := s.Read()
	for i := range reflect.TypeOf(q).NumMethod() {
		call(reflect.ValueOf(q), reflect.TypeOf(q).Method(i), values)
	}
	for i := range reflect.TypeFor[*Tx]().NumMethod() {
		_ = s.Write(ctx, func(tx *Tx) error { // undone
			call(reflect.ValueOf(tx), reflect.TypeFor[*Tx]().Method(i), values)
			return errUndo
		})
	}
	queries := map[string]bool{}
	for _, of := range []*statements{s.read, s.written} {
		of.mu.RLock()
		for text := range of.of {
			queries[text] = true
		}
		of.mu.RUnlock()
	}
	if called < 300 || len(queries) < 110 {
		t.Fatalf("only %d calls were made, with %d queries", called, len(queries))
	}
	for text := range queries {
		if w := strings.Fields(text)[0]; w != "SELECT" && w != "UPDATE" && w != "DELETE" && w != "WITH" && !strings.HasPrefix(text, "INSERT INTO totals") {
			continue
		}
		n := strings.Count(text, "?")
		rows, err := s.readers.QueryContext(ctx, "EXPLAIN QUERY PLAN "+text, make([]any, n)...)
		if err != nil {
			rows, err = s.readers.QueryContext(ctx, "EXPLAIN QUERY PLAN "+text, make([]any, highest(text))...)
		}
		if err != nil {
			t.Errorf("%v: %s", err, text)
			continue
		}
		for rows.Next() {
			var id, parent, other int
			var detail string
			if err := rows.Scan(&id, &parent, &other, &detail); err != nil {
				t.Fatal(err)
			}
			m := scanned.FindStringSubmatch(detail)
			if m == nil {
				continue
			}
			table := m[1]
			for _, g := range growing { // by its name, or by what the query calls it
				if regexp.MustCompile(`\b` + g + `( AS)? ` + table + `\b`).MatchString(text) {
					table = g
				}
			}
			if !slices.Contains(growing, table) || slices.ContainsFunc(mayScan, func(may string) bool { return strings.Contains(detail+" | "+text, may) }) {
				continue
			}
			t.Errorf("%s\n\tby %s", detail, text)
		}
		rows.Close()
	}
}

var numbered = regexp.MustCompile(`\?(\d+)`)

// highest is how many arguments a query with numbered ones takes.
func highest(text string) (n int) {
	for _, m := range numbered.FindAllStringSubmatch(text, -1) {
		var k int
		_, _ = fmt.Sscan(m[1], &k)
		n = max(n, k)
	}
	return n
}
