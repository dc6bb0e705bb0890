package definition

import (
	"fmt"
	"strings"
	"testing"

	"yardbench/internal/core/rules"
)

// Every way in which a definition, a compose file or a build file can name an
// image is held against what is the service's own and against the house rules.
func TestImagesThatMayBeUsed(t *testing.T) {
	house := rules.Rules{Images: rules.Images{From: []string{"docker.io/skerryline"}}}
	const stolen = "yardbench/mys7dfkiyy:prepared-xa7zyym5px3kw6i3"
	from := "FROM skerryline/base:1\n"
	for _, c := range []struct {
		name, file string
		closed     bool // only where the house rules say where images come from
		refused    bool
	}{
		{"plain", from, false, false},
		{"its own stages, by name and number", "FROM skerryline/base:1 AS one\nFROM one\nCOPY --from=one /a /b\nCOPY --from=0 /a /b\nRUN --mount=type=bind,from=ONE,target=/x true\n", false, false},
		{"an argument of its own", "ARG TAG=1\nFROM skerryline/base:${TAG}\nARG TAG=2\nRUN echo $TAG\n", false, false},
		{"the processor", "FROM skerryline/base-${TARGETARCH}:1\n", false, false},
		{"ours", "FROM " + stolen + "\n", false, true},
		{"ours in full", "FROM docker.io/" + stolen + "\n", false, true},
		{"ours in another way", "FROM index.docker.io/" + stolen + "\n", false, true},
		{"ours by an argument", "ARG X=yardbench\nFROM ${X}/mys7dfkiyy:prepared-x\n", false, true},
		{"ours copied from", from + "COPY --from=" + stolen + " /.yardbench-prepared/tree /stolen\n", false, true},
		{"ours mounted", from + "RUN --mount=type=bind,from=" + stolen + ",target=/s cp -r /s /stolen\n", false, true},
		{"ours in what is built on it", from + "ONBUILD COPY --from=" + stolen + " / /stolen\n", false, true},
		{"an id", "FROM sha256:" + strings.Repeat("ab", 32) + "\n", false, true},
		{"an id copied from", from + "COPY --from=0123456789ab / /stolen\n", false, true},
		{"which cannot be told", from + "ARG X\nCOPY --from=$X / /stolen\n", false, true},
		{"elsewhere", "FROM elsewhere/base:1\n", true, false},
		{"elsewhere copied from", from + "COPY --from=elsewhere/x:1 / /y\n", true, false},
		{"elsewhere mounted", from + "RUN --mount=from=elsewhere/x:1,target=/y true\n", true, false},
		{"elsewhere in what is built on it", from + "ONBUILD RUN --mount=from=elsewhere/x:1,target=/y true\n", true, false},
		{"elsewhere as a second word", "ARG A=1 IMG=elsewhere/x:1\nFROM ${IMG:-skerryline/base:1}\n", true, false},
		{"elsewhere before a stage's argument", "ARG IMG=elsewhere/x:1\nFROM skerryline/base:1 AS one\nARG IMG=skerryline/base:1\nFROM $IMG\n", true, false},
		{"a stage before it is there", "FROM later\nFROM skerryline/base:1 AS later\n", true, false},
		{"a number for an image", "FROM 12\n", true, false},
		{"what cannot be read", from + "COPY --no-such-flag a b\n", false, true},
	} {
		for _, ruled := range []bool{false, true} {
			src := source(`{"build": {"dockerfile": "Dockerfile"}, "remoteUser": "crew"}`, ".devcontainer/Dockerfile", c.file)
			if ruled {
				src.House = &house
			} else {
				src.House = &rules.Rules{}
			}
			_, findings := Check(src)
			if _, bad := Fatal(findings); bad != (c.refused || c.closed && ruled) {
				t.Errorf("%s, with rules %v: %v", c.name, ruled, findings)
			}
		}
	}
	for name, text := range map[string]string{
		"the image":             `{"image": "` + stolen + `"}`,
		"the image's id":        `{"image": "0123456789abcdef"}`,
		"a cache":               `{"build": {"dockerfile": "Dockerfile", "cacheFrom": "` + stolen + `"}}`,
		"an argument":           `{"build": {"dockerfile": "Other", "args": {"IMG": "` + stolen + `"}}}`,
		"the builder's own":     `{"build": {"dockerfile": "Dockerfile", "args": {"BUILDKIT_SYNTAX": "elsewhere/x:1"}}}`,
		"a service's image":     `{"dockerComposeFile": "c.yml", "service": "app", "workspaceFolder": "/w"}`,
		"a service's build":     `{"dockerComposeFile": "b.yml", "service": "app", "workspaceFolder": "/w"}`,
		"a build that is there": `{"dockerComposeFile": "i.yml", "service": "app", "workspaceFolder": "/w"}`,
	} {
		_, findings := Check(source(text, ".devcontainer/Dockerfile", from, ".devcontainer/Other", "ARG IMG=x\nFROM $IMG\n",
			".devcontainer/c.yml", "services: {app: {image: 'a:1'}, db: {image: '"+stolen+"'}}\n",
			".devcontainer/b.yml", "services: {app: {image: 'a:1'}, db: {build: {dockerfile_inline: \"FROM "+stolen+"\"}}}\n",
			".devcontainer/i.yml", "services: {app: {build: {dockerfile_inline: \"FROM a:1\\nCOPY --from="+stolen+" / /x\\n\"}}}\n"))
		f, bad := Fatal(findings)
		if !bad {
			t.Errorf("%s is taken: %v", name, fmt.Sprint(findings))
		}
		if name == "a cache" && f.Line != 0 {
			t.Errorf("%s is told in line %d", name, f.Line)
		}
	}
}
