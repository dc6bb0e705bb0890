package api_test

import (
	"encoding/json"
	"net/http"
	"slices"
	"strings"
	"testing"

	"yardbench/internal/store"
)

type described struct {
	Paths      map[string]map[string]operation
	Components struct{ Schemas map[string]map[string]any }
	text       string
}

type operation struct {
	OperationID string
	Action      string `json:"x-yardbench-action"`
	Parameters  []struct{ Name, In, Description string }
	RequestBody *struct {
		Content map[string]struct{ Example any }
	}
	Responses map[string]struct {
		Headers map[string]any
		Content map[string]struct {
			Schema map[string]any
		}
	}
}

func (o operation) takes(name string) bool {
	return slices.ContainsFunc(o.Parameters, func(p struct{ Name, In, Description string }) bool { return p.Name == name && p.Description != "" })
}

func description(t *testing.T) (d described) {
	t.Helper()
	address, _ := door(t)
	_, text := call(t, "GET", address+"/api/v1/openapi.json", "", bearer(signIn(t, address, "astrid")))
	if err := json.Unmarshal([]byte(text), &d); err != nil || len(d.Paths) < 60 {
		t.Fatalf("the description has %d paths, %v", len(d.Paths), err)
	}
	d.text = text
	return d
}

// makesNothing are the POSTs after which there is nothing new that could be read.
var makesNothing = []string{"ask-for-passkey", "ask-who", "sign-in-by-passkey", "begin-git-host", "begin-git-host-code", "ask-git-host-code", "cancel-operation", "renew-lease",
	"sign-in", "sign-out", "renew-sign-in", "show-enrolment", "visit-port", "make-code", "use-launch-link", "begin-device", "redeem-token", "renew-secrets", "answer-device-request", "tell-signed-out", // a way in, which stands in no list
	"preflight", "check-rules", "verify-journal", "fill-starter", "pack-some-files", // a look
	"start-workspace", "stop-workspace", "end-recording", "rebuild-workspace", "let-go", // a change of what is there
	"test-webhook", "replay-webhook", "tell-push",
}

// The form of the door, over its own description: lists are read in parts, what
// makes something says where and can be asked twice, what is gone has no answer,
// what is answered may grow.
func TestFormOfTheDoor(t *testing.T) {
	d := description(t)
	lists := 0
	for path, methods := range d.Paths {
		for method, o := range methods {
			where := strings.ToUpper(method) + " " + path
			var good []string
			for code := range o.Responses {
				if code[0] == '2' {
					good = append(good, code)
				}
			}
			body := map[string]any{}
			if len(good) == 1 {
				body = o.Responses[good[0]].Content["application/json"].Schema
			}
			if body["type"] == "array" {
				t.Errorf("%s answers a bare list", where)
			}
			ref, _ := body["$ref"].(string)
			schema := d.Components.Schemas[strings.TrimPrefix(ref, "#/components/schemas/")]
			properties, _ := schema["properties"].(map[string]any)
			if o.RequestBody != nil {
				if text, ok := o.RequestBody.Content["application/json"]; ok && text.Example == nil {
					t.Errorf("%s has no example of what it is asked with", where)
				}
			}
			switch {
			case method == "get" && properties["items"] != nil:
				lists++
				if properties["next"] == nil || properties["as_of"] == nil || !o.takes("after") {
					t.Errorf("%s is no list that is read in parts", where)
				}
				if o.OperationID != "list-journal" && !o.takes("sort") {
					t.Errorf("%s says nothing of its orders", where)
				}
				one := ""
				for p, ms := range d.Paths {
					if rest, ok := strings.CutPrefix(p, path+"/{"); ok && !strings.Contains(rest, "/") && ms["get"].OperationID != "" {
						one = p
					}
				}
				apart := map[string]string{
					"list-hosted-repositories": "it is a look", "list-openings": "it is a look at how things stand", "list-deliveries": "an attempt has no name", "explain-secrets": "it is a look", "explain-workspace-secrets": "it is a look", "list-container-sizes": "the house rules have them", "list-files": "/files/entry, by its path", "list-changes": "it is a look", "list-terminals": "it is a look", "list-looks": "a leave is put and taken away", "list-own-looks": "a leave is put and taken away", "list-branches": "it is a look", "list-repository-branches": "it is a look",
					"list-link-uses": "a use is a person's, of the link", "list-plans": "/repositories/{repository}/prebuild-plan", "list-runs": "/prebuild-runs/{run}",
				}
				if one == "" && apart[o.OperationID] == "" {
					t.Errorf("%s: none of them can be read alone", where)
				}
			case method == "delete":
				if want := map[bool]string{true: "202", false: "204"}[o.OperationID == "remove-workspace"]; !slices.Equal(good, []string{want}) {
					t.Errorf("%s is answered %v", where, good)
				}
			case method == "post" && !slices.Contains(makesNothing, o.OperationID):
				want := "201"
				if slices.Contains([]string{"launch", "adopt-container", "give-quarantined", "run-plan", "ask-operation"}, o.OperationID) {
					want = "202" // it goes on
				}
				if !slices.Equal(good, []string{want}) || o.Responses[want].Headers["Location"] == nil {
					t.Errorf("%s is answered %v, and where it is with %v", where, good, o.Responses[want].Headers)
				}
				if !o.takes("Idempotency-Key") && o.OperationID != "use-enrolment" { // a link is used once
					t.Errorf("%s cannot be asked twice", where)
				}
			}
		}
	}
	if lists < 20 {
		t.Errorf("there are %d lists", lists)
	}
	sent, answered := d.reach("requestBody"), d.reach("responses")
	for name, s := range d.Components.Schemas {
		_, closed := s["additionalProperties"].(bool)
		if sent[name] && answered[name] {
			t.Errorf("%s is both sent and answered: it can be neither closed nor open", name)
		}
		if closed != sent[name] {
			t.Errorf("%s is closed: %v, and sent to us: %v", name, closed, sent[name])
		}
		if text, _ := json.Marshal(s); strings.Contains(string(text), `"enum":[""`) || strings.Contains(string(text), `,""`) {
			t.Errorf("%s has nothing as a member of a set", name)
		}
	}
}

// reach are the schemas that are used beneath a part of the operations.
func (d described) reach(part string) map[string]bool {
	out := map[string]bool{}
	var walk func(v any)
	walk = func(v any) {
		switch v := v.(type) {
		case map[string]any:
			if ref, ok := v["$ref"].(string); ok {
				name := strings.TrimPrefix(ref, "#/components/schemas/")
				if !out[name] {
					out[name] = true
					walk(map[string]any(d.Components.Schemas[name]))
				}
			}
			for _, x := range v {
				walk(x)
			}
		case []any:
			for _, x := range v {
				walk(x)
			}
		}
	}
	var all struct {
		Paths map[string]map[string]map[string]any
	}
	_ = json.Unmarshal([]byte(d.text), &all) // it was read before
	for _, methods := range all.Paths {
		for _, o := range methods {
			walk(o[part])
		}
	}
	return out
}

// Every list is read in parts as it is read as a whole, in each order, and goes on
// after nothing that is not its own.
func TestListsInParts(t *testing.T) {
	address, svc := door(t)
	astrid := bearer(signIn(t, address, "astrid"))
	for _, name := range []string{"astrid", "runa", "ingrid", "audun", "jonas", "mats"} {
		renew(t, svc, name)
	}
	type list struct {
		Items []map[string]any
		Next  string
		AsOf  int64 `json:"as_of"`
	}
	read := func(path string) (l list) {
		t.Helper()
		res, text := call(t, "GET", address+"/api/v1"+path, "", astrid.Clone())
		if err := json.Unmarshal([]byte(text), &l); err != nil || res.StatusCode != http.StatusOK {
			t.Fatalf("%s is answered %d: %s", path, res.StatusCode, text)
		}
		return l
	}
	marks := map[string]string{}
	for path, sorts := range map[string][]string{
		"/people?": {"", "name", "-name", "full_name", "role", "-team"}, "/teams?": {"", "-name"}, "/tokens?": {"", "created_at", "-expires_at"}, "/repositories?": {""},
		"/workspaces?all=true&": {"", "owner", "-owner", "team", "repository", "branch", "phase", "size", "-phase_at", "hour", "-cost"}, "/journal?": {""}, "/rules?": {""},
	} {
		for _, sort := range sorts {
			if sort != "" {
				sort = "sort=" + sort + "&"
			}
			whole := read(path + sort + "limit=1000")
			if whole.AsOf == 0 || whole.Next != "" || len(whole.Items) == 0 {
				t.Fatalf("%s%s: %d things as of %d, then %q", path, sort, len(whole.Items), whole.AsOf, whole.Next)
			}
			var items []map[string]any
			for after := ""; ; {
				part := read(path + sort + "limit=2" + after)
				if len(part.Items) > 2 {
					t.Fatalf("%s gives %d", path, len(part.Items))
				}
				items = append(items, part.Items...)
				if part.Next == "" || len(items) > 5000 {
					break
				}
				after, marks[path] = "&after="+part.Next, part.Next
			}
			for _, one := range append(slices.Clone(items), whole.Items...) {
				delete(one, "last_used_at") // asking uses a token
			}
			a, _ := json.Marshal(items)
			b, _ := json.Marshal(whole.Items[:min(len(items), len(whole.Items))])
			if len(items) < len(whole.Items) || path != "/journal?" && string(a) != string(b) {
				t.Errorf("%s%s in parts is\n%s\nand as a whole\n%s", path, sort, a, b)
			}
		}
	}
	for path, says := range map[string]string{
		"/people?after=" + marks["/workspaces?all=true&"]: "another list or order",
		"/people?sort=-name&after=" + marks["/people?"]:   "another list or order",
		"/people?after=%00":                          "cannot be read",
		"/people?after=" + strings.Repeat("a", 3000): "",
		"/people?limit=0":                            "limit",
		"/people?limit=10000":                        "limit",
		"/people?sort=colour":                        "name, full_name, role, team",
		"/people?rol=lead":                           `asked with`,
		"/workspaces?stat=ready":                     "write state, if that is meant",
		"/workspaces?state=redy":                     "write “ready”, if that is meant",
		"/workspaces?state=wharf":                    "set-up failed",
		"/workspaces?all=true&state=ready&state=":    "there is no state",
		"/journal?before=-1":                         "before",
		"/health?deep=true":                          "leave it out",
		"/workspaces?all=true&find=" + strings.Repeat("%E2%82%AC", 300): "find",
	} {
		if res, text := call(t, "GET", address+"/api/v1"+path, "", astrid.Clone()); res.StatusCode != http.StatusUnprocessableEntity || !strings.Contains(text, says) {
			t.Errorf("%.80s is answered %d: %s", path, res.StatusCode, text)
		}
	}
	// The filters, each alone and together.
	count := func(query string) int { return len(read("/workspaces?all=true&" + query).Items) }
	for query, want := range map[string]int{
		"": 6, "owner=ingrid": 1, "owner=nobody": 0, "team=Timetable": 3, "repository=tide-board": 6, "branch=main": 6, "branch=mai": 0, "size=small": 6, "state=stopped": 6,
		"state=ready": 0, "state=ready&state=stopped": 6, "state=idle": 0, "find=INGR": 1, "find=%20tide%20": 6, "find=quay": 0, "owner=ingrid&state=ready": 0, "owner=ingrid&team=Harbour": 0,
	} {
		if got := count(query); got != want {
			t.Errorf("with %q there are %d workspaces, not %d", query, got, want)
		}
	}
	// Entries backwards from where somebody is.
	back := read("/journal?before=10&limit=3")
	if len(back.Items) != 3 || back.Items[0]["number"] != float64(9) || back.Next != "7" {
		t.Errorf("before the tenth come %v, then %q", back.Items, back.Next)
	}
	if res, text := call(t, "GET", address+"/api/v1/journal/5", "", astrid.Clone()); res.StatusCode != http.StatusOK || !strings.Contains(text, `"number":5`) {
		t.Errorf("the fifth is %d: %s", res.StatusCode, text)
	}
}

// What is asked with a key is done once; what is asked with rubbish, or with
// somebody else's key, is told.
func TestKeys(t *testing.T) {
	address, svc := door(t)
	astrid, runa := signIn(t, address, "astrid"), signIn(t, address, "runa")
	post := func(token, path, body, key string) (*http.Response, string) {
		h := bearer(token)
		h.Set("Idempotency-Key", key)
		return call(t, "POST", address+"/api/v1"+path, body, h)
	}
	first, a := post(astrid, "/teams", `{"name":"Buoys"}`, "k1")
	again, b := post(astrid, "/teams", `{"name":"Buoys"}`, "k1")
	if first.StatusCode != 201 || again.StatusCode != 201 || a != b || first.Header.Get("Location") != "/api/v1/teams/Buoys" || again.Header.Get("Location") != first.Header.Get("Location") {
		t.Errorf("twice it is answered %d %s, %d %s", first.StatusCode, a, again.StatusCode, b)
	}
	for what, c := range map[string]struct {
		token, path, body, key string
		status                 int
		says                   string
	}{
		"another body":      {astrid, "/teams", `{"name":"Lights"}`, "k1", 422, "key-of-another"},
		"another operation": {astrid, "/tokens", `{"name":"Buoys"}`, "k1", 422, "key-of-another"},
		"no key":            {astrid, "/teams", `{"name":"Buoys"}`, "", 409, "name-taken"},
		"another key":       {astrid, "/teams", `{"name":"Buoys"}`, "k2", 409, "name-taken"},
		"another's key":     {runa, "/tokens", `{"name":"mine"}`, "k1", 201, "yb_"},
		"a key too long":    {astrid, "/teams", `{"name":"Rocks"}`, strings.Repeat("k", 256), 422, "no key"},
		"a key of rubbish":  {astrid, "/teams", `{"name":"Rocks"}`, "ø", 422, "no key"},
	} {
		if res, text := post(c.token, c.path, c.body, c.key); res.StatusCode != c.status || !strings.Contains(text, c.says) {
			t.Errorf("%s is answered %d: %s", what, res.StatusCode, text)
		}
	}
	if res, text := post(astrid, "/teams", `{"name":"Sounds"}`, "k2"); res.StatusCode != 201 { // a refusal uses no key up
		t.Errorf("after a refusal it is answered %d: %s", res.StatusCode, text)
	}
	// A value that is shown once is shown again to whoever asked for it.
	_, one := post(astrid, "/tokens", `{"name":"nightly"}`, "k3")
	_, two := post(astrid, "/tokens", `{"name":"nightly"}`, "k3")
	if one != two || !strings.Contains(one, `"value":"yb_`) {
		t.Errorf("a token is answered %s and %s", one, two)
	}
	// The service ended between the making and its answer.
	person, err := svc.rooms.Store.Read().PersonByName(t.Context(), "astrid")
	if err != nil {
		t.Fatal(err)
	}
	if err := svc.rooms.Store.Write(t.Context(), func(tx *store.Tx) error { return tx.Answered(t.Context(), person.ID, "k3", nil) }); err != nil {
		t.Fatal(err)
	}
	if res, text := post(astrid, "/tokens", `{"name":"nightly"}`, "k3"); res.StatusCode != 409 || !strings.Contains(text, "answer-lost") {
		t.Errorf("without its answer it is answered %d: %s", res.StatusCode, text)
	}
}

// Who changes what somebody else has changed meanwhile is told how it stands.
func TestChangesOfWhatOthersChange(t *testing.T) {
	d := description(t)
	for path, methods := range d.Paths {
		for method, o := range methods {
			several := slices.Contains([]string{"put-rules", "change-person", "put-secret", "put-repository-secret", "put-team-secret", "put-house-secret", "put-plan", "change-repository", "remove-repository", "change-webhook", "change-launch-link", "remove-workspace", "start-workspace", "stop-workspace", "rebuild-workspace", "remove-file", "write-file"}, o.OperationID)
			if several != o.takes("If-Match") && o.OperationID != "let-go" {
				t.Errorf("%s %s takes If-Match: %v", method, path, o.takes("If-Match"))
			}
			if slices.Contains([]string{"show-person", "show-secret", "show-repository-secret", "show-team-secret", "show-house-secret", "show-plan", "show-rules", "show-workspace", "show-repository", "show-webhook", "show-launch-link"}, o.OperationID) && o.Responses["200"].Headers["ETag"] == nil {
				t.Errorf("%s %s says no ETag", method, path)
			}
		}
	}
	address, svc := door(t)
	astrid := signIn(t, address, "astrid")
	renew(t, svc, "ingrid")
	ask := func(method, path, body, match string) (*http.Response, string) {
		h := bearer(astrid)
		if match != "" {
			h.Set("If-Match", match)
		}
		return call(t, method, address+"/api/v1"+path, body, h)
	}
	tag := func(path string) string {
		res, text := ask("GET", path, "", "")
		if tag := res.Header.Get("ETag"); res.StatusCode == 200 && len(tag) > 3 && tag[0] == '"' {
			return tag
		}
		t.Fatalf("%s is answered %d with %q: %s", path, res.StatusCode, res.Header.Get("ETag"), text)
		return ""
	}
	seen := tag("/people/mats")
	if res, text := ask("PATCH", "/people/mats", `{"team":"Fares"}`, seen); res.StatusCode != 200 || res.Header.Get("ETag") == seen || res.Header.Get("ETag") != tag("/people/mats") {
		t.Errorf("a change of what was seen is answered %d: %s", res.StatusCode, text)
	}
	for what, c := range map[string]struct {
		method, path, body, match string
		status                    int
		says                      string
	}{
		"an old state":             {"PATCH", "/people/mats", `{"role":"lead"}`, seen, 412, `"team":"Fares"`},
		"any state":                {"PATCH", "/people/mats", `{"role":"lead"}`, "*", 200, "lead"},
		"rubbish":                  {"PATCH", "/people/jonas", `{"role":"lead"}`, "rubbish", 422, "no strong tag"},
		"a weak tag":               {"PATCH", "/people/jonas", `{"role":"lead"}`, `W/"a"`, 422, "no strong tag"},
		"an open quotation":        {"PATCH", "/people/jonas", `{"role":"lead"}`, `"a`, 422, "no strong tag"},
		"two, with nothing":        {"PATCH", "/people/jonas", `{"role":"lead"}`, `"a", `, 422, "no strong tag"},
		"too much":                 {"PATCH", "/people/jonas", `{"role":"lead"}`, `"` + strings.Repeat("a", 2000) + `"`, 422, "no strong tag"},
		"several":                  {"PATCH", "/people/jonas", `{"role":"lead"}`, `"a", ` + tag("/people/jonas"), 200, "lead"},
		"a secret there is not":    {"PUT", "/secrets/KEY", `{"value":"x","everywhere":true}`, "*", 412, "is not there"},
		"a workspace as it was":    {"POST", "/workspaces/w.ingrid/stop", ``, `"0"`, 412, `"phase":"stopped"`},
		"rules from nowhere":       {"PUT", "/rules", `{"document":"x","reason":"y"}`, "", 428, "If-Match"},
		"rules from a version yet": {"PUT", "/rules", `{"document":"zone: Europe/Oslo","reason":"y"}`, `"v0"`, 422, ""},
	} {
		if res, text := ask(c.method, c.path, c.body, c.match); res.StatusCode != c.status || !strings.Contains(text, c.says) {
			t.Errorf("%s is answered %d: %s", what, res.StatusCode, text)
		}
	}
	if res, text := ask("PUT", "/secrets/KEY", `{"value":"x","everywhere":true}`, ""); res.StatusCode != 200 {
		t.Fatalf("a secret is answered %d: %s", res.StatusCode, text)
	}
	first := tag("/secrets/KEY")
	if res, _ := ask("PUT", "/secrets/KEY", `{"value":"y"}`, first); res.StatusCode != 200 {
		t.Errorf("a secret set from what was seen is answered %d", res.StatusCode)
	}
	if res, text := ask("PUT", "/secrets/KEY", `{"value":"z"}`, first); res.StatusCode != 412 || !strings.Contains(text, `"version":2`) || strings.Contains(text, `"y"`) {
		t.Errorf("a secret set from an old state is answered %d: %s", res.StatusCode, text)
	}
}
