# Yard Bench. `make demo` and `make test` are all a new machine needs; the
# rest is for those who work on it. docs/contributing.md says more.
SHELL := /bin/bash
export CGO_ENABLED := 0
GO_FILES := $(shell find cmd client wire internal console test tools -name '*.go' -not -path '*/node_modules/*' 2>/dev/null) go.mod go.sum
STEWARD := internal/steward/carried/bin/steward-linux
CONSOLE_FILES := $(shell find console/src console/public -type f 2>/dev/null) console/index.html console/package-lock.json console/compress.mjs console/vite.config.ts console/tsconfig.json

.PHONY: build package demo demo-stop demo-reset test bench mutants soak screenshots generate clean steward console
build: bin/yardbench

$(STEWARD)-%: cmd/steward/main.go $(wildcard internal/steward/*.go internal/steward/inside/*.go internal/core/definition/variable/*.go) go.mod
	GOOS=linux GOARCH=$* go build -trimpath -ldflags='-s -w' -o $@ ./cmd/steward

steward: $(STEWARD)-amd64 $(STEWARD)-arm64

console/node_modules: console/package-lock.json
	cd console && npm ci --no-audit --no-fund --loglevel=error
	touch $@

console/dist/index.html: console/node_modules $(CONSOLE_FILES)
	cd console && npm run --silent build

console: console/dist/index.html

bin/yardbench: steward console $(GO_FILES) internal/store/migrations/*.sql $(shell find internal/demo/repositories -type f)
	go build -ldflags "-X yardbench/wire.built=$$(git describe --always --exclude='*' --abbrev=10 --dirty=+ 2>/dev/null)" -o $@ ./cmd/yardbench

package: build
	tools/package bin

demo: build
	tools/demo up

demo-stop:
	tools/demo down

demo-reset:
	tools/demo reset

clean:
	rm -rf bin console/dist/assets console/dist/index.html $(STEWARD)-*

screenshots: demo
	tools/install browser terminal
	mkdir -p docs/screenshots
	go run ./tools/screenshots http://127.0.0.1:$${DEMO_PORT:-7080} $(CURDIR)/bin/yardbench docs/screenshots

test: build
	tools/test

bench: build
	tools/test bench

mutants:
	tools/mutants $(CORE)

soak: build
	tools/test soak

generate: build
	bin/yardbench openapi > docs/openapi.json
	bin/yardbench lifecycle > docs/lifecycle.md
	bin/yardbench settings > docs/settings.md
	bin/yardbench problems > docs/problems.md
	cd console && npm run --silent schema
