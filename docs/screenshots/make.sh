#!/usr/bin/env bash
# Makes the pictures in this folder anew, from the demo data: each main command in a 1280x800 terminal window.
# Needs emberkeep on the PATH, and Xvfb, xterm, ImageMagick and the DejaVu fonts
# (Debian: xvfb xterm imagemagick fonts-dejavu-core).
set -eu
here=$(cd "$(dirname "${BASH_SOURCE[0]}")" && pwd)
work=/tmp/evening
if [ -e "$work" ]; then echo "$work is there already" >&2; exit 1; fi
mkdir "$work"
display=:$((RANDOM % 400 + 100))
Xvfb "$display" -screen 0 1280x800x24 >/dev/null 2>&1 & screen=$!
trap 'kill $screen 2>/dev/null || true; rm -rf "$work"' EXIT
for _ in $(seq 50); do [ -e "/tmp/.X11-unix/X${display#:}" ] && break; sleep 0.1; done

# shot NAME COMMAND...: runs the words as a shell line in the demo folder and takes the window's picture
shot() {
  local name=$1 done=$work/done terminal
  shift
  rm -f "$done"
  DISPLAY=$display xterm -geometry 142x44+0+0 -fa 'DejaVu Sans Mono' -fs 11 -bg '#14171c' -fg '#e3e3e0' -b 12 \
    -e bash -c "cd '$work/rock'; export EMBERKEEP_KEEP=gannet-rock.keep; printf '%s\n' '\$ $*'; $*; touch '$done'; sleep 60" &
  terminal=$!
  for _ in $(seq 300); do [ -e "$done" ] && break; sleep 0.1; done
  sleep 0.6
  DISPLAY=$display import -window root -strip "$here/$name.png"
  kill "$terminal" 2>/dev/null || true
  wait "$terminal" 2>/dev/null || true
}

ember() { (cd "$work/rock" && EMBERKEEP_KEEP=gannet-rock.keep emberkeep "$@" >/dev/null) || [ $? -eq 1 ]; }

mkdir "$work/rock"
shot demo "cd ..; emberkeep demo walked | tail -41"
rmdir "$work/rock"
emberkeep demo "$work/rock" --build-only >/dev/null
shot adopt emberkeep adopt gannet-rock --zone Atlantic/Faroe
ember snapshot --note "before 4.3"
ember defaults record 4.2 releases/skerrylight-4.2
shot defaults "emberkeep defaults record 4.3 releases/skerrylight-4.3.zip; emberkeep defaults list"
shot survey emberkeep survey
shot diff "emberkeep diff defaults:4.2 | head -42"
shot merge emberkeep merge --to 4.3
ember merge --to 4.3 --go
ember snapshot --note "after 4.3"
printf gone > "$work/rock/gannet-rock/mission/economy/stores.xml"
rm "$work/rock/gannet-rock/wardens.json" "$work/rock/gannet-rock/outer-skerries/chart/strip.0.0.sea"
shot restore "emberkeep restore latest; emberkeep restore latest --go; emberkeep diff latest; emberkeep history"
shot verify "emberkeep verify; emberkeep snapshot --note evening --only players; emberkeep history"
