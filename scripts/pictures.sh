#!/bin/sh
# pictures.sh: docs/screenshots anew, from a fresh demo that it starts and ends.
set -eu
cd "$(dirname "$0")/.."
dir=var/pictures
mkdir -p var docs/screenshots
rm -f var/pictures.said
mkfifo var/pictures.said
bin/demo -fresh -dir "$dir" -listen 127.0.0.1:8629 >var/pictures.said & demo=$!
finish() {
  rc=$?
  trap - EXIT
  kill -INT "$demo" 2>/dev/null || :
  wait "$demo" 2>/dev/null || :
  rm -f var/pictures.said
  exit "$rc"
}
trap finish EXIT
exec 4<var/pictures.said
while read -r line <&4; do # until the demo says that all stands
  case $line in "Ctrl-C ends it"*) break ;; esac
done
DOVRAK_SERVER=http://127.0.0.1:8629
DOVRAK_TOKEN=$(cat "$dir/ragna.token")
export DOVRAK_SERVER DOVRAK_TOKEN
PATH=$PWD/bin:$PATH
desk() { DOVRAK_TOKEN=$(cat "$dir/administrator.token") dovrak "$@" >/dev/null; }
desk registry declare hut/spare/alert-relay --owner Ylva
desk registry declare ridge/spare/alert-relay --owner Ylva
desk registry edit hut --bytes-per-second 256KiB # a copy that is seen under way
dovrak copy forge/bench/alert-relay:build-88 hut/spare/alert-relay ridge/spare/alert-relay --detach
dovrak promote alert-relay --to live --because "longer siren for the lower valley" --detach >/dev/null # seen waiting
go run ./test/pictures -server "$DOVRAK_SERVER" -token "$dir/ylva.token"
dovrak copies stop 2 >/dev/null || : # it may have ended
desk registry edit hut --bytes-per-second 0
shot() { name=$1; shift; scripts/terminal.sh "docs/screenshots/$name.png" "$@"; }
shot show dovrak show hut/live/map-tiles:live
shot rollback dovrak rollback snowpack-model --in live --plan
shot check dovrak registry check ridge
shot approve dovrak promotions show 15
dovrak stop 15 >/dev/null
shot promote dovrak promote alert-relay --to live --because "relay checked at the hut"
shot trail dovrak trail hut/live/snowpack-model:live
