"""How long the preview of a wipe, with its audit, takes beside reading the files that it concerns once.

    python benchmarks/wiping.py [--sample DIR] [--rounds N]

The large sample (20 000 players, 1.5 GB of tiles) is wiped of its map, players, progress and extension data. Concerned
are all files that are cleared or looked through; they are read once by ``cat`` where there is one, as whole processes, in
turns with ``emberkeep wipe``. Aim: 4 times. Stricter, the same without the tiles, of which only the names tell
anything; and ``players`` alone with ``--deep``, which looks through every tile. No aims for these.
"""

from __future__ import annotations

import argparse
import shutil
import sys
import tempfile
from pathlib import Path

from measuring import Measured, ember, run, verdict

from emberkeep.demo import sample
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import FILE
from emberkeep.inventory.roles import Roles
from emberkeep.inventory.tiles import TileNames
from emberkeep.keep.keep import Keep
from emberkeep.wiping.leftovers import NOT_LOOKED_AT

READ = "import sys\nfor p in open(sys.argv[1], 'rb').read().split(b'\\0'):\n  if p: open(p, 'rb').read()"
AIM = 4.0


def concerned(keep: Keep, *, tiles: bool) -> list[str]:
    """The files that a preview has to look into."""
    roles = Roles(keep.config.roles)
    names = TileNames(keep.config.world.tiles)
    return [
        path
        for path, entry in FolderTree(keep.server).entries().items()
        if entry.kind is FILE and roles.of(path) not in NOT_LOOKED_AT and (tiles or names.place(path) is None)
    ]


def reading(keep: Keep, paths: list[str]) -> list[str]:
    """The command that reads them once."""
    told = keep.folder / "concerned"
    told.write_bytes(b"\0".join(path.encode() for path in paths))
    cat = shutil.which("cat") and shutil.which("xargs") and shutil.which("sh")
    if cat:
        return ["sh", "-c", f"xargs -0 cat < '{told}' > /dev/null"]
    return [sys.executable, "-c", READ, str(told)]


def compare(keep: Keep, rounds: int, tiles: bool, aimed: bool, *words: str) -> None:
    paths = concerned(keep, tiles=tiles)
    size = sum((keep.server / path).stat().st_size for path in paths) / 1e6
    read, looked = Measured(), Measured()
    for _ in range(rounds):
        read.add(*run(reading(keep, paths), keep.server))
        looked.add(*run(ember("--keep", str(keep.folder), "wipe", *words), keep.server))
    ratio = looked.seconds / read.seconds
    aim = f"aim {AIM:g} times {verdict(ratio <= AIM)}" if aimed else "no aim"
    print(f"wipe {' '.join(words)}: {looked.seconds:.2f} s, {looked.megabytes:.0f} MB; reading {len(paths)} files "
          f"({size:.0f} MB) once {read.seconds:.2f} s: {ratio:.1f} times, {aim}")  # fmt: skip


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--sample", type=Path, help="where the large sample is built, or stands already")
    parser.add_argument("--rounds", type=int, default=5)
    args = parser.parse_args()
    with tempfile.TemporaryDirectory() as room:
        place = args.sample or Path(room)
        if not (place / sample.SERVER).is_dir():
            sample.build(place, "large")
        folder = place / f"{sample.SERVER}.keep"
        shutil.rmtree(folder, ignore_errors=True)
        run(ember("adopt", sample.SERVER), place)
        keep = Keep(folder)
        scopes = ("map", "players", "progress", "extension-data")
        compare(keep, args.rounds, True, True, *scopes)
        compare(keep, args.rounds, False, False, *scopes)
        compare(keep, 1, True, False, "players", "extension-data", "--deep")


if __name__ == "__main__":
    main()
