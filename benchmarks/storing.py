"""How fast and small the store is beside what admins use now, measured in one run on this machine.

    python benchmarks/storing.py [--place DIR] [--rounds N] [--weeks N] [--packed]

Builds the large sample in DIR (see corpora.py; 1.5 GB, and about ten times that in copies for three rounds, as nothing is deleted before
the end: some file systems are slow to make files for a minute after many were, which whoever comes first would pay for), then times whole
processes, each the best of N rounds taken in turns with its yardstick, with the page cache warm and everything written back before each. ``cp -a``,
``tar | zstd -3 -T2``, ``rsync`` and ``diff -rq`` must be installed. --weeks 0 leaves the year out, which takes some minutes.
"""

from __future__ import annotations

import argparse
import os
import random
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import corpora
from measuring import Measured, ember, run, verdict

from emberkeep.demo import sample

TAR = f"tar -cf - {sample.SERVER} | zstd -3 -T2 -q -f -o %s"


class Bench:
    """The sample, its keep, and what was measured so far."""

    def __init__(self, place: Path, rounds: int, *, packed: bool = False) -> None:
        self.place, self.rounds, self.packed = place, rounds, packed
        self.peak = 0.0
        self.server = place / sample.SERVER
        self.keep = place / f"{sample.SERVER}.keep"
        self.archive = place / "yardstick.tar.zst"
        self.copy = place / "copy"
        self.lines: list[tuple[str, str, str, str]] = []
        self.spent = place / "spent"
        self.spent.mkdir()

    def ember(self, *words: str) -> tuple[float, float]:
        found = timed(ember("--keep", str(self.keep), *words), self.place)
        self.peak = max(self.peak, found[1])
        return found

    def shell(self, command: str) -> tuple[float, float]:
        return timed(["sh", "-c", command], self.place)

    def best(self, *acts: Callable[[], tuple[float, float]], before: Callable[[], None] = lambda: None) -> list[float]:
        """The shortest time of each act, all of them done in turns; ``before`` each round."""
        found = [Measured() for _ in acts]
        for _ in range(self.rounds):
            before()
            for measured, act in zip(found, acts, strict=True):
                measured.add(*act())
        return [measured.seconds for measured in found]

    def aside(self, *places: Path) -> None:
        """Out of the way with what was made, to be deleted in the end."""
        for path in places:
            if path.exists():
                path.rename(self.spent / str(len(list(self.spent.iterdir()))))

    def warm(self) -> None:
        """What was read long ago may have left the page cache, and what was just written not."""
        self.shell(f"cat {self.keep}/store/packs/* {self.archive} > /dev/null")

    def tell(self, what: str, figure: str, aim: str, met: bool | None) -> None:
        word = "" if met is None else verdict(met)
        self.lines.append((what, figure, aim, word))
        print(f"{what:46} {figure:44} {aim:34} {word}", flush=True)


def timed(command: list[str], cwd: Path) -> tuple[float, float]:
    os.sync()
    return run(command, cwd)


def store_size(keep: Path) -> int:
    return sum(path.stat().st_size for path in (keep / "store").rglob("*") if path.is_file())


def first_snapshot(bench: Bench) -> float:
    def fresh() -> None:
        bench.aside(bench.keep / "store")

    snapshot, tar = bench.best(lambda: bench.ember("snapshot"), lambda: bench.shell(TAR % bench.archive), before=fresh)
    copied, _ = bench.shell(f"cp -a {bench.server} {bench.copy}")
    synced, _ = bench.shell(f"rsync -a {bench.server}/ {bench.place}/synced/")
    size, packed = store_size(bench.keep), bench.archive.stat().st_size
    bench.tell(
        "first snapshot",
        f"{snapshot:.2f} s; tar|zstd {tar:.2f} s; {snapshot / tar:.2f}x",
        "1.0x tar|zstd",
        snapshot <= tar,
    )
    bench.tell("  cp -a, rsync -a (once each)", f"{copied:.2f} s, {synced:.2f} s", "", None)
    bench.tell(
        "  size of the store",
        f"{size / 1e6:.1f} MB; tar.zst {packed / 1e6:.1f} MB",
        "no larger than tar.zst",
        size <= packed,
    )
    return snapshot


def unchanged(bench: Bench) -> None:
    time.sleep(3)
    bench.ember("snapshot")  # what was written less than two seconds before the last one is read once more
    again, synced = bench.best(
        lambda: bench.ember("snapshot"), lambda: bench.shell(f"rsync -an {bench.server}/ {bench.copy}/")
    )
    compared = bench.shell(f"diff -rq --no-dereference {bench.server} {bench.copy}")[0]
    figure = f"{again:.2f} s; rsync -an {synced:.2f} s; {again / synced:.2f}x"
    bench.tell("snapshot of an unchanged tree", figure, "1.5x rsync -an", again <= 1.5 * synced)
    bench.tell("  diff -rq", f"{compared:.2f} s", "", None)


def after_change(bench: Bench, first: float, size: int) -> None:
    cases = (
        ("after 3 % of sectors (where people were)", corpora.rewrite_where_people_were, True),
        ("after 3 % of sectors (one by one, everywhere)", corpora.rewrite_everywhere, False),
    )
    for name, rewrite, counts in cases:
        best, added, written, others = 1e9, 0, 0, 1e9
        for number in range(bench.rounds):
            begun = time.time_ns()
            chance = random.Random(f"{name} {number}")
            written = rewrite(corpora.tiles(bench.server), chance, packed=bench.packed)
            time.sleep(3)
            before = store_size(bench.keep)
            best = min(best, bench.ember("snapshot")[0])
            added = store_size(bench.keep) - before
            if counts:
                others = min(others, least(bench, begun))
        figure = f"{best:.2f} s, {best / first:.0%}; {added / 1e6:.1f} MB, {added / size:.1%} (written {written / 1e6:.0f} MB)"
        met = best < first / 10 and added < size / 10
        bench.tell(f"snapshot {name}", figure, "under 10 % of the first" if counts else "", met if counts else None)
        if counts:
            bench.tell("  rsync -an, and tar|zstd of what changed", f"{others:.2f} s, {others / first:.0%}", "", None)


def least(bench: Bench, since: int) -> float:
    """Seconds that common tools take to look for what changed, and to compress just these files whole."""
    changed = [path for path in corpora.tiles(bench.server) if path.stat().st_mtime_ns >= since]
    names = bench.place / "changed.txt"
    names.write_text("".join(f"{path.relative_to(bench.place)}\n" for path in changed))
    looked = bench.shell(f"rsync -an {bench.server}/ {bench.copy}/")[0]
    return looked + bench.shell(f"tar -cf - -T {names} | zstd -3 -T2 -q -f -o {bench.place}/changed.tar.zst")[0]


def restoring(bench: Bench) -> None:
    target, other = bench.place / "restored", bench.place / "untarred"

    def clear() -> None:
        bench.aside(target, other)
        other.mkdir()
        bench.warm()

    bench.shell(TAR % bench.archive)
    full, tar = bench.best(
        lambda: bench.ember("restore", "latest", "--into", str(target)),
        lambda: bench.shell(f"tar -I zstd -xf {bench.archive} -C {other}"),
        before=clear,
    )
    clear()
    figure = f"{full:.2f} s; tar -x {tar:.2f} s; {full / tar:.2f}x"
    bench.tell("full restore into an empty folder", figure, "1.3x tar -I zstd -x", full <= 1.3 * tar)
    best = 1e9
    for number in range(bench.rounds):
        damage(bench.server, random.Random(number))
        time.sleep(3)
        best = min(best, bench.ember("restore", "latest", "--go")[0])
    figure = f"{best:.2f} s; {best / full:.0%} of the full restore"
    bench.tell("restore in place after 1 % damage", figure, "under 10 % of a full restore", best < full / 10)


def damage(server: Path, chance: random.Random) -> None:
    """One file in a hundred is gone or holds something else."""
    paths = sorted(path for path in server.rglob("*") if path.is_file() and not path.is_symlink())
    for path in chance.sample(paths, len(paths) // 100):
        if chance.random() < 0.5:
            path.unlink()
        else:
            path.write_bytes(b"griefed")


def verifying(bench: Bench) -> None:
    checked, tested = bench.best(
        lambda: bench.ember("verify"), lambda: bench.shell(f"zstd -t -q {bench.archive}"), before=bench.warm
    )
    size, packed = store_size(bench.keep), bench.archive.stat().st_size
    ours, theirs = size / checked / 1e6, packed / tested / 1e6
    figure = f"{ours:.0f} MB/s; zstd -t {theirs:.0f} MB/s; {ours / theirs:.2f}x"
    bench.tell("verify", figure, "at least 0.5x zstd -t", ours >= theirs / 2)


def year(bench: Bench, weeks: int) -> None:
    bench.aside(bench.keep / "store")
    packed = 0
    slowest = 0.0
    for number in range(weeks):
        if number:
            corpora.week(bench.server, number)
            time.sleep(2.1)
        seconds = bench.ember("snapshot", "--note", f"week {number}")[0]
        slowest = max(slowest, seconds if number else 0)
        command = f"tar -cf - {sample.SERVER} | zstd -3 -T2 -q | wc -c"
        packed += int(subprocess.run(["sh", "-c", command], cwd=bench.place, capture_output=True, check=True).stdout)
    size = store_size(bench.keep)
    figure = f"{size / 1e9:.2f} GB; {weeks} tar.zst {packed / 1e9:.2f} GB; 1/{packed / size:.1f}"
    bench.tell(f"a year of {weeks} states", figure, "under 1/8 of separate tar.zst", size * 8 < packed)
    bench.tell("  slowest of the later snapshots", f"{slowest:.2f} s", "", None)
    seconds, _ = bench.ember("verify")
    bench.tell("  verify of the year", f"{seconds:.2f} s, {size / seconds / 1e6:.0f} MB/s", "", None)
    settings = bench.keep / "keep.toml"
    settings.write_text(
        settings.read_text(encoding="utf-8").replace('"2 days" = "all"', '"2 days" = "one a year"'), "utf-8"
    )
    seconds, _ = bench.ember("thin", "--go")
    left = store_size(bench.keep)
    bench.tell("  thin to the newest", f"{seconds:.2f} s; {size / 1e6:.0f} MB to {left / 1e6:.0f} MB", "", None)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--place", type=Path, help="where to work (default: a temporary folder)")
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--weeks", type=int, default=52)
    parser.add_argument("--packed", action="store_true", help="of tiles in which nothing shrinks; without the year")
    args = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="emberkeep-bench-", dir=args.place) as room:
        bench = Bench(Path(room), args.rounds, packed=args.packed)
        (corpora.build_packed if args.packed else corpora.build)(bench.place)
        run([*ember("adopt", sample.SERVER)], bench.place)
        print(f"Python {sys.version.split()[0]}, {os.cpu_count()} cores", flush=True)
        first = first_snapshot(bench)
        size = store_size(bench.keep)
        unchanged(bench)
        after_change(bench, first, size)
        restoring(bench)
        verifying(bench)
        if args.weeks and not args.packed:
            year(bench, args.weeks)
        bench.tell("memory, the most of any command", f"{bench.peak:.0f} MB", "300 MB", bench.peak <= 300)


if __name__ == "__main__":
    main()
