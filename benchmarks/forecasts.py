"""How right the forecast of a conversion is, on two real engines that convert a world when they start.

    python benchmarks/forecasts.py [--rounds N]

* ``words``: a server of lines (Debian's ``tinymux``) that reads its whole world from one file at each start and writes it
  anew into a database of pages; made larger by its own objects, many times over.
* ``lands``: a server of blocks (Debian's ``minetest-server``) whose launch script has the engine take its SQLite map over
  into another kind of database; made larger by real blocks of its own, put at further places.

The world grows from round to round. Before each start the product's own forecast is asked, then the start is timed by the
product; the first one has nothing to go by.
"""

from __future__ import annotations

import argparse
import shutil
import sqlite3
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import closing
from dataclasses import replace
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent))

from tests.test_real_engines import LANDS, WORDS, Played

from emberkeep.keep.keep import Keep
from emberkeep.operations.record.starts import Starts
from emberkeep.operations.steps.server import world_bytes
from emberkeep.process.forecast import forecast

OBJECTS, BLOCKS = 40_000, 60_000
"""How many there are at first, and twice as many in each round; by how many the map grows."""
MIGRATING = """#!/bin/sh
cd "$(dirname "$0")" || exit 1
export MINETEST_SUBGAME_PATH="$PWD/games"
grep -q "^backend = sqlite3" world/world.mt &&
  ./minetestserver --migrate leveldb --world world --gameid skerries --config server.conf > migration.txt 2>&1
exec ./minetestserver --world world --gameid skerries --port {port} --config server.conf --logfile debug.txt > /dev/null 2>&1
"""


def main() -> None:
    """Print a line for each start."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--rounds", type=int, default=4)
    rounds = parser.parse_args().rounds
    print(f"{'engine':<8}{'world':>10}{'foretold':>22}{'took':>10}   within")
    with tempfile.TemporaryDirectory() as place:
        for name, grown in (("words", _words), ("lands", _lands)):
            room = Path(place) / name
            room.mkdir()
            room.chmod(0o755)
            for played, at in grown(room, rounds):
                _measured(played, name, at)


def _measured(played: Played, name: str, at: int) -> None:
    keep = Keep(played.keep, {})
    size = world_bytes(keep)
    starts = Starts(played.keep)
    told = forecast(starts.all(), size)
    played.ok("start", "--go", codes=(0, 1))
    took = starts.all()[-1]
    span = told.conversion if told and told.conversion else None
    words = f"{span[0]:.1f} to {span[1]:.1f} s" if span else "nothing to go by"
    within = "" if span is None else "yes" if span[0] <= took.seconds <= span[1] else "no"
    print(
        f"{name:<8}{size / 1e6:>7.1f} MB{words:>22}{took.seconds:>8.1f} s   {within}{'' if took.converted else ' (no conversion seen)'}"
    )


def _adopted(played: Played, place: Path) -> None:
    played.make(played.server)
    played.engine.edited.edit(played.server, played.engine.edited.mine)
    played.own(played.server)
    from tests.program import run_program

    assert run_program("adopt", played.server, cwd=place).code == 0
    played.tell()


def _words(place: Path, rounds: int) -> Iterator[tuple[Played, int]]:
    played = Played(replace(WORDS, roles='world = ["data/netmux.*"]\n'), place)
    _adopted(played, place)
    data = played.server / "data"
    shipped = (data / "netmux.db").read_text(encoding="latin-1")
    head, mark, last = shipped.removesuffix("***END OF DUMP***\n").rpartition("!11\n")  # a room that nothing hangs on
    for at in range(rounds):
        count = OBJECTS * 2**at
        for path in (*data.glob("netmux.*"), played.server / "netmux.pid"):
            path.unlink(missing_ok=True)
        alone = last.replace("\n10\n", "\n-1\n", 1)  # nobody is in these
        rooms = "".join(f"!{12 + number}\n{alone}" for number in range(count))
        text = f"{head}{mark}{last}{rooms}***END OF DUMP***\n".replace("+S12\n", f"+S{12 + count}\n", 1)
        (data / "netmux.db").write_text(text, encoding="latin-1")
        played.own(played.server)
        yield played, at
        played.ok("stop", "--go")


def _lands(place: Path, rounds: int) -> Iterator[tuple[Played, int]]:
    played = Played(replace(LANDS, launch=MIGRATING, roles='world = ["world/map.*/**", "world/map.*"]\n'), place)
    _adopted(played, place)
    world, settings = played.server / "world", (played.server / "world" / "world.mt").read_text()
    kept = place / "map.sqlite"
    _first_blocks(played, world, kept)
    for at in range(rounds):
        shutil.rmtree(world / "map.db", ignore_errors=True)
        _grow(kept, BLOCKS * 2**at)
        shutil.copy2(kept, world / "map.sqlite")
        (world / "world.mt").write_text(settings)
        yield played, at
        played.ok("stop", "--go")


def _first_blocks(played: Played, world: Path, kept: Path) -> None:
    """The engine itself makes some land, asked by a mod of a few lines."""
    mod = world / "worldmods" / "grow"
    mod.mkdir(parents=True)
    (mod / "mod.conf").write_text("name = grow\n")
    (mod / "init.lua").write_text(
        "minetest.after(0, function() minetest.emerge_area({x=-64,y=-64,z=-64}, {x=64,y=64,z=64}) end)\n"
    )
    script = played.server / "start.sh"
    converts = script.read_text()
    script.write_text(
        "\n".join(line for line in converts.splitlines() if "backend" not in line and "--migrate" not in line)
    )
    played.ok("start", "--go", codes=(0, 1))
    time.sleep(12)
    played.ok("stop", "--go")
    script.write_text(converts)
    shutil.rmtree(world / "worldmods")
    (world / "map.sqlite").rename(kept)
    (played.keep / "journal.db").unlink()  # that start says nothing of conversions


def _grow(kept: Path, count: int) -> None:
    """Real blocks, put at further places."""
    with closing(sqlite3.connect(kept)) as database, database:
        (there,) = database.execute("select max(pos) from blocks").fetchone()
        some = [row[0] for row in database.execute("select data from blocks order by pos limit 500")]
        placed = ((there + 1 + number, some[number % len(some)]) for number in range(count))
        database.executemany("insert into blocks (pos, data) values (?, ?)", placed)


if __name__ == "__main__":
    main()
