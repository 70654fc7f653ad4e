#!/usr/bin/env bash
# Everything that must pass, in the order in which it fails fastest. Output is
# kept short: a step that passes says its name.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
./scripts/setup.sh
step() { echo "== $*"; }

step "format"
unformatted=$(gofmt -l cmd internal e2e)
if [[ -n $unformatted ]]; then echo "not formatted by gofmt: $unformatted"; exit 1; fi

step "modules"
go mod tidy -diff

step "front end: install, types, lint, type check, build"
make --silent web/node_modules/.installed
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
./scripts/gen.sh "$work/site.schema.json" "$work/types.gen.ts"
cmp "$work/site.schema.json" docs/site.schema.json || { echo "docs/site.schema.json is not what the Go types say: run make gen"; exit 1; }
cmp "$work/types.gen.ts" web/src/api/types.gen.ts || { echo "web/src/api/types.gen.ts is not what the Go types say: run make gen"; exit 1; }
(cd web && npm run --silent formatted && npm run --silent lint && npm run --silent typecheck && npm run --silent build -- --logLevel warn)

step "go vet and staticcheck"
go vet ./...
GOOS=windows CGO_ENABLED=0 go vet ./... # make dist vets for each system
go tool staticcheck ./...

step "unit tests with the race detector, fuzz seeds included"
# What times what it talks with has the machine to itself.
timed='/internal/(field|relay|recording)(/|$)' patient='/internal/field/(mqtt|opcua)$'
go test -race $(go list ./... | grep -vE "/e2e$|/internal$|$timed")
go test ./internal # it reads all files, one after the other
go test -race -p 1 $(go list ./... | grep -E "$timed" | grep -vE "$patient")
go test -race -p 2 $(go list ./... | grep -E "$patient") # which wait most of their time

step "build"
go build -trimpath -o bin/ferry ./cmd/ferry

step "end to end, in Chromium"
go test -count=1 -parallel 2 -timeout 20m ./e2e # two at once: they wait most of their time
