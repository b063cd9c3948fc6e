"""How right and how fast merging is, beside merging by line and beside reading the files with lxml.

    python benchmarks/merging.py [--cases N] [--rounds N] [--only table|speed|trees|large]

The first table takes the corpus of the tests (tests/corpus.py), where the true merge of every case is known, through
Ember Keep, ``git merge-file`` and ``diff3 -m``: right (the very bytes), asked (a question or conflict regions), wrong.
In the last row a question is what is right. The others time whole processes: files of several sizes and formats, whole
trees of files, and what is large.
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


def speed(room: Path, rounds: int) -> None:
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


# --- whole trees ----------------------------------------------------------------

PARSE = """
import sys, pathlib, json
from blake3 import blake3
from lxml import etree
import yaml
old, mine, new = (pathlib.Path(name) for name in sys.argv[1:])
for path in sorted(new.rglob("*.*")):
    inside = path.relative_to(new)
    sides = [side / inside for side in (old, mine, new)]
    datas = [side.read_bytes() for side in sides]
    if len({blake3(data).digest() for data in datas}) == 1:
        continue
    for data in datas:
        if path.suffix == ".xml": etree.fromstring(data)
        elif path.suffix == ".json": json.loads(data)
        else:
            for event in yaml.parse(data, Loader=yaml.CSafeLoader): pass
"""


def trees(room: Path, rounds: int) -> None:
    """Files of 4 to 40 kB, 200 edited by the admin and half as many of the vendor's: a real tree on update day."""
    for count, vendors in ((2000, 400), (5000, 1000)):
        chance = random.Random(count)
        ours, theirs = (set(chance.sample(range(count), many)) for many in (200, vendors))
        names = [f"t-{count}-{side}" for side in ("old", "mine", "new")]
        for at in range(count):
            ending = ("xml", "json", "yaml")[at % 3]
            sides = numbers(chance.choice((8, 16, 40, 72)) * (1 if ending == "xml" else 3))
            texts = [_as(ending, rows) for rows in sides]
            for name, text, changed in zip(names, texts, (True, at in ours, at in theirs), strict=True):
                path = room / name / f"part-{at % 40}" / f"f{at}.{ending}"
                path.parent.mkdir(parents=True, exist_ok=True)
                path.write_text(text if changed else texts[0], encoding="utf-8")
        words = ["merge", "--old-defaults", names[0], "--mine", names[1], "--new-defaults", names[2]]
        plain, checked, parsing, start = (Measured() for _ in range(4))
        for _ in range(rounds):
            plain.add(*run(ember(*words, "--no-checks"), room))
            checked.add(*run(ember(*words), room))
            parsing.add(*run([sys.executable, "-c", PARSE, *names], room))
            start.add(*run(ember("--version"), room))
        limit = 3 * parsing.seconds + start.seconds
        met = checked.seconds <= limit and checked.megabytes < 300
        print(f"{count} files, 200 edited, {vendors} of the vendor's: {plain.seconds:.2f} s, {plain.megabytes:.0f} MB; with checks {checked.seconds:.2f} s, "
              f"{checked.megabytes:.0f} MB ({checked.seconds / plain.seconds:.1f}x; aim 2x); reading, hashing and parsing the changed {parsing.seconds:.2f} s; "
              f"aim {limit:.2f} s and 300 MB: {verdict(met)}", flush=True)  # fmt: skip


def _as(ending: str, rows: list[list[int]]) -> str:
    if ending == "xml":
        goods = (
            f'  <good id="good-{at}">\n' + "".join(f"    <{name}>{value}</{name}>\n" for name, value in zip(NAMES, row, strict=True)) + "  </good>\n"
            for at, row in enumerate(rows)
        )  # fmt: skip
        return f"<stores>\n{''.join(goods)}</stores>\n"
    return OTHERS[ending](rows)


# --- what is large --------------------------------------------------------------

EVENTS = "import sys, yaml\nfor name in sys.argv[1:]:\n    for event in yaml.parse(open(name), Loader=yaml.CSafeLoader): pass"


def very_large(room: Path, rounds: int) -> None:
    names = ("old", "mine", "new")
    for name, rows in zip(names, numbers(7_000), strict=True):
        (room / f"{name}.yaml").write_text(as_yaml(rows), encoding="utf-8")
    size = (room / "old.yaml").stat().st_size
    merging, events = Measured(), Measured()
    words = ["merge", *(word for name, option in zip(names, ("--old-defaults", "--mine", "--new-defaults"), strict=True) for word in (option, f"{name}.yaml"))]  # fmt: skip
    for _ in range(rounds):
        merging.add(*run(ember(*words, "--no-checks"), room))
        events.add(*run([sys.executable, "-c", EVENTS, *(f"{name}.yaml" for name in names)], room))
    print(f"YAML of {size / 1e6:.1f} MB, without checks: {merging.seconds:.2f} s; the C parser's events of the three {events.seconds:.2f} s: "
          f"{merging.seconds / events.seconds:.1f}x (aim 3x): {verdict(merging.seconds <= 3 * events.seconds)}", flush=True)  # fmt: skip
    times = {}
    for records in (50_000, 200_000):
        for name, rows in zip(names, numbers(records), strict=True):
            (room / f"{name}.xml").write_text(_as("xml", rows), encoding="utf-8")
        one = Measured()
        one.add(*run(ember(*(word.replace(".yaml", ".xml") for word in words), "--no-checks"), room))
        times[records] = one
        size = (room / "old.xml").stat().st_size
        print(f"{records} records, {size / 1e6:.1f} MB: {one.seconds:.1f} s, {one.megabytes:.0f} MB", flush=True)
    growth = times[200_000].seconds / times[50_000].seconds
    print(f"  four times as many take {growth:.1f} times as long (aim: linear): {verdict(growth < 5)}", flush=True)
    proposing(room, rounds)


def proposing(room: Path, rounds: int) -> None:
    """``orders propose`` on 20 000 values that one idea doubled."""
    rows = numbers(20_000)[0]
    server, release = room / "server", room / "release"
    for folder, factor in ((server, 2), (release, 1)):
        (folder / "mission").mkdir(parents=True)
        text = _as("xml", [[row[0] * factor, *row[1:]] for row in rows])
        (folder / "mission" / "stores.xml").write_text(text, encoding="utf-8")
    keep = ("--keep", str(room / "server.keep"))
    subprocess.run(ember("adopt", "server"), cwd=room, check=True, capture_output=True)
    subprocess.run(ember(*keep, "defaults", "record", "1", "release"), cwd=room, check=True, capture_output=True)
    proposed = Measured()
    for _ in range(rounds):
        proposed.add(*run(ember(*keep, "orders", "propose"), room))
    print(f"'orders propose' on 20 000 edits: {proposed.seconds:.2f} s (aim 3 s): {verdict(proposed.seconds < 3)}", flush=True)  # fmt: skip


PARTS = {"speed": speed, "trees": trees, "large": very_large}


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--cases", type=int, default=50)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--only", choices=("table", *PARTS), help="one part of it")
    args = parser.parse_args()
    started = time.perf_counter()
    if args.only in (None, "table"):
        table(args.cases)
    for name, part in PARTS.items():
        if args.only in (None, name):
            with tempfile.TemporaryDirectory() as room:
                part(Path(room), args.rounds)
    print(f"({time.perf_counter() - started:.0f} s in all)")


if __name__ == "__main__":
    main()
