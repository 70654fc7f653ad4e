#!/usr/bin/env bash
# Installs what the tests need beyond Go, Node and make: a C compiler for the
# race detector, Chromium, clients of other hands that ask and subscribe (libmodbus
# and mosquitto, and one of a building's network), and a checker of accessibility,
# none of which is part of Ferry. Does nothing where they are there already.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
missing=()
command -v gcc >/dev/null || missing+=(gcc libc6-dev)
command -v chromium >/dev/null || command -v chromium-browser >/dev/null || missing+=(chromium)
[[ -f /usr/include/modbus/modbus.h ]] || missing+=(libmodbus-dev)
command -v mosquitto_sub >/dev/null || missing+=(mosquitto-clients)
if ((${#missing[@]})); then
	echo "installing ${missing[*]}"
	sudo=
	((EUID == 0)) || sudo=sudo
	$sudo apt-get update -qq
	DEBIAN_FRONTEND=noninteractive $sudo apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
fi
if [[ ! -f .scratch/axe/node_modules/axe-core/axe.min.js ]]; then
	echo "installing axe-core"
	npm install --prefix .scratch/axe --silent --no-audit --no-fund --save-exact axe-core@4.11.0
fi
if [[ ! -f .scratch/bacnet/node_modules/node-bacnet/package.json ]]; then
	echo "installing node-bacnet"
	npm install --prefix .scratch/bacnet --silent --no-audit --no-fund --save-exact node-bacnet@0.2.4
fi
