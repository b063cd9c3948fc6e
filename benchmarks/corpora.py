"""The large sample server and a year of it: what a week of play and of an admin's care changes.

:func:`build` lays the sample of size ``large`` (1.5 GB of tiles, 20 000 players) and adds a log and the first of the weekly SQL
dumps. :func:`week` then does to it what a week does, in place, the same for the same number:

* 3 % of the sectors of all tiles are rewritten, in the tiles where people were: 8 % of the tiles, in stretches;
* a fifth of the players have other belongings and stand elsewhere;
* the log grows by 1 MB; the SQLite database gets new rows and changes others, which touches pages all over it;
* a new dump is written under its date, with rows inserted all through it; the oldest of five goes;
* prices change in the economy files.
"""

from __future__ import annotations

import json
import random
import re
import sqlite3
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

from emberkeep.demo import sample

SECTOR = sample.SECTOR
DUMPS_KEPT = 5
ROWS = 60_000


def build(place: Path) -> Path:
    """The large sample below ``place``, with a log and a dump; the server's folder."""
    sample.build(place, "large")
    server = place / sample.SERVER
    (server / "dumps").mkdir()
    (server / "log" / "harbour.log").write_bytes(b"".join(log_lines(0, 4_000_000)))
    dump(server, 0)
    return server


def build_packed(place: Path, gigabytes: float | None = None) -> Path:
    """A world of another nature and the same size, so that nobody tunes to one: 400 tiles whose chunks the engine packs
    itself, as many do, so that nothing in them shrinks; or as many ``gigabytes`` of them. The rest is as in
    :func:`build`; the server's folder."""
    server = build(place)
    there = tiles(server)
    for tile in there:
        tile.unlink()
    for number in range(PACKED_TILES if gigabytes is None else round(gigabytes * 1e9 / PACKED_SIZE)):
        tile = there[0].with_name(f"packed.{number}.sea") if number >= len(there) else there[number]
        tile.write_bytes(random.Random(f"tile {number}").randbytes(PACKED_SIZE))
    return server


PACKED_TILES, PACKED_SIZE = 400, 854 * SECTOR


def tiles(server: Path) -> list[Path]:
    return sorted(server.rglob("*.sea"))


def week(server: Path, number: int, share: float = 0.03) -> None:
    """What week ``number`` (from 1) changes, of all sectors a ``share``."""
    chance = random.Random(f"week {number}")
    rewrite_where_people_were(tiles(server), chance, share)
    players(server, chance)
    with (server / "log" / "harbour.log").open("ab") as log:
        log.writelines(log_lines(number, 1_000_000))
    database(server, chance, number)
    dump(server, number)
    economy(server, chance)


def rewrite_where_people_were(
    paths: list[Path], chance: random.Random, share: float = 0.03, *, packed: bool = False
) -> int:
    """Rewrite ``share`` of all sectors in stretches of 8 to 64, in 8 % of the tiles; the bytes written. ``packed``: of
    a world as :func:`build_packed` makes it."""
    written = 0
    visited = chance.sample(paths, max(1, len(paths) * 8 // 100))
    left = int(sum(path.stat().st_size for path in paths) // SECTOR * share)
    each = -(-left // len(visited))
    for path in visited:
        sectors, done = path.stat().st_size // SECTOR, 0
        with path.open("r+b") as tile:
            while done < each:
                length = min(chance.randrange(8, 65), each - done, sectors)
                tile.seek(chance.randrange(sectors - length + 1) * SECTOR)
                for _ in range(length):
                    tile.write(chance.randbytes(SECTOR) if packed else sector(chance))
                done += length
        written += done * SECTOR
    return written


def rewrite_everywhere(paths: list[Path], chance: random.Random, share: float = 0.03, *, packed: bool = False) -> int:
    """The hardest case: ``share`` of the sectors, drawn one by one from all tiles; the bytes written."""
    written = 0
    for path in paths:
        sectors = path.stat().st_size // SECTOR
        with path.open("r+b") as tile:
            for at in chance.sample(range(sectors), round(sectors * share)):
                tile.seek(at * SECTOR)
                tile.write(chance.randbytes(SECTOR) if packed else sector(chance))
                written += SECTOR
    return written


def sector(chance: random.Random) -> bytes:
    """Half of it compressible, as the sample's own."""
    return chance.randbytes(SECTOR // 2) + bytes([chance.randrange(256)]) * (SECTOR // 2)


def players(server: Path, chance: random.Random) -> None:
    paths = sorted((server / sample.WORLD / "keepers").iterdir())
    for path in chance.sample(paths, len(paths) // 5):
        facts = json.loads(path.read_bytes())
        facts["at"] = [chance.randrange(-2000, 2000), chance.randrange(-2000, 2000)]
        facts["bag"] = {name: chance.randrange(1, 30) for name in facts["bag"]}
        path.write_text(json.dumps(facts, indent=1) + "\n", encoding="utf-8")


def log_lines(number: int, size: int) -> Iterator[bytes]:
    chance = random.Random(f"log {number}")
    words = ("comes ashore", "sets sail", "lights a lantern", "barters rope", "is lost in the fog", "mends a net")
    written = 0
    while written < size:
        who, where = chance.randrange(20_000), (chance.randrange(4096), chance.randrange(4096))
        clock = f"{chance.randrange(24):02}:{chance.randrange(60):02}:{chance.randrange(60):02}"
        line = f"week {number:02} {clock} keeper {who} {chance.choice(words)} at {where[0]},{where[1]}\n".encode()
        written += len(line)
        yield line


def database(server: Path, chance: random.Random, number: int) -> None:
    with closing(sqlite3.connect(server / sample.WORLD / f"logbook.{sample.LOGBOOK}.db")) as book, book:
        keepers = [row[0] for row in book.execute("select distinct keeper from learned order by keeper")]
        some = chance.sample(keepers, len(keepers) // 50)
        book.executemany("update learned set day = day + ? where keeper = ?", [(number, keeper) for keeper in some])
        rows = [(keeper, f"craft of week {number}", number * 7) for keeper in chance.sample(keepers, 200)]
        book.executemany("insert or replace into learned values (?, ?, ?)", rows)


def dump(server: Path, number: int) -> None:
    """A dump of about 7 MB and more each week; each week's inserted rows stand among the others."""
    rows = [(at * 1000, random.Random(f"row {at}")) for at in range(ROWS)]
    for earlier in range(1, number + 1):
        chance = random.Random(f"rows of week {earlier}")
        rows += [(chance.randrange(ROWS * 1000), chance) for _ in range(ROWS // 200)]
    rows.sort(key=lambda row: row[0])
    lines = (_row(key, chance) for key, chance in rows)
    (server / "dumps" / f"trades-{2026_000 + number}.sql").write_text("".join(lines), encoding="utf-8")
    for old in sorted((server / "dumps").iterdir())[:-DUMPS_KEPT]:
        old.unlink()


def _row(key: int, chance: random.Random) -> str:
    chance = random.Random(key)
    goods = ("rope", "lamp oil", "hardtack", "tar", "sailcloth", "chart paper")
    return (
        f"insert into trades values ({key}, {chance.randrange(20_000)}, '{chance.choice(goods)}', "
        f"{chance.randrange(1, 500)}, {chance.randrange(10_000) / 100}, '{chance.choice(('sold', 'bought'))} at the pier');\n"
    )


def economy(server: Path, chance: random.Random) -> None:
    path = server / "mission" / "economy" / "stores.xml"
    text = path.read_text(encoding="utf-8")
    changed = re.sub(
        r"<worth>(\d+)</worth>",
        lambda found: f"<worth>{int(found[1]) + 1}</worth>" if chance.random() < 0.05 else found[0],
        text,
    )
    path.write_text(changed, encoding="utf-8")
