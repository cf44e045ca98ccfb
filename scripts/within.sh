#!/bin/sh
# within.sh COMMAND...: runs a command with a directory for its servers, and ends every server left there, however the
# command ended.
set -eu
DOVRAK_TEST_DIR=$(mktemp -d)
export DOVRAK_TEST_DIR
chmod 711 "$DOVRAK_TEST_DIR"
finish() {
  rc=$?
  trap - EXIT
  for pid in $(cat "$DOVRAK_TEST_DIR"/*/data/postmaster.pid 2>/dev/null | grep -E '^[0-9]+$' || :); do
    # The file's first line is the server's process id; other lines that are numbers name no postgres.
    if grep -q '^postgres' "/proc/$pid/comm" 2>/dev/null; then kill -INT "$pid" 2>/dev/null || :; fi
  done
  rm -rf "$DOVRAK_TEST_DIR"
  exit "$rc"
}
trap finish EXIT
trap 'exit 130' INT
trap 'exit 143' TERM
"$@"
