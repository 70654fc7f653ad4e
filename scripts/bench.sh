#!/usr/bin/env bash
# Prints the performance table: the figures that Ferry promises, measured.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
go test -run '^$' -bench . -benchtime "${BENCHTIME:-1s}" ./internal/core/value ./internal/core/timetable ./internal/core/fathom ./internal/files ./internal/field/modbus | grep -E '^(Benchmark|pkg)'
go test -run '^$' -bench 'Round|Many' -benchtime 1x ./internal/field | grep -E '^(Benchmark|pkg)'
FERRY_FIGURES=1 go test -count=1 -run TestFigures -v ./e2e | grep -E 'figure|ok|FAIL' || true
