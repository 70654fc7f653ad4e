#!/usr/bin/env bash
# Installs what the tests need beyond Go, Node and make: a C compiler for the
# race detector, and Chromium. Does nothing where they are there already.
set -euo pipefail
missing=()
command -v gcc >/dev/null || missing+=(gcc libc6-dev)
command -v chromium >/dev/null || command -v chromium-browser >/dev/null || missing+=(chromium)
if ((${#missing[@]})); then
	echo "installing ${missing[*]}"
	sudo=
	((EUID == 0)) || sudo=sudo
	$sudo apt-get update -qq
	DEBIAN_FRONTEND=noninteractive $sudo apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
fi
