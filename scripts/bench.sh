#!/usr/bin/env bash
# Measures what Ferry promises, fails where a promise is not kept, and writes the
# table to docs/performance.md. BENCHTIME=3s for longer runs. BEFORE=COMMIT
# measures an older version in the same run and sets its figures beside.
set -uo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
./scripts/setup.sh
if [[ ! -f /usr/include/modbus/modbus.h ]]; then
	sudo=
	((EUID == 0)) || sudo=sudo
	DEBIAN_FRONTEND=noninteractive $sudo apt-get install -y -qq --no-install-recommends libmodbus-dev >/dev/null
fi
mkdir -p .scratch
cc -O2 -o .scratch/cloop scripts/cloop/loop.c -I/usr/include/modbus -lmodbus || exit 1
export FERRY_CLOOP=$PWD/.scratch/cloop FERRY_FIGURES=1
out=$(mktemp)
old=$(mktemp)
trap 'rm -f "$out" "$old"' EXIT
failed=0
stolen() { awk '/^cpu / {total = 0; for (i = 2; i <= 9; i++) total += $i; print $9, total}' /proc/stat; }
before=$(stolen)
run() { "$@" 2>&1 | tee -a "$out" | grep -E '^(Benchmark|pkg|---|FAIL)|figure:'; ((PIPESTATUS[0] == 0)) || failed=1; }
run go test -p 1 -run '^$' -bench . -benchtime "${BENCHTIME:-1s}" ./internal/core/value ./internal/core/timetable ./internal/core/crossing ./internal/core/fathom ./internal/core/checkout ./internal/core/trend ./internal/files ./internal/field/modbus
run go test -run '^$' -bench 'Round|Many|Crossings' -benchtime 1x ./internal/field
run go test -run '^$' -bench Cyclic -benchtime 1x ./internal/field/enip
run go test -run '^$' -bench 'Followed|Served' -benchtime 1x ./internal/field/opcua
run env FERRY_STATIONS=200 FERRY_SECONDS=30 FERRY_MOVING=4 go test -count=1 -run TestNoneLost -v ./internal/field/iec61850
run env FERRY_STATIONS=100 FERRY_SECONDS=30 FERRY_MOVING=5 FERRY_CLIENTS=4 go test -count=1 -run TestNoneLost -v ./internal/field/iec61850
run go test -run '^$' -bench Station -benchtime 3x ./internal/core/family/iec61850
run go test -p 1 -run '^$' -bench 'Diagnose|Relay' -benchtime 3s ./internal/recording ./internal/relay
run go test -count=1 -timeout 30m -run 'TestFigures|TestManyDevices|TestManyCrossings' -v ./e2e
# Alone: packages of one command run at once.
run go test -count=1 -timeout 30m -run TestRatios -v ./internal/field/modbus
run go test -count=1 -timeout 30m -run TestRatios -v ./internal/field/blocktcp
run go test -count=1 -timeout 30m -run 'TestRatios|TestSilence' -v ./internal/field/enip
if [[ -n ${BEFORE:-} ]]; then
	then=$PWD/.scratch/before
	rm -rf "$then"
	git worktree prune
	git worktree add -q --detach "$then" "$BEFORE" || exit 1
	cp -r web/node_modules "$then/web/"
	(
		cd "$then"
		make -s build >/dev/null
		go test -p 1 -run '^$' -bench . -benchtime "${BENCHTIME:-1s}" ./internal/core/value ./internal/core/timetable ./internal/core/fathom ./internal/core/checkout ./internal/core/trend ./internal/files ./internal/field/modbus
		go test -count=1 -timeout 30m -run 'TestFigures|TestManyDevices' -v ./e2e
		go test -count=1 -timeout 30m -run TestRatios -v ./internal/field/modbus
	) 2>&1 | tee "$old" | grep -E '^(Benchmark|---|FAIL)|figure:'
	git worktree remove --force "$then"
fi
{
	echo "# Performance"
	echo
	echo "Written by \`make bench\` on $(date +%Y-%m-%d), on $(nproc) cores with $(awk '/MemTotal/ {printf "%.0f", $2 / 1048576}' /proc/meminfo) GB, $(uname -s), $(go version | cut -d' ' -f3). What is promised is asserted there; figures of two things side by side are of the same run."
	echo
	echo '```'
	grep -E '^Benchmark' "$out" | sed -E 's/-[0-9]+ +/ /; s/[ \t]+/ /g'
	echo '```'
	echo
	grep -oE 'figure: .*' "$out" | sed 's/^figure: /- /'
	echo "- the host took $(echo "$before $(stolen)" | awk '{printf "%.0f", 100 * ($3 - $1) / ($4 - $2)}') % of the processors' time away while this was measured"
	if [[ -n ${BEFORE:-} ]]; then
		echo
		echo "## The version of $(git log -1 --format='%cd, %h' --date=short "$BEFORE"), in the same run"
		echo
		echo '```'
		grep -E '^Benchmark' "$old" | sed -E 's/-[0-9]+ +/ /; s/[ \t]+/ /g'
		echo '```'
		echo
		grep -oE 'figure: .*' "$old" | sed 's/^figure: /- /'
	fi
} > docs/performance.md
((failed == 0)) || { echo "a promise is not kept, or a benchmark failed: see above"; exit 1; }
