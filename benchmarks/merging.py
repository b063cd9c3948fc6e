"""How right and how fast merging is, beside merging by line and beside reading the files with lxml.

    python benchmarks/merging.py [--cases N] [--rounds N] [--table]

The first table takes the corpus of the tests (tests/corpus.py), where the true merge of every case is known, through
Ember Keep, ``git merge-file`` and ``diff3 -m``: right (the very bytes), asked (a question or conflict regions), wrong.
In the last row a question is what is right. The second table times whole processes; --table leaves it out.
"""

from __future__ import annotations

import argparse
import json
import random
import subprocess
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Callable
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


NAMES = ("afloat", "least", "worth", "spoils", "weight", "chance")


def numbers(records: int) -> list[list[list[int]]]:
    """Six numbers a record on three sides, 2 % of the records changed on the second and on the third."""
    chance = random.Random("large")
    values = [[chance.randrange(1000) for _ in range(6)] for _ in range(records)]
    sides = [[list(row) for row in values] for _ in range(3)]
    for side in sides[1:]:
        for at in chance.sample(range(records), max(1, records // 50)):
            side[at][chance.randrange(6)] += 1000
    return sides


def large(records: int) -> tuple[str, str, str]:
    """Old, mine and new of a file of about 500 bytes a record."""
    sides = numbers(records)

    def text(rows: list[list[int]]) -> str:
        body = "".join(
            f'    <good id="good-{at}">\n        <!-- drifts in after a gale, as all the good things of the sea do, and is fetched by whoever is first at the tideline with a lantern, a rope and the nerve to go: number {at} -->\n'
            + "".join(f"        <{name}>{value}</{name}>\n" for name, value in zip(NAMES, row, strict=True))
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
        others(room, rounds)
        many(room, rounds)


def as_json(rows: list[list[int]]) -> str:
    goods = [
        {"id": f"good-{at}", **dict(zip(NAMES, row, strict=True)), "found": ["wreck", f"tideline-{at % 97}"], "made": {"of": "rope", "count": at % 5}}
        for at, row in enumerate(rows)
    ]  # fmt: skip
    return json.dumps({"release": 9, "goods": goods}, indent=2) + "\n"


def as_yaml(rows: list[list[int]]) -> str:
    def record(at: int, row: list[int]) -> str:
        values = "".join(f"    {name}: {value}\n" for name, value in zip(NAMES, row, strict=True))
        return f"  - id: good-{at}\n{values}    found: [wreck, tideline-{at % 97}]\n    made:\n      of: rope\n      count: {at % 5}\n"

    return "release: 9\ngoods:\n" + "".join(record(at, row) for at, row in enumerate(rows))


def in_sections(header: str) -> Callable[[list[list[int]]], str]:
    def text(rows: list[list[int]]) -> str:
        values = ("".join(f"{name} = {value}\n" for name, value in zip(NAMES, row, strict=True)) for row in rows)
        return "\n".join(f"[{header}good-{at}]\n{lines}" for at, lines in enumerate(values))

    return text


OTHERS = {"json": as_json, "yaml": as_yaml, "toml": in_sections("goods."), "ini": in_sections("")}


def others(room: Path, rounds: int) -> None:
    """As many records as 0.8 MB of XML hold, in the other formats."""
    for ending, text in OTHERS.items():
        for name, rows in zip(("old", "mine", "new"), numbers(RECORDS // 10), strict=True):
            (room / f"{name}.{ending}").write_text(text(rows), encoding="utf-8")
        words = ["--old-defaults", f"old.{ending}", "--new-defaults", f"new.{ending}", "--mine", f"mine.{ending}"]
        merging, plain = Measured(), Measured()
        for _ in range(rounds):
            merging.add(*run(ember("merge", *words), room))
            plain.add(*run(ember("merge", *words, "--no-checks"), room))
        size = (room / f"old.{ending}").stat().st_size
        print(f"the same records as {ending}, {size / 1e6:.1f} MB: {merging.seconds:.2f} s, without checks {plain.seconds:.2f} s", flush=True)  # fmt: skip


HASH = "import sys, pathlib\nfrom blake3 import blake3\nfor path in pathlib.Path('.').glob('*/*.xml'): blake3(path.read_bytes()).digest()"


def many(room: Path, rounds: int) -> None:
    """200 files of 20 kB in folders, some of them changed on both sides. The start is that of a merge of three files of
    one record, which loads and tells all that any merge does."""
    texts = large(50)
    for side, text in zip(("one-old.xml", "one-mine.xml", "one-new.xml"), large(1), strict=True):
        (room / side).write_text(text, encoding="utf-8")
    for label, every in (("a tenth", 10), ("2 %", 50)):
        for side, text in zip(("a-old", "a-mine", "a-new"), texts, strict=True):
            (room / side).mkdir(exist_ok=True)
            for at in range(200):
                (room / side / f"f{at}.xml").write_text(text if at % every == 0 else texts[0], encoding="utf-8")
        merging, checked, hashing, start, version = (Measured() for _ in range(5))
        for _ in range(rounds):
            words = ["--old-defaults", "a-old", "--new-defaults", "a-new", "--mine", "a-mine", "--no-checks"]
            merging.add(*run(ember("merge", *words), room))
            checked.add(*run(ember("merge", *words[:-1]), room))
            hashing.add(*run([sys.executable, "-c", HASH], room))
            ones = [word.replace("a-", "one-") + ".xml" if word.startswith("a-") else word for word in words]
            start.add(*run(ember("merge", *ones), room))
            version.add(*run(ember("--version"), room))
        limit = 2 * hashing.seconds + start.seconds
        print(f"200 files of {len(texts[0]) / 1e3:.0f} kB, {label} changed: {merging.seconds:.2f} s, with checks {checked.seconds:.2f} s; reading and hashing them {hashing.seconds:.2f} s, "
              f"start {start.seconds:.2f} s ('--version' {version.seconds:.2f} s); aim {limit:.2f} s: {verdict(merging.seconds <= limit)}", flush=True)  # fmt: skip


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
