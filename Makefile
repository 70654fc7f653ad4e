# Every command works on a fresh machine with Go, Node, make and Debian's
# packages: what else is needed is installed by scripts/setup.sh.

GO_FLAGS = -trimpath

.PHONY: demo build web gen test bench dist fuzz soak shots clean

demo: build
	./bin/ferry demo

build: web
	go build $(GO_FLAGS) -o bin/ferry ./cmd/ferry

web: web/node_modules/.installed gen
	cd web && npm run --silent build

# Not npm ci: it wants the optional packages of every other platform in the lock
# file, which an install on this one does not put there. --no-save keeps to the
# lock file and does not write it.
web/node_modules/.installed: web/package-lock.json
	cd web && npm install --no-save --silent --no-audit --no-fund
	touch $@

# Types of the interface and the schema of the site file, out of the Go types.
gen: web/node_modules/.installed
	./scripts/gen.sh docs/site.schema.json web/src/api/types.gen.ts

test:
	./scripts/test.sh

bench: build
	./scripts/bench.sh

# The binary for Linux, macOS and Windows, on both processors.
dist: web
	./scripts/dist.sh

# Ten minutes of random edits, starts, stops, switches of the mode, faults and
# kills, with a plant that logs every write: SOAK=2m make soak for less.
soak: build
	FERRY_SOAK=$(or $(SOAK),10m) go test -count=1 -timeout 60m -run TestSoak -v ./e2e

# The pictures of docs/screenshots, anew from the demo site.
shots: build
	FERRY_SHOTS=$(CURDIR)/docs/screenshots go test -count=1 -run 'TestShots|TestPeopleSignIn|TestShoreGateway|TestRecording$$|TestRelay$$|TestLookouts$$|TestMeters$$' ./e2e

fuzz:
	./scripts/fuzz.sh

clean:
	rm -rf bin dist web/node_modules internal/api/dist/assets internal/api/dist/index.html internal/api/dist/icon.svg
