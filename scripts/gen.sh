#!/usr/bin/env bash
# Writes the JSON Schema of the site file and the TypeScript types of the
# interface, both out of the Go types: gen.sh SCHEMA TYPES
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
go run ./internal/api/gen site > "$work/site.json"
go run ./internal/api/gen api > "$work/api.json"
(cd web && npx --no-install json2ts -i "$work/api.json" --additionalProperties false --no-unreachableDefinitions \
	--bannerComment '// Generated from the Go types by scripts/gen.sh; DO NOT EDIT.') > "$work/types.ts"
for pair in "site.json:$1" "types.ts:$2"; do
	from=$work/${pair%%:*} to=${pair#*:}
	cmp -s "$from" "$to" || cp "$from" "$to"
done
