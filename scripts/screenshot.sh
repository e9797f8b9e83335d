#!/usr/bin/env bash
# Renders what a command really prints in a terminal window of about 1280x800, cropped to its text.
#   scripts/screenshot.sh NAME COMMAND [ARG...]
# writes docs/screenshots/NAME.png. Runs in the current folder. A command line with
# several steps is one argument to: sh -c.
set -euo pipefail
name=$1; shift
root=$(cd "$(dirname "$0")/.." && pwd)
target=$root/docs/screenshots/$name.png

missing=()
for pair in Xvfb:xvfb xterm:xterm scrot:scrot mogrify:imagemagick; do
  command -v "${pair%%:*}" >/dev/null || missing+=("${pair##*:}")
done
fc-list 2>/dev/null | grep -q 'DejaVu Sans Mono' || missing+=(fonts-dejavu-core)
if [ ${#missing[@]} -gt 0 ]; then
  echo "installing ${missing[*]}" >&2
  apt-get update -qq && apt-get install -y -qq "${missing[@]}" >/dev/null
fi

work=$(mktemp -d)
trap 'kill $server 2>/dev/null || true; rm -rf "$work"' EXIT
Xvfb -displayfd 3 -screen 0 1280x800x24 -nolisten tcp 3>"$work/display" 2>/dev/null &
server=$!
for _ in $(seq 100); do [ -s "$work/display" ] && break; sleep 0.1; done
DISPLAY=:$(cat "$work/display"); export DISPLAY

shown=$*
[ "$1" = sh ] && shown=$3
{
  echo 'set +e'
  echo "printf '\\033[?25l'" # no cursor
  printf "printf '\\\\033[36m$\\\\033[0m %%s\\\\n' %q\n" "$shown"
  printf '%q ' "$@"; echo
  echo "touch $work/done; sleep 60"
} > "$work/run.sh"
xterm -fa 'DejaVu Sans Mono' -fs 11 -geometry 141x44+0+0 -b 8 -bg '#14181d' -fg '#d8dee4' +sb -T evensprout -e bash "$work/run.sh" &
for _ in $(seq 600); do [ -e "$work/done" ] && break; sleep 0.1; done
[ -e "$work/done" ] || { echo "$name: the command did not end" >&2; exit 1; }
sleep 0.7
mkdir -p "$root/docs/screenshots"
scrot --overwrite "$target"
# Cropped to the text, with a margin.
mogrify -crop 1272x792+2+2 +repage -bordercolor '#14181d' -border 1 -trim +repage -border 4 "$target"
echo "$target"
