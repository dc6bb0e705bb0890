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
	fixes := Fixes(src, def, findings)
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
	if more := Fixes(after, def, findings); len(more) > 0 {
		t.Errorf("a second time is mended %+v", more)
	}
	marked := source("\xef\xbb\xbf"+text, files...)
	def, findings = Check(marked)
	if fixes := Fixes(marked, def, findings); len(fixes) != 1 || !strings.HasPrefix(string(fixes[0].New), "\xef\xbb\xbf// Ours") {
		t.Errorf("the mark before the text is gone: %+v", fixes)
	}
	good := source(`{"image": "a:1", "remoteUser": "crew"}`)
	def, findings = Check(good)
	if fixes := Fixes(good, def, findings); len(fixes) > 0 {
		t.Errorf("of what is right is mended %+v", fixes)
	}
}
