#!/bin/sh
# terminal.sh OUT.png COMMAND...: runs a command in a terminal window of 1280 by 800 and takes a picture of it.
set -eu
out=$1
shift
tmp=$(mktemp -d)
finish() {
  rc=$?
  trap - EXIT
  kill ${term:-} ${x:-} 2>/dev/null || :
  rm -rf "$tmp"
  exit "$rc"
}
trap finish EXIT
mkfifo "$tmp/display" "$tmp/done"
Xvfb -displayfd 3 -screen 0 1280x800x24 -nolisten tcp 3>"$tmp/display" >/dev/null 2>&1 & x=$!
read -r display <"$tmp/display"
export DISPLAY=":$display" COLORTERM=truecolor LC_ALL=C.UTF-8
unset NO_COLOR CI
export DONE="$tmp/done"
xterm -u8 -fa 'JetBrains Mono' -fs 13 -geometry 118x33+0+0 -b 18 -bw 0 +sb -bg '#fbf8f1' -fg '#1d1f21' -tn xterm-256color \
  -xrm 'XTerm*cursorColor: #fbf8f1' -xrm 'XTerm*color1: #a62f16' -xrm 'XTerm*color3: #7d5000' -xrm 'XTerm*faintIsRelative: false' \
  -e sh -c 'printf "\033[2m\$\033[0m"; for a in "$@"; do case $a in *[\ \"]*) printf " \"%s\"" "$a";; *) printf " %s" "${a##*/bin/}";; esac; done
    printf "\n"; "$@"; printf "\033[?25l"; echo >"$DONE"; read -r _' sh "$@" & term=$!
read -r _ <"$tmp/done"
# The window is drawn when the server has dealt with all that was asked of it before.
import -window root "$tmp/first.png"
until import -window root "$tmp/now.png" && cmp -s "$tmp/first.png" "$tmp/now.png"; do mv "$tmp/now.png" "$tmp/first.png"; done
mv "$tmp/now.png" "$out"
