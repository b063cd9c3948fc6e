"""How right and how fast merging is, beside merging by line and beside reading the files with lxml.

    python benchmarks/merging.py [--cases N] [--rounds N] [--table]

The first table takes the corpus of the tests (tests/corpus.py), where the true merge of every case is known, through
Ember Keep, ``git merge-file`` and ``diff3 -m``: right (the very bytes), asked (a question or conflict regions), wrong.
In the last row a question is what is right. The second table times whole processes; --table leaves it out.
"""

from __future__ import annotations

import argparse
import random
import subprocess
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

from measuring import Measured, ember, run, verdict

sys.path.insert(0, str(Path(__file__).parent.parent))

from tests import corpus

from emberkeep.merging.merge import merge_file

RECORDS = 20_000


def ours(case: corpus.Case, room: Path) -> str:
    result = merge_file(case.path, case.old, case.mine, case.new)
    if result.open:
        return "asked"
    return "right" if (case.mine if result.data is None else result.data) == case.expected else "wrong"


def by_line(command: list[str]) -> object:
    def merged(case: corpus.Case, room: Path) -> str:
        for name in ("old", "mine", "new"):
            (room / name).write_bytes(getattr(case, name))
        done = subprocess.run(command, cwd=room, capture_output=True, check=False)
        if done.returncode:
            return "asked"
        return "right" if done.stdout == case.expected else "wrong"

    return merged


WAYS = {
    "Ember Keep": ours,
    "git merge-file": by_line(["git", "merge-file", "-p", "mine", "old", "new"]),
    "diff3 -m": by_line(["diff3", "-m", "mine", "old", "new"]),
}


def table(cases: int) -> None:
    print(f"| {cases} cases each in {len(corpus.FORMATS)} formats | {' | '.join(WAYS)} |")
    print("|---|" + "---|" * len(WAYS))
    with tempfile.TemporaryDirectory() as room:
        for kind in corpus.KINDS_OF_CASE:
            cells = []
            for way in WAYS.values():
                found: Counter[str] = Counter()
                for name in corpus.FORMATS:
                    found.update(way(corpus.case(kind, name, seed), Path(room)) for seed in range(cases))  # type: ignore[operator]
                cells.append(", ".join(f"{found[word]} {word}" for word in ("right", "asked", "wrong") if found[word]))
            print(f"| {kind} | {' | '.join(cells)} |", flush=True)


def large(records: int) -> tuple[str, str, str]:
    """Old, mine and new of a file of about 500 bytes a record, 2 % of the records changed on each side."""
    chance = random.Random("large")
    values = [[chance.randrange(1000) for _ in range(6)] for _ in range(records)]
    sides = [[list(row) for row in values] for _ in range(3)]
    for side in sides[1:]:
        for at in chance.sample(range(records), max(1, records // 50)):
            side[at][chance.randrange(6)] += 1000

    def text(rows: list[list[int]]) -> str:
        names = ("afloat", "least", "worth", "spoils", "weight", "chance")
        body = "".join(
            f'    <good id="good-{at}">\n        <!-- drifts in after a gale, as all the good things of the sea do: number {at} -->\n'
            + "".join(f"        <{name}>{value}</{name}>\n" for name, value in zip(names, row, strict=True))
            + f'        <found at="wreck"/>\n        <found at="tideline-{at % 97}"/>\n        <made of="rope" count="{at % 5}"/>\n    </good>\n'
            for at, row in enumerate(rows)
        )
        return f'<?xml version="1.0"?>\n<stores release="9">\n{body}</stores>\n'

    return text(sides[0]), text(sides[1]), text(sides[2])


LXML = "import sys\nfrom lxml import etree\nfor name in sys.argv[1:]: etree.parse(name)"


def speed(rounds: int) -> None:
    with tempfile.TemporaryDirectory() as folder:
        room = Path(folder)
        for label, records in (("10 MB", RECORDS), ("1 MB", RECORDS // 10)):
            for name, text in zip(("old", "mine", "new"), large(records), strict=True):
                (room / f"{name}.xml").write_text(text, encoding="utf-8")
            size = (room / "old.xml").stat().st_size
            merging, parsing, plain = Measured(), Measured(), Measured()
            words = [
                "merge",
                "--old-defaults",
                "old.xml",
                "--new-defaults",
                "new.xml",
                "--mine",
                "mine.xml",
                "--out",
                "out.xml",
                "--go",
            ]
            for _ in range(rounds):
                merging.add(*run(ember(*words), room))
                plain.add(*run(ember(*words, "--no-checks"), room))
                parsing.add(*run([sys.executable, "-c", LXML, "old.xml", "mine.xml", "new.xml"], room))
            print(f"merge of three files of {size / 1e6:.1f} MB, {records} records: {merging.seconds:.2f} s, without checks {plain.seconds:.2f} s; "
                  f"lxml reads the three in {parsing.seconds:.2f} s: {plain.seconds / parsing.seconds:.1f}x")  # fmt: skip
            if label == "10 MB":
                print(f"  aim 3x: {verdict(plain.seconds <= 3 * parsing.seconds)}; memory {merging.megabytes:.0f} MB, "
                      f"{merging.megabytes * 1e6 / (3 * size):.1f}x the input (aim 12x): {verdict(merging.megabytes * 1e6 <= 36 * size)}")  # fmt: skip
            else:
                print(f"  aim 1 s, whole process: {verdict(merging.seconds < 1)}")
        many(room, rounds)


HASH = "import sys, pathlib\nfrom blake3 import blake3\nfor path in pathlib.Path('.').glob('*/*.xml'): blake3(path.read_bytes()).digest()"


def many(room: Path, rounds: int) -> None:
    """200 files of 20 kB in folders, some of them changed."""
    texts = large(40)
    for side, text in zip(("a-old", "a-mine", "a-new"), texts, strict=True):
        (room / side).mkdir()
        for at in range(200):
            (room / side / f"f{at}.xml").write_text(text if at % 10 == 0 else texts[0], encoding="utf-8")
    merging, checked, hashing, start = Measured(), Measured(), Measured(), Measured()
    for _ in range(rounds):
        words = ["--old-defaults", "a-old", "--new-defaults", "a-new", "--mine", "a-mine", "--no-checks"]
        merging.add(*run(ember("merge", *words), room))
        checked.add(*run(ember("merge", *words[:-1]), room))
        hashing.add(*run([sys.executable, "-c", HASH], room))
        start.add(*run(ember("--version"), room))
    limit = 2 * hashing.seconds + start.seconds
    print(f"200 files of {len(texts[0]) / 1e3:.0f} kB, a tenth changed: {merging.seconds:.2f} s, with checks {checked.seconds:.2f} s; reading and hashing them {hashing.seconds:.2f} s, "
          f"start {start.seconds:.2f} s; aim {limit:.2f} s: {verdict(merging.seconds <= limit)}")  # fmt: skip


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--cases", type=int, default=50)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--table", action="store_true", help="only the table of right and wrong")
    args = parser.parse_args()
    started = time.perf_counter()
    table(args.cases)
    if not args.table:
        speed(args.rounds)
    print(f"({time.perf_counter() - started:.0f} s in all)")


if __name__ == "__main__":
    main()
