#!/bin/sh
# Everything that must hold, on a machine with nothing prepared.
set -eu
cd "$(dirname "$0")/.."
scripts/prepare.sh postgresql chromium docker-registry

step() { echo "== $1"; }

step "format and vet"
unformatted=$(gofmt -l $(git ls-files '*.go'))
[ -z "$unformatted" ] || { echo "not gofmt'ed: $unformatted" >&2; exit 1; }
go vet ./...
go vet -tags failpoints ./...

step "console: types, linter, build"
make --no-print-directory build
(cd console && npm run --silent lint)

step "tests"
scripts/within.sh go test -race -parallel 8 -timeout 40m ./... # tests that wait run side by side
