package definition

import (
	"fmt"
	"strings"
	"testing"
)

// What a tree holds becomes a definition, with the reason for each line; it
// reads as it is, and nothing is wrong with it.
func TestPropose(t *testing.T) {
	for _, c := range []struct {
		what  string
		files []string
		want  []string
	}{
		{"Go", []string{"go.mod", "module x\n\ngo 1.25.3\n"}, []string{`"image": "golang:1.25-bookworm"`, "it holds go.mod, and go.mod asks for 1.25", `"updateContentCommand": "go mod download"`}},
		{"Go without a version", []string{"go.mod", "module x\n"}, []string{`"image": "golang:1.26-bookworm"`}},
		{"Go by its checks", []string{"go.mod", "module x\n", ".github/workflows/check.yml", "jobs:\n  all:\n    steps:\n      - uses: setup\n        with:\n          node-version: 18\n          go-version: '1.24.x'\n"}, []string{`"image": "golang:1.24-bookworm"`, ".github/workflows/check.yml asks for 1.24"}},
		{"Python by the image of its checks", []string{"requirements.txt", "", ".gitlab-ci.yml", "all:\n  services: ['postgres:16']\n  image: \"mirror.skerryline.example:5000/hub/python:3.11-slim\"\n"}, []string{`"image": "python:3.11-bookworm"`, ".gitlab-ci.yml asks for 3.11"}},
		{"checks of many versions", []string{"go.mod", "module x\n", ".github/workflows/a.yml", "go-version: ${{ matrix.go }}\nimage: node:18\n", ".github/workflows/a.txt", "go-version: 1.2"}, []string{`"image": "golang:1.26-bookworm"`}},
		{"Node", []string{"package.json", `{"engines": {"node": ">=22.1"}}`, "yarn.lock", ""}, []string{`"image": "node:22-bookworm"`, `"yarn install --immutable"`, "yarn.lock names the packages"}},
		{"Node by its own file", []string{"package.json", `{"engines": {"node": "18"}}`, ".nvmrc", "v20.3.1\n", "package-lock.json", ""}, []string{`"node:20.3-bookworm"`, `"npm ci"`}},
		{"Python", []string{"pyproject.toml", "requires-python = \">=3.12\"", "uv.lock", ""}, []string{`"python:3.12-bookworm"`, `"uv sync"`}},
		{"Rust", []string{"Cargo.toml", "rust-version = \"1.80\""}, []string{`"rust:1.80-bookworm"`, `"cargo fetch"`}},
		{"Ruby", []string{"Gemfile", "ruby '3.3'"}, []string{`"ruby:3.3-bookworm"`, `"bundle install"`}},
		{"Java", []string{"pom.xml", "", "mvnw", ""}, []string{`"./mvnw -q dependency:go-offline"`}},
		{"nothing", []string{"README", ""}, []string{`"image": "buildpack-deps:bookworm"`, "it holds nothing that says more"}},
		{"a build file", []string{"Dockerfile", "FROM a:1 AS dev\nEXPOSE 3000\nUSER crew\nFROM a:1\nEXPOSE 80\n", "Makefile", "setup:\n\ttrue\n"}, []string{`"build": {"context":"..","dockerfile":"../Dockerfile","target":"dev"}`, `"remoteUser": "crew"`, `"forwardPorts": [3000]`, `"postCreateCommand": "make setup"`}},
		{"services", []string{"compose.yaml", "services: {web: {image: 'a:1', volumes: ['.:/app'], ports: ['80']}, db: {image: 'b:1', ports: ['5432']}}", "go.mod", "go 1.26"}, []string{`"dockerComposeFile": "../compose.yaml"`, `"service": "web"`, `"workspaceFolder": "/app"`, `"forwardPorts": [80,"db:5432"]`, `"go mod download"`}},
		{"secrets", []string{".env.example", "# here\nexport API_TOKEN=\nLEVEL=1\nDB_PASSWORD=\nTOKEN_FILE=\n"}, []string{`"secrets": {"API_TOKEN":{"description":"see .env.example"},"DB_PASSWORD":`}},
	} {
		src := source("", c.files...)
		text := string(ProposalText(Propose(src)))
		for _, w := range c.want {
			if !strings.Contains(text, w) {
				t.Errorf("%s: it has no %s:\n%s", c.what, w, text)
			}
		}
		if strings.Contains(text, "TOKEN_FILE") {
			t.Errorf("%s: what is no secret is proposed as one", c.what)
		}
		next := source("", append(c.files, Places[0], text)...)
		def, fs := Check(next)
		if f, bad := Fatal(fs); bad || def.Path != Places[0] {
			t.Errorf("%s: what is proposed is told as %v\n%s", c.what, f, text)
		}
		for _, f := range fs {
			if f.Severity == Warning {
				t.Errorf("%s: what is proposed is warned of: %s", c.what, f)
			}
		}
		if old, _ := Resolve(src); old.Folder != def.Folder || fmt.Sprint(old.Ports) != fmt.Sprint(def.Ports) && len(old.Ports) > 0 {
			t.Errorf("%s: it comes to %s %v, and without it %s %v", c.what, def.Folder, def.Ports, old.Folder, old.Ports)
		}
	}
}
