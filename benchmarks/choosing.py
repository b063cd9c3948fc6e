"""The measurements behind the store's choices: sizes of blocks, levels of zstd, bundling, how an earlier version is found again.

    python benchmarks/choosing.py

Takes a tenth of the large sample's tiles, its 20 000 players, a log and two weekly dumps through the store's own code, once with
each setting, and prints seconds and megabytes. One process, one run; the machine's noise is in the times, not in the sizes.
"""

from __future__ import annotations

import random
import shutil
import tempfile
import time
from collections.abc import Iterator
from contextlib import closing, contextmanager
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import corpora
import zstandard

from emberkeep.demo import sample
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.store import intake, packs, pieces, reuse, writer
from emberkeep.store.manifest import About
from emberkeep.store.store import Store

TILES = 140


@contextmanager
def setting(module: Any, **values: Any) -> Iterator[None]:
    before = {name: getattr(module, name) for name in values}
    for name, value in values.items():
        setattr(module, name, value)
    try:
        yield
    finally:
        for name, value in before.items():
            setattr(module, name, value)


def taken(store: Path, server: Path) -> tuple[float, float]:
    """Seconds and megabytes of one more snapshot."""
    started = time.perf_counter()
    with closing(Store(store)) as opened:
        before = opened.size() if store.exists() else 0
        live = FolderTree(server)
        moment = datetime.now(UTC) + timedelta(hours=1)
        writer.add(opened, live, About("", moment, "asked"), live=live)
        return time.perf_counter() - started, (opened.size() - before) / 1e6


def tell(what: str, *figures: tuple[float, float]) -> None:
    print(f"{what:58}" + "".join(f"{seconds:8.2f} s {size:8.2f} MB" for seconds, size in figures), flush=True)


def both(room: Path, what: str) -> None:
    """The first snapshot, and one after 3 % of the sectors, a fifth of the players and a dump's rows changed."""
    server = room / "server"
    shutil.rmtree(server, ignore_errors=True)
    shutil.copytree(room / "start", server)
    store = room / "store"
    shutil.rmtree(store, ignore_errors=True)
    first = taken(store, server)
    corpora.rewrite_everywhere(corpora.tiles(server), random.Random(1))
    corpora.players(server, random.Random(1))
    corpora.dump(server, 1)
    tell(what, first, taken(store, server))


def prepare(room: Path) -> None:
    start = room / "start"
    (start / sample.WORLD).mkdir(parents=True)
    sample._tiles(start / sample.WORLD / "chart", 12, 256, "choosing")
    built = room / "built"
    sample.build(built, "town")
    keepers = start / sample.WORLD / "keepers"
    keepers.mkdir()
    facts = sorted((built / sample.SERVER / sample.WORLD / "keepers").iterdir())
    chance = random.Random(2)
    for number in range(20_000):
        text = facts[number % len(facts)].read_text(encoding="utf-8")
        text = text.replace('"warmth": ', f'"warmth": {chance.randrange(10_000)}')
        (keepers / f"{chance.getrandbits(128):032x}.json").write_text(text, encoding="utf-8")
    (start / "dumps").mkdir()
    corpora.dump(start, 0)
    (start / "log.txt").write_bytes(b"".join(corpora.log_lines(0, 4_000_000)))


def dictionary(room: Path) -> None:
    """Small files each for itself, with a trained dictionary, and bundled."""
    files = [path.read_bytes() for path in sorted((room / "start" / sample.WORLD / "keepers").iterdir())]
    total = sum(map(len, files)) / 1e6
    plain = zstandard.ZstdCompressor(level=3)
    trained = zstandard.ZstdCompressor(level=3, dict_data=zstandard.train_dictionary(64 << 10, files[::10]))
    for what, compressor in (("each alone", plain), ("each with a shared dictionary", trained)):
        started = time.perf_counter()
        size = sum(len(compressor.compress(data)) for data in files) / 1e6
        tell(f"  20 000 players ({total:.1f} MB), {what}", (time.perf_counter() - started, size))
    whole = b"".join(files)
    for bundle in (64 << 10, 256 << 10, 1 << 20):
        for level in (3, 9):
            compressor = zstandard.ZstdCompressor(level=level)
            started = time.perf_counter()
            size = sum(len(compressor.compress(whole[at : at + bundle])) for at in range(0, len(whole), bundle)) / 1e6
            tell(f"  bundled by {bundle >> 10} KiB, level {level}", (time.perf_counter() - started, size))


def main() -> None:
    with tempfile.TemporaryDirectory(prefix="emberkeep-choosing-") as place:
        room = Path(place)
        prepare(room)
        print(f"{'':58}{'first snapshot':>22}{'after the changes':>22}")
        for block in (64 << 10, 256 << 10, 1 << 20):
            with setting(pieces, BLOCK=block), setting(intake, BLOCK=block):
                both(room, f"blocks of {block >> 10} KiB")
        for level in (1, 3, 6):
            with setting(packs, LEVEL=level):
                both(room, f"zstd level {level}")
        with setting(reuse, SECTOR=1 << 16):
            both(room, "earlier versions compared by 64 KiB instead of 4 KiB")
        with setting(reuse, by_content=lambda *args: []):
            both(room, "no cuts by content")
        with setting(intake.Intake, _kin_of=lambda self, path: ""):
            both(room, "a dated dump is not compared with the last one")
        dictionary(room)


if __name__ == "__main__":
    main()
