#!/bin/sh
# prepare.sh PACKAGE...: checks the stated prerequisites, and installs what else is missing from Debian's packages.
# Nothing that is installed is started as a system service.
set -eu

need() { # NAME, WANTED, REMEDY
  echo "prepare: $1 is needed ($2). $3" >&2
  exit 1
}

command -v go >/dev/null || need "Go" "1.26 or newer" "Install it from https://go.dev/dl and put its bin on PATH."
go=$(go env GOVERSION | sed 's/^go//')
[ "$(printf '%s\n' 1.26 "$go" | sort -V | head -n 1)" = 1.26 ] || need "Go" "1.26 or newer, this is $go" "Install it from https://go.dev/dl."
command -v node >/dev/null && command -v npm >/dev/null || need "Node with npm" "20 or newer" "Install it from https://nodejs.org."
node=$(node -p 'process.versions.node')
[ "${node%%.*}" -ge 20 ] || need "Node" "20 or newer, this is $node" "Install it from https://nodejs.org."

missing=
for p in "$@"; do
  [ "$(dpkg-query -W -f='${db:Status-Status}' "$p" 2>/dev/null || :)" = installed ] || missing="$missing $p"
done
[ -n "$missing" ] || exit 0
if [ "$(id -u)" != 0 ]; then
  echo "prepare: not installed:$missing. Have this run once, then go on:" >&2
  echo "  sudo apt-get update && sudo RUNLEVEL=1 apt-get install -y --no-install-recommends$missing" >&2
  exit 1
fi
echo "prepare: installing$missing"
# RUNLEVEL=1: a server that is installed here is not started.
export DEBIAN_FRONTEND=noninteractive RUNLEVEL=1
apt-get update -q >/dev/null
# shellcheck disable=SC2086
apt-get install -y -q --no-install-recommends $missing >/dev/null
