package definition

import (
	"strings"
	"testing"
)

// What can be mended without asking is, and the rest of a file stays as it is;
// afterwards it is not found any more.
func TestFixes(t *testing.T) {
	text := "// Ours\n{\n  \"build\": {\"dockerfile\": \"Dockerfile\"}, // the image\n  \"remoteUser\": \"crew\",\n  \"containerEnv\": {\"LEVEL\": \"1\", \"DESK_TOKEN\": \"ebb-1234\"}\n}\n"
	files := []string{".devcontainer/Dockerfile", "FROM a:1\nEXPOSE 8000 9000\n", ".env", "A_TOKEN=ebb-1234\nB_TOKEN=ebb-1234\n", ".gitignore", "bin"}
	src := source(text, files...)
	def, findings := Check(src)
	fixes := Fixes(src, def, findings, nil)
	if len(fixes) != 2 || fixes[0].Path != Places[0] || fixes[1].Path != ".gitignore" {
		t.Fatalf("mended are %+v", fixes)
	}
	got := string(fixes[0].New)
	for _, part := range []string{"// Ours\n{\n  \"build\": {\"dockerfile\": \"Dockerfile\"}, // the image\n", `"LEVEL": "1"`, `"forwardPorts"`, "8000", "9000", `"secrets"`, `"DESK_TOKEN"`} {
		if !strings.Contains(got, part) {
			t.Errorf("it lacks %q:\n%s", part, got)
		}
	}
	if strings.Contains(got, "ebb-1234") || string(fixes[0].Old) != text {
		t.Errorf("the secret is still there:\n%s", got)
	}
	if why := strings.Join(fixes[0].Why, "; "); why != "port 8000 is forwarded; port 9000 is forwarded; DESK_TOKEN is asked for in secrets, and no longer in containerEnv" {
		t.Errorf("it is said why: %s", why)
	}
	if string(fixes[1].New) != "bin\n/.env\n" || len(fixes[1].Why) != 1 {
		t.Errorf("the other is %+v", fixes[1])
	}
	files[5] = string(fixes[1].New)
	after := source(got, files...)
	def, findings = Check(after)
	for _, f := range findings {
		if f.Path == Places[0] || f.Severity == Error || f.Rule == "port-not-declared" {
			t.Errorf("afterwards: %s", f)
		}
	}
	if more := Fixes(after, def, findings, nil); len(more) > 0 {
		t.Errorf("a second time is mended %+v", more)
	}
	marked := source("\xef\xbb\xbf"+text, files...)
	def, findings = Check(marked)
	if fixes := Fixes(marked, def, findings, nil); len(fixes) != 1 || !strings.HasPrefix(string(fixes[0].New), "\xef\xbb\xbf// Ours") {
		t.Errorf("the mark before the text is gone: %+v", fixes)
	}
	good := source(`{"image": "a:1", "remoteUser": "crew"}`)
	def, findings = Check(good)
	if fixes := Fixes(good, def, findings, nil); len(fixes) > 0 {
		t.Errorf("of what is right is mended %+v", fixes)
	}
}

// An image is pinned where its name stands, once, and a digest is known; what
// else is mended in the file is too.
func TestPinned(t *testing.T) {
	digest := "sha256:" + strings.Repeat("ab", 32)
	src := source(`{
  "dockerComposeFile": "../compose.yaml", "service": "app", // here
  "containerEnv": {"DESK_TOKEN": "ebb-1234"}
}`, "compose.yaml", "services:\n  app:\n    build: .\n    volumes: [\".:/src\"]\n  db:\n    image: \"tide\" # ebb\n  twice:\n    image: twice:latest # twice:latest\n  other:\n    image: other:latest\n",
		"Dockerfile", "ARG B=tide\nFROM $B AS one\nFROM tide AS tide-one\nCOPY --from=one /a /a\n")
	def, findings := Check(src)
	if got := strings.Join(Unpinned(findings), " "); got != "tide twice:latest other:latest" && got != "tide other:latest twice:latest" {
		t.Fatalf("without a digest are %q: %v", got, findings)
	}
	fixes := Fixes(src, def, findings, map[string]string{"tide": digest, "twice:latest": digest})
	texts := map[string]string{}
	for _, f := range fixes {
		texts[f.Path] = string(f.New)
	}
	if !strings.Contains(texts["compose.yaml"], `image: "tide@`+digest+`" # ebb`) || strings.Count(texts["compose.yaml"], "@") != 1 {
		t.Errorf("the services are pinned as\n%s", texts["compose.yaml"])
	}
	if want := "ARG B=tide\nFROM $B AS one\nFROM tide@" + digest + " AS tide-one\nCOPY --from=one /a /a\n"; texts["Dockerfile"] != want {
		t.Errorf("the build file is pinned as\n%s", texts["Dockerfile"])
	}
	alone := source(`{"image": "tide", "containerEnv": {"DESK_TOKEN": "ebb-1234"}}`)
	def, findings = Check(alone)
	fixes = Fixes(alone, def, findings, map[string]string{"tide": digest})
	if len(fixes) != 1 || len(fixes[0].Why) != 2 || !strings.Contains(string(fixes[0].New), `"image": "tide@`+digest+`"`) || strings.Contains(string(fixes[0].New), "ebb-1234") {
		t.Errorf("two things are mended as %+v", fixes)
	}
	after := source(string(fixes[0].New))
	if def, findings := Check(after); def.Image != "tide@"+digest || len(Unpinned(findings)) > 0 {
		t.Errorf("pinned it is %q: %v", def.Image, findings)
	}
}
