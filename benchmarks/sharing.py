"""What a store that many keeps share takes and costs, beside a store for each, measured in one run on this machine.

    python benchmarks/sharing.py [--keeps N] [--engine MB]

N servers of one game: the same engine (noise, as packed programs are), the same vendor files, the same map at first. Each has
played on since: 3 % of the sectors of all its tiles are rewritten, in 8 % of them, and every player's file is its own. Aim: the
shared store takes at most 1.3 times one keep and what differs, which is found without Ember Keep: the rewritten sectors and the
players' files of each server, compressed by zstd -3.

Snapshots are taken twice: into a store for each, then moved in; and anew, by keeps that share from the beginning. All keeps at
once by ``--all``, as whole processes; a writer to the shared store waits for the others.
"""

from __future__ import annotations

import argparse
import random
import shutil
import sys
import tempfile
from pathlib import Path

import zstandard
from measuring import ember, run, verdict

from emberkeep.demo import sample

SECTOR = sample.SECTOR


def built(place: Path, engine: int) -> Path:
    """The server that all began as, adopted: its keep."""
    sample.build(place, "town")
    server = place / sample.SERVER
    some = random.Random("engine")
    (server / "skerrylight-4.2.0.bin").write_bytes(some.randbytes(engine << 20))
    data = server / "keelson" / "data"
    data.mkdir(parents=True)
    for number in range(400):
        (data / f"shape-{number:03}.xml").write_bytes(some.randbytes(2_000) + b"<shape/>" * 500)
    run(ember("adopt", str(server)), place)
    return place / f"{sample.SERVER}.keep"


def played(server: Path, number: int) -> bytes:
    """Make a server its own; the bytes that no other has."""
    some = random.Random(f"server {number}")
    own = bytearray()
    tiles = sorted(server.rglob("*.sea"))
    sectors = sum(tile.stat().st_size // SECTOR for tile in tiles)
    chosen = some.sample(tiles, max(1, len(tiles) * 8 // 100))
    for tile in chosen:
        with tile.open("r+b") as handle:
            for _ in range(max(1, sectors * 3 // 100 // len(chosen))):
                handle.seek(some.randrange(tile.stat().st_size // SECTOR) * SECTOR)
                data = some.randbytes(SECTOR)
                handle.write(data)
                own += data
    for keeper in sorted((server / "outer-skerries").rglob("*.json")):
        text = keeper.read_text().rstrip().rstrip("}") + f', "session": "{some.getrandbits(2000):x}"}}\n'
        keeper.write_text(text)
        own += text.encode()
    return bytes(own)


def size(folder: Path) -> int:
    return sum(path.stat().st_size for path in folder.rglob("*") if path.is_file())


def main() -> None:
    parser = argparse.ArgumentParser(description="what a shared store takes")
    parser.add_argument("--keeps", type=int, default=60)
    parser.add_argument("--engine", type=int, default=30, metavar="MB")
    args = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="emberkeep-bench-") as room:
        place = Path(room)
        first = built(place, args.engine)
        differs = 0
        keeps = place / "keeps"
        keeps.mkdir()
        for number in range(args.keeps):
            name = f"s{number:03}"
            shutil.copytree(place / sample.SERVER, keeps / name, symlinks=True)
            shutil.copytree(first, keeps / f"{name}.keep")
            told = keeps / f"{name}.keep" / "keep.toml"
            told.write_text(told.read_text().replace(f'"../{sample.SERVER}"', f'"../{name}"'))
            differs += len(zstandard.ZstdCompressor(level=3).compress(played(keeps / name, number)))
        again = place / "again"
        shutil.copytree(keeps, again, symlinks=True)
        alone, memory = run(ember("snapshot", "--all", str(keeps)), place)
        each = [size(keep / "store") for keep in sorted(keeps.glob("*.keep"))]
        aim = 1.3 * (each[0] + differs)
        print(
            f"{args.keeps} servers of {size(keeps / 's000') / 1e6:.0f} MB; what differs, zstd -3: {differs / 1e6:.1f} MB"
        )
        print(
            f"a store for each     {sum(each) / 1e6:8.1f} MB, one {each[0] / 1e6:.1f}   snapshots {alone:.1f} s, {memory:.0f} MB of memory"
        )

        moved, memory = run(ember("store", "join", str(place / "moved"), "--all", str(keeps), "--go"), place)
        took = size(place / "moved")
        print(
            f"moved into one       {took / 1e6:8.1f} MB, aim {aim / 1e6:.1f}  {verdict(took <= aim)}   moving {moved:.1f} s, {memory:.0f} MB of memory"
        )
        same, _ = run(ember("snapshot", "--all", str(keeps)), place)
        checked, _ = run(ember("--keep", str(keeps / "s000.keep"), "verify"), place)
        thinned, _ = run(ember("--keep", str(keeps / "s000.keep"), "store"), place)
        print(f"  unchanged snapshots of all {same:.1f} s, verify of all {checked:.1f} s, 'store' {thinned:.1f} s")

        run(ember("store", "join", str(place / "shared"), "--all", str(again), "--go"), place)
        anew, memory = run(ember("snapshot", "--all", str(again)), place)
        took = size(place / "shared")
        print(
            f"shared from the first{took / 1e6:8.1f} MB, aim {aim / 1e6:.1f}  {verdict(took <= aim)}   snapshots {anew:.1f} s, {memory:.0f} MB of memory"
        )


if __name__ == "__main__":
    sys.exit(main())
