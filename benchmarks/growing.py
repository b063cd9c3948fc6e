"""What a server of more and more small files takes, measured in one run on this machine.

    python benchmarks/growing.py [--million]

Servers of 2 000, 20 000 and 200 000 files of about 300 bytes each (and of 1 000 000), 1 000 in a folder. Whole processes, one
after the other: seconds, and MB of memory at the most. Aims: 200 MB for 200 000 files, 500 MB for a million, and ten times the
files take no more than ten times as long (the time of the smallest, which is nearly all start-up, is left out of that).
"""

from __future__ import annotations

import argparse
import random
import sys
import tempfile
import time
from itertools import pairwise
from pathlib import Path

from measuring import ember, run, verdict

STEPS = {
    "first snapshot": ("snapshot",),
    "unchanged": ("snapshot",),
    "1 % changed": ("snapshot",),
    "survey": ("survey",),
    "diff 1 3": ("diff", "1", "3"),
    "diff latest live": ("diff", "latest", "live"),
    "restore in place": ("restore", "1", "--go"),
    "verify": ("verify",),
    "thin": ("thin", "--go"),
}
AIMS = {200_000: 200.0, 1_000_000: 500.0}


def built(place: Path, files: int) -> Path:
    """A server of so many files, with its keep; the keep."""
    some = random.Random(files)
    for number in range(files):
        folder = place / "server" / "keepers" / f"{number // 1000:04}"
        if number % 1000 == 0:
            folder.mkdir(parents=True)
        text = f'{{"keeper": {number}, "bag": {[some.randrange(900) for _ in range(50)]}}}\n'
        (folder / f"{number:07}.json").write_text(text)
    keep = place / "server.keep"
    keep.mkdir(mode=0o700)
    (keep / "keep.toml").write_text(
        'format = 1\n[server]\nname = "many"\nfolder = "../server"\n[ladder]\n"2 days" = "all"\n'
    )
    return keep


def changed(place: Path, files: int) -> None:
    """One in a hundred written to."""
    for number in random.Random(1).sample(range(files), files // 100):
        path = place / "server" / "keepers" / f"{number // 1000:04}" / f"{number:07}.json"
        path.write_text(path.read_text().replace('"keeper"', '"again"'))


def grown(files: int) -> dict[str, tuple[float, float]]:
    """Seconds and megabytes by step."""
    with tempfile.TemporaryDirectory(prefix="emberkeep-bench-") as room:
        keep = built(Path(room), files)
        time.sleep(3)  # what was written in the last two seconds is not trusted the next time
        found = {}
        for name, words in STEPS.items():
            if name == "1 % changed":
                changed(Path(room), files)
                time.sleep(3)
            found[name] = run(ember("--keep", str(keep), *words), Path(room))
        return found


def main() -> None:
    parser = argparse.ArgumentParser(description="what more and more files take")
    parser.add_argument("--million", action="store_true", help="also a million files")
    args = parser.parse_args()
    sizes = [2_000, 20_000, 200_000, *([1_000_000] if args.million else [])]
    table = {files: grown(files) for files in sizes}
    print(f"{'':18}" + "".join(f"{files:>24,}" for files in sizes))
    for name in STEPS:
        cells = []
        for files in sizes:
            seconds, megabytes = table[files][name]
            aim = AIMS.get(files)
            cells.append(f"{seconds:7.2f} s {megabytes:5.0f} MB {verdict(megabytes <= aim) if aim else '':6}")
        print(f"{name:18}" + "".join(f"{cell:>24}" for cell in cells))
    for less, more in pairwise(sizes[1:]):
        slow = [name for name in STEPS if table[more][name][0] > table[less][name][0] * more / less]
        print(
            f"{less:,} to {more:,}: {'in step with the files' if not slow else 'more than in step: ' + ', '.join(slow)}"
        )


if __name__ == "__main__":
    sys.exit(main())
