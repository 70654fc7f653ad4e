#!/usr/bin/env bash
# Fuzzes every fuzz test for a while: FUZZTIME=30s make fuzz
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
grep -rHo 'func Fuzz[A-Za-z]*' --include='*_test.go' internal cmd | while IFS=: read -r file name; do
	echo "== ${name#func } in $(dirname "$file")"
	go test "./$(dirname "$file")" -run '^$' -fuzz "^${name#func }\$" -fuzztime "${FUZZTIME:-20s}" -fuzzminimizetime 20x
done
