package journal

import (
	"encoding/json"
	"testing"
	"time"

	"yardbench/internal/core/policy"
)

// The kinds and their JSON are what other people's programs hold on to: they are
// here as they were first written.
func TestKindsAndTheirJSONStay(t *testing.T) {
	at := time.Date(2026, 11, 25, 8, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		p          Payload
		kind, json string
	}{
		{WorkspaceLaunched{"main", "0a1b", 5, "person", "quay", "tide-board", "small"}, "workspace.launched", `{"branch":"main","commit":"0a1b","disk_bytes":5,"kind":"person","name":"quay","repository":"tide-board","size":"small"}`},
		{WorkspaceAdopted{"c1", "base:1", "buoy"}, "workspace.adopted", `{"container":"c1","image":"base:1","name":"buoy"}`},
		{WorkspaceAsked{Verb: "stop"}, "workspace.asked", `{"verb":"stop"}`},
		{WorkspaceAsked{"o", "a storm", "stop"}, "workspace.asked", `{"operation":"o","reason":"a storm","verb":"stop"}`},
		{ErrandOver{"its time was over"}, "workspace.errand-over", `{"why":"its time was over"}`},
		{WorkspaceTold{Reason: "a storm"}, "workspace.told", `{"reason":"a storm"}`},
		{OperationAsked{"a storm", 3, "stop"}, "operation.asked", `{"reason":"a storm","total":3,"verb":"stop"}`},
		{OperationCancelled{"a storm"}, "operation.cancelled", `{"why":"a storm"}`},
		{OperationEnded{1, 2, 3, 4}, "operation.ended", `{"cancelled":1,"done":2,"failed":3,"refused":4}`},
		{WorkspacePhase{"why", "ready", "stopping"}, "workspace.phase", `{"cause":"why","from":"ready","to":"stopping"}`},
		{ConditionBegun{"idle", "quiet", at}, "workspace.condition", `{"kind":"idle","reason":"quiet","since":"2026-11-25T08:00:00Z"}`},
		{ConditionOver{"idle", true}, "workspace.condition", `{"kind":"idle","over":true}`},
		{WorkspaceHeld{at, "a demo"}, "workspace.held", `{"until":"2026-11-25T08:00:00Z","why":"a demo"}`},
		{PushesAllowed{at}, "workspace.pushes-allowed", `{"until":"2026-11-25T08:00:00Z"}`},
		{KeyAdded{at, "SHA256:x"}, "key.added", `{"expires_at":"2026-11-25T08:00:00Z","fingerprint":"SHA256:x"}`},
		{PushesEnded{}, "workspace.pushes-ended", `{}`},
		{HoldEnded{}, "workspace.hold-ended", `{}`},
		{WorkspaceRested{"quiet"}, "workspace.rested", `{"why":"quiet"}`},
		{WorkspaceExpired{at}, "workspace.expired", `{"stopped_at":"2026-11-25T08:00:00Z"}`},
		{WorkspaceDiscarded{}, "workspace.discarded", `{}`},
		{RebuildFailed{"no"}, "workspace.rebuild-failed", `{"cause":"no"}`},
		{PortShared{Port: 8000, Shared: true}, "workspace.port", `{"port":8000,"shared":true}`},
		{Entered{"her build hangs", "terminal"}, "workspace.entered", `{"reason":"her build hangs","what":"terminal"}`},
		{Renewed{[]string{"postStartCommand"}, map[string]int{"KEY": 2}}, "workspace.renewed", `{"commands":["postStartCommand"],"secrets":{"KEY":2}}`},
		{SessionOpened{What: "terminal", Secrets: map[string]int{"KEY": 2}}, "workspace.terminal", `{"secrets":{"KEY":2}}`},
		{LookLinkMade{"l1", 8000, false, at}, "workspace.look-link-made", `{"link":"l1","port":8000,"until":"` + at.Format(time.RFC3339Nano) + `"}`},
		{LookLinkEnded{"l1", 8000, 3}, "workspace.look-link-ended", `{"link":"l1","port":8000,"visits":3}`},
		{RecordingBegun{"r1", "main", true}, "workspace.recording-begun", `{"recording":"r1","terminal":"main","asked":true}`},
		{RecordingEnded{"r1", "main", "x"}, "workspace.recording-ended", `{"recording":"r1","terminal":"main","why":"x"}`},
		{RecordingSeen{"r1", "main"}, "workspace.recording-seen", `{"recording":"r1","terminal":"main"}`},
		{RecordingRemoved{"r1", "main"}, "workspace.recording-removed", `{"recording":"r1","terminal":"main"}`},
		{AttentionQuiet{"x", "moving day", at}, "attention.quiet", `{"what":"x","reason":"moving day","until":"` + at.Format(time.RFC3339Nano) + `"}`},
		{AttentionAgain{}, "attention.again", `{}`},
		{LookAllowed{"p2", "main", true, at}, "workspace.look-allowed", `{"person":"p2","terminal":"main","writes":true,"until":"` + at.Format(time.RFC3339Nano) + `"}`},
		{FirstLineSet{true}, "workspace.first-line", `{"set":true}`},
		{LookEnded{"p2", "main"}, "workspace.look-ended", `{"person":"p2","terminal":"main"}`},
		{SessionOpened{What: "files-changed"}, "workspace.files-changed", `{}`},
		{RulesPut{[]string{"a"}, "because"}, "rules.put", `{"changes":["a"],"reason":"because"}`},
		{SecretPut{Everywhere: true, Form: "file", Level: "person", Name: "KEY", Version: 2}, "secret.put", `{"everywhere":true,"form":"file","level":"person","name":"KEY","repositories":null,"version":2}`},
		{GuestPut{[]string{"tide-board"}, []string{}, at}, "guest.put", `{"repositories":["tide-board"],"sizes":[],"until":"` + at.Format(time.RFC3339Nano) + `"}`},
		{GuestEnding{at}, "guest.ending", `{"until":"` + at.Format(time.RFC3339Nano) + `"}`},
		{SecretRemoved{Level: "team", Name: "KEY", Whose: "Harbour"}, "secret.removed", `{"level":"team","name":"KEY","whose":"Harbour"}`},
		{CredentialPut{"git.example", false}, "git-credential.put", `{"host":"git.example"}`},
		{CredentialRemoved{"git.example"}, "git-credential.removed", `{"host":"git.example"}`},
		{GitKeyPut{"SHA256:x", "made", true}, "git-key.put", `{"fingerprint":"SHA256:x","from":"made","signs_commits":true}`},
		{GitHostPut{"git.example", "yard"}, "git-host.put", `{"host":"git.example","client":"yard"}`},
		{GitHostDropped{"git.example"}, "git-host.dropped", `{"host":"git.example"}`},
		{SealingKeyMade{"1f"}, "sealing-key.made", `{"key":"1f"}`},
		{SealingKeyRetired{"1f"}, "sealing-key.retired", `{"key":"1f"}`},
		{PasskeyMade{"x"}, "passkey.made", `{"name":"x"}`},
		{PasskeyRemoved{}, "passkey.removed", `{}`},
		{GitKeyRemoved{}, "git-key.removed", `{}`},
		{RepositoryAdded{"tide-board", "Timetable", "https://x"}, "repository.added", `{"name":"tide-board","team":"Timetable","url":"https://x"}`},
		{RepositoryChanged{"main", "tide-board", "Fares", "https://x"}, "repository.changed", `{"branch":"main","repository":"tide-board","team":"Fares","url":"https://x"}`},
		{RepositoryRemoved{"tide-board", "https://x"}, "repository.removed", `{"repository":"tide-board","url":"https://x"}`},
		{RepositoryCredentialPut{true, "", "tide-board"}, "repository.credential", `{"gone":true,"repository":"tide-board"}`},
		{PushKeyMade{"tide-board"}, "repository.push-key", `{"repository":"tide-board"}`},
		{PersonAdded{"lead", "Fares", "", ""}, "person.added", `{"role":"lead","team":"Fares"}`},
		{PersonChanged{[]string{"Decks"}, true, "", "lead", "Fares"}, "person.changed", `{"also":["Decks"],"closed":true,"role":"lead","team":"Fares"}`},
		{PersonErased{}, "person.erased", `{}`},
		{PasswordSet{}, "person.new-password", `{}`},
		{SignedIn{"console", "", ""}, "person.signed-in", `{"door":"console"}`},
		{SignedOut{}, "person.signed-out", `{}`},
		{TeamAdded{"Fares"}, "team.added", `{"name":"Fares"}`},
		{TeamRenamed{"Fares", "Tariffs"}, "team.renamed", `{"from":"Fares","to":"Tariffs"}`},
		{TeamRemoved{"Fares"}, "team.removed", `{"name":"Fares"}`},
		{EnrolmentEnded{}, "enrolment.ended", `{}`},
		{EnrolmentMade{"lead", "Fares", ""}, "enrolment.made", `{"role":"lead","team":"Fares"}`},
		{TokenMade{at, "ci", []string{"tide-board"}, []policy.Scope{policy.Read}}, "token.made", `{"expires_at":"2026-11-25T08:00:00Z","name":"ci","repositories":["tide-board"],"scopes":["read"]}`},
		{TokenExpiring{at, "ci"}, "token.expiring", `{"expires_at":"2026-11-25T08:00:00Z","name":"ci"}`},
		{TokenMade{ExpiresAt: at, Name: "ci"}, "token.made", `{"expires_at":"2026-11-25T08:00:00Z","name":"ci"}`},
		{TokenEnded{}, "token.ended", `{}`},
		{ProviderPut{"bench", "https://id.skerryline.example", "skerry-id"}, "provider.put", `{"client":"bench","issuer":"https://id.skerryline.example","name":"skerry-id"}`},
		{ProviderDropped{"skerry-id"}, "provider.dropped", `{"name":"skerry-id"}`},
		{LuggagePut{[]string{".bash_history"}}, "person.luggage", `{"paths":[".bash_history"]}`},
		{ProfilePut{"https://git.skerryline.example/own.git"}, "person.profile", `{"files":"https://git.skerryline.example/own.git"}`},
		{LaunchLinkPut{Title: "Try it", Repository: "tide-board", PeopleMost: 3}, "launch-link.put", `{"people_most":3,"repository":"tide-board","title":"Try it"}`},
		{LaunchLinkUsed{"Try it", "tide-board"}, "launch-link.used", `{"title":"Try it","workspace":"tide-board"}`},
		{LaunchLinkDropped{"Try it", 2}, "launch-link.dropped", `{"title":"Try it","used":2}`},
		{WebhookAdded{[]string{"rules"}, "https://x"}, "webhook.added", `{"kinds":["rules"],"url":"https://x"}`},
		{WebhookChanged{[]string{"rules"}, true, "https://x"}, "webhook.changed", `{"kinds":["rules"],"paused":true,"url":"https://x"}`},
		{WebhookKeyMade{"https://x"}, "webhook.key", `{"url":"https://x"}`},
		{WebhookReplayed{3, "https://x", 9}, "webhook.replayed", `{"from":3,"url":"https://x","was":9}`},
		{WebhookRemoved{"https://x"}, "webhook.removed", `{"url":"https://x"}`},
		{PlanPut{"main", 2, true, "tide-board", "30 5 * * *"}, "prebuild.plan-put", `{"branch":"main","keep":2,"on_push":true,"repository":"tide-board","timetable":"30 5 * * *"}`},
		{PlanRemoved{"main", "tide-board"}, "prebuild.plan-removed", `{"branch":"main","repository":"tide-board"}`},
		{PrebuildBegun{"main", "0a1b", 3, "p1", "a push", "tide-board"}, "prebuild.begun", `{"branch":"main","commit":"0a1b","number":3,"plan":"p1","reason":"a push","repository":"tide-board"}`},
		{PrebuildEnded{"", 3, "done", "p1"}, "prebuild.ended", `{"cause":"","number":3,"outcome":"done","plan":"p1"}`},
		{YardAway{"gone"}, "yard.away", `{"cause":"gone"}`},
		{YardBack{12}, "yard.back", `{"away_s":12}`},
		{YardQuarantined{true, 2}, "yard.quarantined", `{"named":true,"volumes":2}`},
		{QuarantineGiven{"main", "quay", "hauk", "tide-board"}, "quarantine.given", `{"branch":"main","name":"quay","owner":"hauk","repository":"tide-board"}`},
		{QuarantineKept{"asked peder"}, "quarantine.kept", `{"reason":"asked peder"}`},
		{QuarantineRemoved{"quay", "hauk", true, 1}, "quarantine.removed", `{"name":"quay","owner":"hauk","named":true,"volumes":1}`},
		{SignInsRefused{3, []string{"10.0.0.1"}, []string{"bo"}, 1}, "sign-in.refused", `{"count":3,"from":["10.0.0.1"],"people":["bo"],"too_many":1}`},
		{ServiceStarted{2, "1", "unix:///x"}, "service.started", `{"goes_on_with":2,"version":"1","yard":"unix:///x"}`},
		{ServiceStopped{"it was told to"}, "service.stopped", `{"why":"it was told to"}`},
		{RecordsRestored{3, time.Date(2026, 11, 28, 3, 0, 0, 0, time.UTC)}, "records.restored", `{"ended":3,"made_at":"2026-11-28T03:00:00Z"}`},
		{YardSetBack{9, 7}, "yard.set-back", `{"found":9,"known":7}`},
	} {
		text, err := json.Marshal(c.p)
		if err != nil || string(text) != c.json || c.p.Kind() != c.kind {
			t.Errorf("%T is told as %s %s, %v; it was %s %s", c.p, c.p.Kind(), text, err, c.kind, c.json)
		}
	}
}
