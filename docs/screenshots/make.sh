#!/usr/bin/env bash
# Makes the pictures in this folder anew, from the demo data: each main command in a 1280x800 terminal window.
# Needs emberkeep on the PATH, and Xvfb, xterm, ImageMagick, the DejaVu fonts and Chromium
# (Debian: xvfb xterm imagemagick fonts-dejavu-core chromium).
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
  DISPLAY=$display xterm -geometry 138x41+0+0 -fa 'DejaVu Sans Mono' -fs 11 -bg '#14171c' -fg '#e3e3e0' -b 12 \
    -e bash -c "cd '$work/rock'; export EMBERKEEP_KEEP=gannet-rock.keep; printf '%s\n' '\$ $*'; $*; touch '$done'; sleep 60" &
  terminal=$!
  for _ in $(seq 1200); do [ -e "$done" ] && break; sleep 0.1; done
  sleep 0.6
  DISPLAY=$display import -window root -strip "$here/$name.png"
  kill "$terminal" 2>/dev/null || true
  wait "$terminal" 2>/dev/null || true
}

# page NAME FILE: the picture of a page
page() {
  chromium --headless --no-sandbox --disable-gpu --disable-background-networking --disable-sync --no-first-run \
    --user-data-dir="$work/browser" --hide-scrollbars --window-size=1280,1000 --screenshot="$here/$1.png" "file://$2" >/dev/null 2>&1
}

ember() { (cd "$work/rock" && EMBERKEEP_KEEP=gannet-rock.keep emberkeep "$@" >/dev/null) || [ $? -eq 1 ]; }

mkdir "$work/rock"
shot demo "cd ..; emberkeep demo walked 2>&1 | tail -38"
rmdir "$work/rock"
emberkeep demo "$work/rock" --build-only >/dev/null
shot adopt emberkeep adopt gannet-rock --zone Atlantic/Faroe
ember snapshot --note "before 4.3"
ember defaults record 4.2 releases/skerrylight-4.2
ember defaults record 4.3 releases/skerrylight-4.3.zip
shot survey emberkeep survey
shot diff "emberkeep diff defaults:4.2 | head -39"
ember diff defaults:4.2 defaults:4.3 --chart totals.png
mv "$work/rock/totals.png" "$here/totals.png"
# An evening's play: some tiles, a player's bag, what was learned.
(cd "$work/rock/gannet-rock/outer-skerries" && python3 - <<'PLAY'
import pathlib, random, sqlite3
some = random.Random(11)
for tile in sorted(pathlib.Path("chart").iterdir())[9:31]:
    data = bytearray(tile.read_bytes())
    for sector in some.sample(range(16), some.randrange(1, 17)):
        data[sector * 4096 + 5] ^= 255
    tile.write_bytes(data)
pathlib.Path("chart/strip.4.0.sea").write_bytes(bytes(65536))
pathlib.Path("chart/strip.-4.3.sea").unlink()
keeper = sorted(pathlib.Path("keepers").iterdir())[3]
keeper.write_text(keeper.read_text().replace('"warmth": ', '"warmth": 1'))
book = sqlite3.connect("logbook.5.db")
with book:
    book.execute("delete from learned where day < 4")
    book.execute("update learned set day = day + 1 where craft = 'signals' and day > 340")
book.close()
PLAY
)
ember diff latest --map tiles.png
mv "$work/rock/tiles.png" "$here/tiles.png"
ember restore latest --go
shot orders "emberkeep orders propose; emberkeep orders propose --go | tail -2; emberkeep orders accept --all; emberkeep orders test | head -4"
ember merge --to 4.3 --report merge.html
page report "$work/rock/merge.html"
ember diff defaults:4.2 live --new defaults:4.3 --report beside.html
page beside "$work/rock/beside.html"
shot merge emberkeep merge --to 4.3
ember merge --to 4.3 --go
ember snapshot --note "after 4.3"
printf gone > "$work/rock/gannet-rock/mission/economy/stores.xml"
rm "$work/rock/gannet-rock/wardens.json" "$work/rock/gannet-rock/outer-skerries/chart/strip.0.0.sea"
shot restore "emberkeep restore latest; emberkeep restore latest --go; emberkeep undo --go; emberkeep history"
rm -r "$work/rock"
emberkeep demo "$work/rock" --build-only >/dev/null
ember adopt gannet-rock --zone Atlantic/Faroe
# Update day, with the stand-in engine running.
python3 - "$work/rock/gannet-rock.keep/keep.toml" <<'TOLD'
import pathlib, sys
from emberkeep.demo.mission import operated
path = pathlib.Path(sys.argv[1])
path.write_text(operated(path.read_text(), 27800, 27900))
TOLD
cp -r "$work/rock/releases/recipes" "$work/rock/gannet-rock.keep/recipes"
export ROCK_CONSOLE=gannet SKERRYLIGHT_PACE=6
ember defaults record 4.2 releases/skerrylight-4.2
ember start --go
line="releases/skerrylight-4.3.zip --to 4.3 --extensions releases/extensions-4.3"
shot update "emberkeep update $line"
ember update $line --go --report ../update.html 2>/dev/null
ember stop --now --go
page day "$work/update.html"
# The next wipe: what would be forgotten is what an extension that nobody remembers keeps.
python3 - "$work/rock" <<'SEASON'
import json, pathlib, sys
from emberkeep.demo.mission import season, season_logs

rock = pathlib.Path(sys.argv[1])
with (rock / "gannet-rock.keep" / "keep.toml").open("a") as told:
    told.write(season())
for path, text in season_logs().items():
    (rock / "gannet-rock" / path).write_text(text)
keeper = sorted((rock / "gannet-rock" / "outer-skerries" / "keepers").iterdir())[0].stem
(rock / "gannet-rock" / "attic").mkdir()
lockers = {"lockers": {keeper.replace("-", ""): {"lens": 2, "storm-lantern": 1}}}
(rock / "gannet-rock" / "attic" / "lockers.json").write_text(json.dumps(lockers, indent=1))
SEASON
shot wipe "emberkeep wipe map players extension-data"
shot calendar "emberkeep calendar --days 70; emberkeep calendar --days 30 --explain"
ember calendar --attendance attendance.png
mv "$work/rock/attendance.png" "$here/attendance.png"
rm -r "$work/rock"
emberkeep demo "$work/rock" --build-only >/dev/null
# The server behind a file transfer, which the stand-in plays.
mkdir "$work/rock/panel"
mv "$work/rock/gannet-rock" "$work/rock/panel/"
export HOST_WORD=gannet
python3 -m emberkeep.demo.ftp_server "$work/rock/panel" "$work/rock" & host=$!
for _ in $(seq 100); do [ -e "$work/rock/address" ] && break; sleep 0.1; done
(cd "$work/rock" && emberkeep adopt "$(cat address)gannet-rock" --into gannet-rock --secret-env HOST_WORD >/dev/null 2>&1)
ember defaults record 4.2 releases/skerrylight-4.2
ember defaults record 4.3 releases/skerrylight-4.3.zip
ember merge --from 4.2 --to 4.3 --go
printf 'mind the pier\n' >> "$work/rock/panel/gannet-rock/una-notes.txt"
shot mirror "emberkeep mirror fetch; emberkeep mirror send; emberkeep mirror send --go 2>/dev/null | tail -2; emberkeep undo --go | tail -3"
kill $host
rm -r "$work/rock"
emberkeep demo "$work/rock" --build-only >/dev/null
ember adopt gannet-rock --zone Atlantic/Faroe
# Half a year of snapshots: each week some tiles change and the logbook grows.
python3 - "$work/rock" <<'SEASON'
import pathlib, random, sys
from contextlib import closing
from datetime import UTC, datetime, timedelta
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.store import writer
from emberkeep.store.manifest import About
from emberkeep.store.store import Store

rock, some = pathlib.Path(sys.argv[1]), random.Random(4)
server, now = rock / "gannet-rock", datetime.now(UTC)
days = [172, 170, 143, 141, 112, 80, 79.9, 60, 45, 44.9, 38, 31, 24, 17, 12, 11.9, 10, 8, 5, 4.9, 4, 1.5, 1.1, 0.6, 0.1]
with closing(Store(rock / "gannet-rock.keep" / "store")) as store:
    for number, day in enumerate(days):
        for tile in some.sample(sorted(server.rglob("*.sea")), 12):
            data = bytearray(tile.read_bytes())
            at = some.randrange(max(1, len(data) // 4096 - 4)) * 4096
            data[at : at + 12288] = some.randbytes(12288)
            tile.write_bytes(bytes(data))
        pinned = number == 3
        note = "before the storm season" if pinned else ""
        live = FolderTree(server)
        writer.add(store, live, About("", now - timedelta(days=day), "asked", note, pinned=pinned), live=live)
SEASON
cat > "$work/flip.py" <<'FLIP'
import pathlib
pack = max(pathlib.Path("gannet-rock.keep/store/packs").glob("*.pack"), key=lambda path: path.stat().st_size)
data = bytearray(pack.read_bytes())
data[60_000] ^= 1
pack.write_bytes(bytes(data))
FLIP
shot store "emberkeep thin | tail -20; emberkeep thin --go | tail -1; python3 ../flip.py; emberkeep verify | head -8; emberkeep verify --repair | head -5; emberkeep export latest rock.tar.zst"
rm -r "$work/rock"
emberkeep demo "$work/rock" --build-only >/dev/null
# A database, which a SQLite file plays: the vendor's SQL, and its new prices.
python3 - "$work/rock" <<'MARKET'
import pathlib, sys
from emberkeep.demo.database_walk import TOLD, build

rock = pathlib.Path(sys.argv[1])
build(rock)
(rock / "told").write_text(TOLD)
MARKET
ember adopt gannet-rock --zone Atlantic/Faroe
cat "$work/rock/told" >> "$work/rock/gannet-rock.keep/keep.toml"
ember defaults record 4.2 releases/skerrylight-4.2
ember defaults record 4.3 releases/skerrylight-4.3.zip
shot databases "emberkeep survey | grep -A1 ^database.*holds; emberkeep migrate --from 4.2 --to 4.3 --sql releases/sql; emberkeep merge --from 4.2 --to 4.3 --only databases/market --details"
