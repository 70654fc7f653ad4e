#!/usr/bin/env bash
# Builds the binary for every system that Ferry runs on, each vetted first.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
mkdir -p dist
for system in linux darwin windows; do
	for machine in amd64 arm64; do
		echo "== $system $machine"
		export GOOS=$system GOARCH=$machine CGO_ENABLED=0
		go vet ./...
		suffix=
		[[ $system == windows ]] && suffix=.exe
		go build -trimpath -ldflags "-s -w" -o "dist/ferry-$system-$machine$suffix" ./cmd/ferry
	done
done
(cd dist && sha256sum ferry-* > SHA256SUMS)
