package api_test

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"yardbench/internal/core/definition"
	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/policy"
	"yardbench/internal/serve"
	"yardbench/internal/service"
	"yardbench/internal/store"
	"yardbench/wire"
)

// bodies are what operations are asked with, by their id; others get {}.
var bodies = map[string]string{
	"commit-changes": `{"message":"x"}`, "allow-look": `{}`, "add-look-link": `{"port":8000}`, "put-first-line": `{"line":"x"}`, "switch-branch": `{"name":"x"}`, "stage-changes": `{"paths":["."]}`, "unstage-changes": `{"paths":["."]}`, "discard-changes": `{"paths":["."]}`,
	"make-passkey": `{"name":"x","kept":"x","answer":"x"}`, "sign-in-by-passkey": `{"kept":"x","answer":"x"}`,
	"put-git-host": `{"authorize":"x","token":"x","client":"x"}`, "ask-git-host-code": `{"kept":"x"}`,
	"add-program": `{"name":"x9","purpose":"x","team":"Timetable"}`, "make-program-token": `{"name":"x"}`,
	"ask-operation": `{"verb":"let rest","names":["w"]}`, "hold-workspace": `{"seconds":3600,"why":"x"}`, "change-port": `{"shared":true}`, "visit-port": `{"address":"http://x"}`, "launch": `{"repository":"ghost"}`, "preflight": `{"repository":"ghost"}`,
	"give-quarantined": `{"to":"ingrid"}`, "keep-quarantined": `{"reason":"x"}`, "adopt-container": `{"owner":"ingrid","repository":"tide-board"}`, "add-repository": `{"url":"ftp://x"}`, "put-secret": `{"value":"x","everywhere":true}`, "put-repository-secret": `{"value":"x"}`, "invite-guest": `{"team":"Timetable","until":"2020-01-01T00:00:00Z","repositories":["tide-board"]}`, "change-guest": `{"until":"2020-01-01T00:00:00Z"}`, "put-team-secret": `{"value":"x","everywhere":true}`, "put-house-secret": `{"value":"x","everywhere":true}`, "put-git-credential": `{"username":"a","password":"b"}`,
	"check-rules": `{"document":"x"}`, "put-rules": `{"document":"x","reason":"x"}`, "add-team": `{"name":"Bridge"}`, "rename-team": `{"name":"Decks"}`, "make-token": `{"name":"x"}`, "make-enrolment": `{}`, "sign-in": `{"name":"x","password":"x"}`,
	"show-enrolment": `{"key":"x"}`, "use-enrolment": `{"key":"x","password":"x"}`, "tell-push": `{"repository":"x","branch":"x","commit":"x"}`,
}

// Every operation of the OpenAPI document, with every role and with nobody, on
// one's own, one's team's and somebody else's: what the policy's one table
// does not allow is refused, and what one may not see is not there.
func TestEveryRouteHoldsThePolicy(t *testing.T) {
	address, svc := doorTo(t, serve.SimulatedYard)
	var doc struct {
		Paths map[string]map[string]struct {
			OperationID string             `json:"operationId"`
			Action      policy.Action      `json:"x-yardbench-action"`
			Security    []map[string][]any `json:"security"`
		} `json:"paths"`
	}
	people := map[policy.Role]string{policy.Operator: "astrid", policy.Lead: "runa", policy.Developer: "ingrid", policy.Auditor: "audun", policy.Guest: "tormod"}
	if err := svc.rooms.Store.Write(t.Context(), func(tx *store.Tx) error {
		p, err := tx.PersonByName(t.Context(), "ingrid") // of her team, with her password
		if err != nil {
			return err
		}
		p.ID, p.Name = store.NewID(), "tormod"
		return errors.Join(tx.AddPerson(t.Context(), p), tx.PutGuest(t.Context(), p.ID, store.Guest{Until: time.Now().Add(time.Hour), Repositories: []string{"r1"}, By: p.ID}))
	}); err != nil {
		t.Fatal(err)
	}
	tokens := map[policy.Role]string{}
	for role, name := range people {
		tokens[role] = signIn(t, address, name)
	}
	_, text := call(t, "GET", address+"/api/v1/openapi.json", "", bearer(tokens[policy.Auditor]))
	if err := json.Unmarshal([]byte(text), &doc); err != nil || len(doc.Paths) < 40 {
		t.Fatalf("the description has %d paths, %v", len(doc.Paths), err)
	}
	// Of each owner one workspace: whose is in the asker's team depends on the asker.
	teamOf := map[string]string{}
	for _, name := range []string{"astrid", "runa", "ingrid", "audun", "jonas", "mats", "tormod"} {
		p, err := svc.rooms.Store.Read().PersonByName(t.Context(), name)
		if err != nil {
			t.Fatal(err)
		}
		teamOf[name] = cmp.Or(p.Team, "none")
	}
	owners := []string{"astrid", "runa", "ingrid", "audun", "jonas", "mats", "tormod"}
	fresh := func() {
		for _, name := range owners {
			renew(t, svc, name)
		}
	}
	fresh()
	asked := 0
	for path, methods := range doc.Paths {
		for method, o := range methods {
			method = strings.ToUpper(method)
			open := o.Security != nil && len(o.Security) == 0 || o.OperationID == "health"
			concrete := func(owner string) string {
				return strings.NewReplacer("{workspace}", "w."+owner, "{person}", owner, "{repository}", "tide-board", "{name}", "KEY", "{host}", "git.skerryline.example", "{team}", teamOf[owner],
					"{id}", "nothing", "{operation}", "nothing", "{container}", "nothing", "{run}", "nothing", "{port}", "8000", "{sheet}", "0", "{version}", "0", "{number}", "1").Replace(path)
			}
			if status := ask(t, method, address+concrete("ingrid"), bodies[o.OperationID], ""); open == (status == 401) && o.OperationID != "sign-in" && o.OperationID != "tell-push" {
				t.Errorf("%s %s asked by nobody is answered %d", method, path, status)
			}
			if open || o.OperationID == "sign-out" {
				continue
			}
			if _, known := policy.Table[o.Action]; !known {
				t.Errorf("%s %s names no action of the policy: %q", method, path, o.Action)
			}
			for role, name := range people {
				targets := []string{name}
				teams := strings.Contains(path, "{team}/")
				if teams {
					targets = []string{"ingrid", "jonas"} // of whose teams
				}
				if strings.Contains(path, "{workspace}") || strings.Contains(path, "{person}") && !strings.Contains(path, "/guests/") { // of these none is a guest
					targets = owners
				}
				for _, owner := range targets {
					asked++
					status := ask(t, method, address+concrete(owner), bodies[o.OperationID], tokens[role])
					me, _ := svc.rooms.Store.Read().PersonByName(t.Context(), name)
					them, _ := svc.rooms.Store.Read().PersonByName(t.Context(), owner)
					rel := policy.Between(me.ID, me.Teams(), them.ID, them.TeamID)
					want := "allowed"
					see := map[bool]policy.Action{true: policy.SeeWorkspace, false: policy.SeePeople}[strings.Contains(path, "{workspace}")]
					if teams { // a team is nobody's own
						if see = policy.SeeTeamSecrets; rel == policy.Own {
							rel = policy.Team
						}
					}
					switch {
					case policy.Widest(role, o.Action) == 0:
						want = "forbidden"
					case len(targets) == 1, o.OperationID == "open-session", o.OperationID == "open-tunnel", o.OperationID == "open-datagrams", o.OperationID == "listen-port", o.OperationID == "open-ssh", o.OperationID == "open-language", o.OperationID == "open-debugger": // decided behind the upgrade
					case !policy.May(role, see, rel):
						want = "hidden"
					case !policy.May(role, o.Action, rel):
						want = "forbidden"
					}
					got := "allowed"
					switch {
					case status == 403:
						got = "forbidden"
					case status == 404 && len(targets) > 1:
						got = "hidden"
					case status == 401 || status >= 500:
						got = "broken"
					}
					if got != want {
						t.Errorf("%s %s asked by %s of %s's is answered %d: %s, not %s", method, path, role, owner, status, got, want)
					}
				}
			}
			fresh()
		}
	}
	if asked < 400 {
		t.Errorf("only %d were asked", asked)
	}
}

// ask gives the status of an answer and leaves its body: some never end.
func ask(t *testing.T, method, url, body, token string) int {
	t.Helper()
	if body == "" {
		body = "{}"
	}
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, method, url, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Content-Type", "application/json")
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatalf("%s %s: %v", method, url, err)
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusNotFound {
		return res.StatusCode // it may be a stream
	}
	text, _ := io.ReadAll(io.LimitReader(res.Body, 1<<20)) // what could be read is looked at
	if says := string(text); !strings.Contains(says, "no workspace") && !strings.Contains(says, "no person") && !strings.Contains(says, "no team") {
		return http.StatusNoContent // what it belongs to is seen, and has none such
	}
	return res.StatusCode
}

// renew gives somebody one workspace named w that is stopped, and their own
// role, whatever was done to them.
func renew(t *testing.T, svc *inside, name string) {
	t.Helper()
	ctx := t.Context()
	err := svc.rooms.Store.Write(ctx, func(tx *store.Tx) error {
		p, err := tx.PersonByName(ctx, name)
		if err != nil {
			return err
		}
		if _, err := tx.RepositoryByName(ctx, "tide-board"); err != nil {
			if err := tx.AddRepository(ctx, store.Repository{ID: "r1", Name: "tide-board", URL: "http://git.skerryline.localhost:1/tide-board.git", DefaultBranch: "main"}); err != nil {
				return err
			}
		}
		if w, err := tx.WorkspaceByName(ctx, p.ID, "w"); err == nil {
			if w.Phase == lifecycle.Stopped && w.Wanted == lifecycle.WantStopped {
				return nil
			}
			w.Phase = lifecycle.Removed // as if it never was
			if err := tx.SaveWorkspace(ctx, w); err != nil {
				return err
			}
		}
		w := store.Workspace{ID: store.NewID(), OwnerID: p.ID, Name: "w", RepositoryID: "r1", Branch: "main", Phase: lifecycle.Stopped, Wanted: lifecycle.WantStopped, Body: 1, Volume: 1, SeededVolume: 1,
			StewardToken: []byte{1}, PortKey: service.NewPortKey(), Size: "small", Plan: &store.Plan{Commit: "0123456789abcdef", Definition: definition.Definition{Image: "a", Folder: "/x"}}}
		if err := tx.AddWorkspace(ctx, &w); err != nil {
			return err
		}
		_, err = tx.OpenSheet(ctx, w.ID, lifecycle.LaunchSheet)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
}

// Whoever is signed in is told what they may ask, as the table of rights has it; with
// a token, what that reaches of it.
func TestWhatOneMay(t *testing.T) {
	address, _ := doorTo(t, serve.SimulatedYard)
	field, _ := reflect.TypeFor[wire.Right]().FieldByName("Action")
	described := strings.Split(field.Tag.Get("enum"), ",")
	for name, role := range map[string]policy.Role{"astrid": policy.Operator, "runa": policy.Lead, "ingrid": policy.Developer, "audun": policy.Auditor} {
		c := mustClient(t, address, signIn(t, address, name))
		me, err := c.Self.Me(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		told := map[string][]string{}
		for _, r := range me.May {
			told[r.Action] = r.Of
		}
		for _, a := range policy.Actions() {
			want := policy.Table[a][role]
			if me.Team == "" {
				want &^= policy.Team
			}
			if a == policy.EnterWorkspace { // the house rules let nobody
				want = 0
			}
			if !slices.Equal(told[string(a)], want.Names()) || !slices.Contains(described, string(a)) {
				t.Errorf("%s may %s of %v, and is told %v", name, a, want.Names(), told[string(a)])
			}
		}
		if role != policy.Operator {
			continue
		}
		made, err := c.Self.MakeToken(t.Context(), wire.NewToken{Name: "reads", Scopes: []string{"read"}})
		if err != nil {
			t.Fatal(err)
		}
		if me, err = mustClient(t, address, made.Value).Self.Me(t.Context()); err != nil || slices.ContainsFunc(me.May, func(r wire.Right) bool {
			return r.Action == string(policy.ChangeRules) || r.Action == string(policy.UseWorkspace)
		}) {
			t.Errorf("what only reads is told %v, %v", me.May, err)
		}
	}
}
