package test

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"strings"
	"testing"
	"time"

	"yardbench/wire"
)

// schemas are the types that docs/cli.md names.
var schemas = map[string]reflect.Type{}

func init() {
	for _, v := range []any{wire.WorkspaceRow{}, wire.Workspace{}, wire.Preflight{}, wire.Outcome{}, wire.Operation{}, wire.Service{}, wire.Port{}, wire.Container{}, wire.Stray{}, wire.Secret{}, wire.SecretChoice{}, wire.Renewal{}, wire.KnownCredential{},
		wire.Token{}, wire.MadeToken{}, wire.Repository{}, wire.PushKey{}, wire.DefinitionCheck{}, wire.DefinitionChanges{}, wire.Starter{}, wire.PrebuildPlan{}, wire.Sheet{}, wire.Person{}, wire.Team{}, wire.OpenEnrolment{}, wire.Enrolment{}, wire.Guest{},
		wire.Rules{}, wire.RulesVersion{}, wire.RulesCheck{}, wire.JournalEntry{}, wire.JournalHead{}, wire.JournalVerdict{}, wire.Webhook{}, wire.MadeWebhook{}, wire.WebhookKey{}, wire.Delivery{}, wire.Cost{}, wire.Me{}, wire.SignedIn{}, wire.SSHKey{}, wire.Terminal{}, wire.FirstLine{}, wire.Look{}, wire.LookLink{}, wire.Bench{}, wire.MadeLookLink{}, wire.Recording{}, wire.Attention{}, wire.AttentionCause{}, wire.RepositoryBranch{}, wire.Provider{}, wire.LaunchLink{}, wire.LinkUse{}, wire.UsedLink{}, wire.Profile{}, wire.Usual{}, wire.Luggage{}, wire.GitKey{}, wire.DeployKey{}, wire.SealingKey{}, wire.GitHost{}, wire.HostedRepository{}, wire.GitHostAnswer{}} {
		schemas[reflect.TypeOf(v).Name()] = reflect.TypeOf(v)
	}
}

// What --json prints is of the schema that the documentation names, of every command
// that prints some.
func TestJSONOfEveryCommand(t *testing.T) {
	t.Parallel()
	if os.Getenv("YARDBENCH_TEST_BINARY") == "" {
		t.Skip("needs the built binary: run it by `make test`")
	}
	doc, err := os.ReadFile("../docs/cli.md")
	if err != nil {
		t.Fatal(err)
	}
	documented := map[string]string{}
	row := regexp.MustCompile("(?m)^\\| `([a-z][^`]*)`[^|]* \\| (.*) \\|$")
	_, table, _ := strings.Cut(string(doc), "## What `--json` prints")
	table, _, _ = strings.Cut(table, "## Environment")
	for _, m := range row.FindAllStringSubmatch(table, -1) {
		for _, c := range strings.Split(m[1], ", ") {
			documented[strings.TrimSpace(c)] = m[2]
		}
	}
	if len(documented) < 50 {
		t.Fatalf("only %d are documented", len(documented))
	}
	w := simWorld(t)
	tree := filepath.Join(w.dir, "rules.yaml")
	rules := w.must(w.as("astrid", "", "rules", "show"), 0)
	if err := os.WriteFile(tree, []byte(strings.Replace(rules, "hold_most: 12 h", "hold_most: 11 h", 1)), 0o600); err != nil {
		t.Fatal(err)
	}
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "b"), 0)
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "c"), 0)
	w.guest("tormod", time.Now().Add(time.Hour), "tide-board")
	seen := map[string]bool{}
	for _, c := range []struct{ who, stdin, row, line string }{
		{"ingrid", "", "launch", "launch tide-board --name a"},
		{"mats", "", "launch --dry-run", "launch fare-desk --dry-run"},
		{"ingrid", "", "list", "list"},
		{"ingrid", "", "show NAME", "show a"},
		{"ingrid", "", "stop", "stop a"},
		{"ingrid", "", "start", "start a"},
		{"ingrid", "", "rebuild", "rebuild a"},
		{"ingrid", "", "wait", "wait a"},
		{"ingrid", "", "hold", "hold a 2h --why x"},
		{"ingrid", "", "stop A B", "stop b c"},
		{"ingrid", "", "operation list", "operation list"},
		{"ingrid", "", "service list", "service list a"},
		{"ingrid", "", "terminal list", "terminal list a"},
		{"ingrid", "", "terminal begin", "terminal begin a true"},
		{"ingrid", "", "look add", "look add a runa"},
		{"ingrid", "", "look list", "look list a"},
		{"ingrid", "", "look-link add", "look-link add a 8000"},
		{"ingrid", "", "look-link list", "look-link list a"},
		{"ingrid", "", "bench show", "bench show a"},
		{"ingrid", "", "port list", "port list a"},
		{"ingrid", "", "port share", "port share a 8000"},
		{"ingrid", "", "port keep-private", "port keep-private a 8000"},
		{"astrid", "", "container list", "container list"},
		{"astrid", "", "quarantine list", "quarantine list"},
		{"astrid", "", "adopt", "adopt quay-clock --for peder --repository deck-log --size small"},
		{"astrid", "", "let-go", "let-go quay-clock.peder --yes"},
		{"ingrid", "x", "secret put", "secret put A_KEY --everywhere"},
		{"ingrid", "", "secret list", "secret list"},
		{"ingrid", "B_KEY=x", "secret import", "secret import --everywhere"},
		{"ingrid", "", "secret explain", "secret explain tide-board"},
		{"ingrid", "", "secret renew", "secret renew a"},
		{"ingrid", "", "credential list", "credential list"},
		{"astrid", "", "git-host put", "git-host put git.example --authorize https://git.example/a --token https://git.example/t --client x --no-secret"},
		{"astrid", "", "keys rotate", "keys rotate"},
		{"astrid", "", "keys list", "keys list"},
		{"ingrid", "", "git-host list", "git-host list"},
		{"ingrid", "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIMDxq5B5vJ4yQfW1xYb5oZ0sGgQq6mE8u2xJm0hP3c5T ingrid@quay", "key add", "key add"},
		{"ingrid", "", "key list", "key list"},
		{"ingrid", "", "token add", "token add x --scope read"},
		{"ingrid", "", "token list", "token list"},
		{"ingrid", "", "repository list", "repository list"},
		{"astrid", "", "repository change", "repository change tide-board --team Fares"},
		{"astrid", "", "repository push-key", "repository push-key tide-board"},
		{"ingrid", "", "definition check REPOSITORY", "definition check tide-board"},
		{"ingrid", "", "definition show REPOSITORY", "definition show tide-board"},
		{"ingrid", "", "starter list", "starter list"},
		{"ingrid", "", "starter show", "starter show board"},
		{"ingrid", "", "definition diff", "definition diff tide-board tide-board"},
		{"astrid", "", "prebuild put", "prebuild put tide-board --keep 1"},
		{"astrid", "", "prebuild list", "prebuild list"},
		{"astrid", "", "prebuild run", "prebuild run tide-board"},
		{"astrid", "", "person list", "person list"},
		{"astrid", "", "person change", "person change mats --role lead"},
		{"astrid", "", "program add", "program add nightwatch --team Harbour --purpose x"},
		{"astrid", "", "team list", "team list"},
		{"ingrid", "", "branch list", "branch list tide-board"},
		{"astrid", "", "attention list", "attention list"},
		{"ingrid", "", "recording list", "recording list"},
		{"astrid", "", "team add", "team add Lights"},
		{"astrid", "", "team rename", "team rename Lights Lamps"},
		{"astrid", "name,full_name\nabel,Abel Tor\n", "enrolment add --file", "enrolment add --file -"},
		{"astrid", "", "enrolment add", "enrolment add"},
		{"astrid", "", "enrolment list", "enrolment list"},
		{"runa", "", "guest invite", "guest invite --team Timetable --for tide-board --until 72h"},
		{"runa", "", "guest list", "guest list"},
		{"runa", "", "guest extend", "guest extend tormod --size small"},
		{"astrid", "", "rules show", "rules show"},
		{"astrid", "", "rules list", "rules list"},
		{"astrid", "", "rules check", "rules check " + tree},
		{"astrid", "", "rules put", "rules put " + tree + " --why x"},
		{"astrid", "", "journal list", "journal list --limit 5"},
		{"astrid", "", "journal head", "journal head"},
		{"astrid", "", "journal verify", "journal verify"},
		{"astrid", "", "provider list", "provider list"},
		{"ingrid", "", "me git-key", "me git-key --new"},
		{"ingrid", "", "me luggage", "me luggage --add ~/.bash_history"},
		{"ingrid", "", "me usual", "me usual --zone Europe/Oslo"},
		{"ingrid", "", "me files", "me files https://git.skerryline.example/ingrid-files.git"},
		{"ingrid", "", "launch-link add", "launch-link add tide-board"},
		{"ingrid", "", "launch-link list", "launch-link list"},
		{"astrid", "", "webhook add", "webhook add https://hooks.skerryline.example/yard"},
		{"astrid", "", "webhook list", "webhook list"},
		{"astrid", "", "webhook change", "webhook change WEBHOOK --kind rules."},
		{"astrid", "", "webhook pause", "webhook pause WEBHOOK"},
		{"astrid", "", "webhook resume", "webhook resume WEBHOOK"},
		{"astrid", "", "webhook replay", "webhook replay WEBHOOK --from 1"},
		{"astrid", "", "webhook key", "webhook key WEBHOOK --yes"},
		{"astrid", "", "webhook log", "webhook log WEBHOOK"},
		{"astrid", "", "person close", "person close oddvar --yes"},
		{"astrid", "", "person open", "person open oddvar"},
		{"astrid", "", "cost", "cost"},
		{"ingrid", "", "whoami", "whoami"},
		{"ingrid", "", "remove", "remove a --yes --discard"},
	} {
		schema := documented[c.row]
		if schema == "" {
			t.Errorf("what %s prints is not documented", c.row)
			continue
		}
		seen[c.row] = true
		if strings.Contains(c.line, "WEBHOOK") {
			all, err := w.client("astrid").Webhooks.List(t.Context())
			if err != nil || len(all) != 1 {
				t.Fatalf("the webhooks are %v, %v", all, err)
			}
			c.line = strings.ReplaceAll(c.line, "WEBHOOK", all[0].ID)
		}
		got := w.as(c.who, c.stdin, append(strings.Fields(c.line), "--json")...)
		if got.code != 0 {
			t.Errorf("%s ends with %d: %s", c.line, got.code, got.errors)
			continue
		}
		text := []byte(got.out)
		name, more, _ := strings.Cut(schema, ", with ")
		name, _, _ = strings.Cut(name, ";")
		if more != "" { // a member of another schema beside
			member, other, _ := strings.Cut(more, ": ")
			all := map[string]json.RawMessage{}
			if err := json.Unmarshal(text, &all); err != nil || all[member] == nil {
				t.Errorf("%s has no %s: %v", c.line, member, err)
				continue
			}
			fits(t, c.line, all[member], other)
			delete(all, member)
			text, _ = json.Marshal(all) // it was read from such
		}
		fits(t, c.line, text, name)
	}
	for row := range documented {
		if first, _, _ := strings.Cut(row, " "); !seen[row] && strings.Contains("list show launch start stop rebuild hold tell remove", first) && !seen[first] {
			t.Errorf("%s is documented and not tried", row)
		}
	}
	if len(seen) < 45 {
		t.Errorf("only %d were tried", len(seen))
	}
}

// fits tells whether a text is of a schema, or a list of such, and has no member
// that it has not.
func fits(t *testing.T, what string, text []byte, name string) {
	t.Helper()
	list := strings.HasPrefix(name, "[")
	of := schemas[strings.Trim(name, "[]")]
	if of == nil {
		t.Errorf("%s is of %s, which there is not", what, name)
		return
	}
	if list {
		of = reflect.SliceOf(of)
	}
	into := reflect.New(of)
	d := json.NewDecoder(bytes.NewReader(text))
	d.DisallowUnknownFields()
	if err := d.Decode(into.Interface()); err != nil {
		t.Errorf("%s is not of %s: %v: %.300s", what, name, err, text)
	}
	if list && into.Elem().IsNil() {
		t.Errorf("%s prints null for an empty list", what)
	}
}
