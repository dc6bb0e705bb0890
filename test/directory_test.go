package test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yardbench/client"
	"yardbench/wire"
)

// directory is a house's directory that tells the service who is here.
type directory struct {
	t              testing.TB
	address, token string
}

type resource struct {
	ID, UserName, DisplayName, ExternalID string
	Active                                bool
	Emails                                []struct{ Value string }
	Groups, Members                       []struct{ Value, Display string }
	Meta                                  struct{ Version, Location string }
	TotalResults, ItemsPerPage            int
	Resources                             []resource
	Detail, Status, ScimType              string
}

func (d directory) ask(method, path, body string, want int, header ...string) (r resource) {
	d.t.Helper()
	req, err := http.NewRequestWithContext(context.Background(), method, d.address+"/scim/v2"+path, bytes.NewBufferString(body))
	if err != nil {
		d.t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+d.token)
	req.Header.Set("Content-Type", "application/scim+json")
	for i := 0; i+1 < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		d.t.Fatal(err)
	}
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	if err != nil {
		d.t.Fatal(err)
	}
	if res.StatusCode != want {
		d.t.Errorf("%s %s %.300s is answered %d, not %d: %.300s", method, path, body, res.StatusCode, want, text)
	}
	if len(text) > 0 && res.Header.Get("Content-Type") == "application/scim+json" {
		if err := json.Unmarshal(text, &r); err != nil {
			d.t.Errorf("%s %s: %v in %s", method, path, err, text)
		}
	}
	return r
}

// directory is one that may tell who is here, with groups that come to something.
func (w *world) directory(t testing.TB) directory {
	t.Helper()
	rules := w.must(w.as("astrid", "", "rules", "show"), 0)
	file := filepath.Join(t.TempDir(), "rules.yaml")
	if err := os.WriteFile(file, []byte(strings.Replace(rules, "sign_in:\n", "sign_in:\n  directory:\n    groups:\n    - {group: Crew, role: operator}\n    - {group: Leads, role: lead}\n    - {group: Pilots, team: Pilots}\n", 1)), 0o600); err != nil {
		t.Fatal(err)
	}
	w.must(w.as("astrid", "", "rules", "put", file, "--why", "a directory", "--yes"), 0)
	w.must(w.as("astrid", "", "program", "add", "roster", "--team", "Harbour", "--purpose", "The house's directory", "--role", "operator"), 0)
	var made wire.MadeToken
	if err := json.Unmarshal([]byte(w.must(w.as("astrid", "", "token", "add", "sync", "--of", "roster", "--scope", "administer", "--json"), 0)), &made); err != nil {
		t.Fatal(err)
	}
	return directory{t, w.address, made.Value}
}

// A directory tells who is here, in which groups, and who has left: at once, with what
// they have open, and their work is kept.
func TestDirectory(t *testing.T) {
	t.Parallel()
	w := simWorld(t)
	d := w.directory(t)

	for _, path := range []string{"/ServiceProviderConfig", "/ResourceTypes", "/Schemas"} {
		d.ask("GET", path, "", 200)
	}
	const user = `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"userName":"bjensen@skerryline.example","externalId":"bjensen","name":{"formatted":"Ms. Barbara J Jensen III","familyName":"Jensen","givenName":"Barbara"},"emails":[{"value":"bjensen@skerryline.example","type":"work","primary":true}],"active":true,"unheard":"of"}`
	b := d.ask("POST", "/Users", user, 201)
	if b.ID == "" || b.UserName != "bjensen@skerryline.example" || !b.Active || b.ExternalID != "bjensen" || b.Meta.Version == "" || !strings.HasSuffix(b.Meta.Location, "/scim/v2/Users/"+b.ID) {
		t.Errorf("she is %+v", b)
	}
	d.ask("POST", "/Users", user, 409)
	ingrid := d.ask("POST", "/Users", `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"userName":"i.solheim","emails":[{"value":"ingrid@skerryline.example"}],"displayName":"Ingrid Solheim"}`, 201)
	if people := w.must(w.as("astrid", "", "person", "list"), 0); strings.Count(people, "ingrid") != 1 || !strings.Contains(people, "bjensen") {
		t.Errorf("who is here: %s", people)
	}
	if got := d.ask("GET", "/Users?filter="+url.QueryEscape(`userName eq "BJENSEN@skerryline.example" and active eq true`), "", 200); got.TotalResults != 1 || got.Resources[0].ID != b.ID {
		t.Errorf("found %+v", got)
	}
	if got := d.ask("GET", "/Users?startIndex=2&count=1", "", 200); got.TotalResults != 2 || len(got.Resources) != 1 || got.Resources[0].ID != ingrid.ID {
		t.Errorf("the second part is %+v", got)
	}

	// Groups, and what they come to.
	role := func(name string) string {
		t.Helper()
		for line := range strings.Lines(w.must(w.as("astrid", "", "person", "list"), 0)) {
			if strings.HasPrefix(line, name+" ") {
				return strings.Join(strings.Fields(line)[3:], " ")
			}
		}
		return ""
	}
	pilots := d.ask("POST", "/Groups", fmt.Sprintf(`{"schemas":["urn:ietf:params:scim:schemas:core:2.0:Group"],"displayName":"Pilots","members":[{"value":%q}]}`, ingrid.ID), 201)
	leads := d.ask("POST", "/Groups", `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:Group"],"displayName":"Leads"}`, 201)
	const patch = `{"schemas":["urn:ietf:params:scim:api:messages:2.0:PatchOp"],"Operations":[%s]}`
	d.ask("PATCH", "/Groups/"+leads.ID, fmt.Sprintf(patch, fmt.Sprintf(`{"op":"add","path":"members","value":[{"value":%q}]}`, ingrid.ID)), 200)
	if got := role("ingrid"); got != "lead Pilots" {
		t.Errorf("she is %q", got)
	}
	if got := d.ask("GET", "/Users/"+ingrid.ID, "", 200); len(got.Groups) != 2 {
		t.Errorf("she is in %+v", got.Groups)
	}
	d.ask("PATCH", "/Groups/"+leads.ID, fmt.Sprintf(patch, fmt.Sprintf(`{"op":"remove","path":"members[value eq \"%s\"]"}`, ingrid.ID)), 200)
	if got := role("ingrid"); got != "developer Pilots" {
		t.Errorf("who leads no more is %q", got)
	}
	if got := d.ask("GET", "/Groups/"+leads.ID, "", 200); len(got.Members) != 0 {
		t.Errorf("the group has %+v", got.Members)
	}
	d.ask("POST", "/Groups", `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:Group"],"displayName":"Ghosts","members":[{"value":"nobody"}]}`, 400)

	// Entity tags.
	d.ask("PUT", "/Users/"+b.ID, user, 412, "If-Match", `W/"another"`)
	d.ask("PUT", "/Users/"+b.ID, strings.Replace(user, "Barbara J", "Babs J", 1), 200, "If-Match", b.Meta.Version)

	// Rubbish.
	for _, x := range []struct {
		method, path, body string
		want               int
	}{
		{"POST", "/Users", `{`, 400}, {"POST", "/Users", `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"]}`, 400}, {"POST", "/Users", `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"userName":7}`, 400},
		{"POST", "/Users", `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"userName":"a\u0000b"}`, 400}, {"POST", "/Users", strings.Repeat("x", 2<<20), 413}, {"GET", "/Users?filter=userName+like+%22x", "", 400},
		{"GET", "/Users/nobody", "", 404}, {"PATCH", "/Users/nobody", fmt.Sprintf(patch, `{"op":"replace","path":"active","value":false}`), 404}, {"DELETE", "/Groups/none", "", 404}, {"GET", "/Users?count=x", "", 400},
		{"PATCH", "/Users/" + b.ID, fmt.Sprintf(patch, `{"op":"explode","path":"active"}`), 400}, {"GET", "/Boats", "", 404},
	} {
		d.ask(x.method, x.path, x.body, x.want)
	}
	other := d
	for name, token := range map[string]string{"nobody's": "yb_token_guess", "none": ""} {
		other.token = token
		if r := other.ask("GET", "/Users", "", 401); r.Status != "401" {
			t.Errorf("a token that is %s: %+v", name, r)
		}
	}
	var made wire.MadeToken
	if err := json.Unmarshal([]byte(w.must(w.as("ingrid", "", "token", "add", "x", "--json"), 0)), &made); err != nil {
		t.Fatal(err)
	}
	other.token = made.Value
	other.ask("GET", "/Users", "", 403)

	// She leaves: what she has open ends, her workspace is put to rest, her work stays.
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 0, "is ready")
	hers, err := client.New(w.address, made.Value)
	if err != nil {
		t.Fatal(err)
	}
	ended := make(chan time.Time, 1)
	go func() {
		_ = hers.Watch(context.Background(), func() (bool, error) { return false, nil })
		ended <- time.Now()
	}()
	time.Sleep(300 * time.Millisecond)
	began := time.Now()
	d.ask("PATCH", "/Users/"+ingrid.ID, fmt.Sprintf(patch, `{"op":"Replace","path":"active","value":"False"}`), 200)
	if _, err := hers.Self.Me(context.Background()); err == nil {
		t.Error("who has left is signed in")
	}
	select {
	case at := <-ended:
		if took := at.Sub(began); took > slack*2*time.Second {
			t.Errorf("what she had open ended after %v", took)
		}
	case <-time.After(slack * 5 * time.Second):
		t.Error("what she had open goes on")
	}
	astrid := w.client("astrid")
	w.until(astrid, "quay.ingrid", 5*time.Second, inPhase("stopped"))
	d.ask("PATCH", "/Users/"+ingrid.ID, fmt.Sprintf(patch, `{"op":"replace","value":{"active":true}}`), 200)

	// The last operator stays.
	haldor := d.ask("POST", "/Users", `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"userName":"haldor","emails":[{"value":"haldor@skerryline.example"}]}`, 201)
	chief := d.ask("POST", "/Users", `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"userName":"astrid","emails":[{"value":"astrid@skerryline.example"}]}`, 201)
	d.ask("DELETE", "/Users/"+haldor.ID, "", 204)
	d.ask("DELETE", "/Users/"+chief.ID, "", 400)
	d.ask("PATCH", "/Users/"+chief.ID, fmt.Sprintf(patch, `{"op":"replace","path":"active","value":false}`), 400)
	d.ask("GET", "/Users/"+haldor.ID, "", 404)
	d.ask("DELETE", "/Groups/"+pilots.ID, "", 204)
	if told := w.must(w.as("astrid", "", "journal", "list", "--person", "roster", "--limit", "200"), 0); strings.Count(told, "person.added") != 2 || strings.Count(told, "person.changed") < 4 || !strings.Contains(told, "team.added") {
		t.Errorf("what it did is not told as its own: %s", told)
	}
	w.must(w.as("astrid", "", "journal", "verify"), 0)
}
