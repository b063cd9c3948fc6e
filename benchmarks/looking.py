"""How long adopt, survey and diff take beside plain yardsticks, measured in one run on this machine.

    python benchmarks/looking.py [--sample DIR] [--rounds N]

* ``adopt`` and ``survey`` of the large sample (20 000 files, 1.5 GB) beside a walk that prints every file's name, size and
  time (``find -printf`` where there is one): aim 3 times that plus 1.5 s, and under 200 MB.
* ``diff`` of two XML files of 10 MB with 20 000 records, 1 % of them changed, beside lxml parsing both: aim 3 times.

Each figure is the best of N rounds, taken in turns, as whole processes; memory is the largest resident set.
Needs the development packages (``pip install '.[dev]'``). The sample is built in DIR once and used again.
"""

from __future__ import annotations

import argparse
import os
import random
import shutil
import sys
import tempfile
from pathlib import Path

from measuring import Measured, ember, run, verdict

from emberkeep.demo import sample

WALK = "import os\nfor w, d, f in os.walk('.'):\n  for n in f: s = os.lstat(os.path.join(w, n)); print(w, n, s.st_size, s.st_mtime)"
LXML = "import sys, lxml.etree as e\nfor p in sys.argv[1:]: e.parse(p)"
RECORDS, CHANGED = 20_000, 200


def looking_over(place: Path, rounds: int) -> None:
    if not (place / sample.SERVER).is_dir():
        print(f"building the large sample in {place} …", flush=True)
        sample.build(place, "large")
    server, keep = place / sample.SERVER, place / f"{sample.SERVER}.keep"
    find = shutil.which("find")
    walk = [find, ".", "-printf", "%p %s %T@\n"] if find and os.name == "posix" else [sys.executable, "-c", WALK]
    shutil.rmtree(keep, ignore_errors=True)
    run(ember("adopt", sample.SERVER), place)
    for version, source in (("4.2", "skerrylight-4.2"), ("4.3", "skerrylight-4.3.zip")):
        run(ember("--keep", str(keep), "defaults", "record", version, f"releases/{source}"), place)
    walked, adopted, surveyed = Measured(), Measured(), Measured()
    for number in range(rounds):
        walked.add(*run(walk, server))
        fresh = place / f"fresh-{number}.keep"
        adopted.add(*run(ember("--keep", str(fresh), "adopt", sample.SERVER), place))
        shutil.rmtree(fresh)
        surveyed.add(*run(ember("--keep", str(keep), "survey"), place))
    aim = 3 * walked.seconds + 1.5
    print(f"walk    {walked.seconds:6.2f} s")
    for name, measured in (("adopt", adopted), ("survey", surveyed)):
        print(f"{name:7} {measured.seconds:6.2f} s  aim {aim:.2f} s  {verdict(measured.seconds <= aim)}"
              f"   {measured.megabytes:4.0f} MB  aim 200 MB  {verdict(measured.megabytes <= 200)}")  # fmt: skip


def record(number: int, worth: int) -> str:
    """About 500 bytes, as mission files have them."""
    fields = {"kind": ("food", "fuel", "tool")[number % 3], "afloat": number % 90, "least": number % 9, "worth": worth}
    fields.update(spoils=0, weight=number * 7 % 1000, says=f"a line that fills the record up, as in life: {number}")
    fields.update(further=f"another line that makes the record longer, as many of them are in life {number * 3}")
    inside = "".join(f"        <{name}>{value}</{name}>\n" for name, value in fields.items())
    found = "".join(f'        <found at="{place}"/>\n' for place in ("wreck", "pier", "cave"))
    made = '        <made of="rope" count="2"/>\n'
    return f'    <good id="item-{number}">\n{inside}{found}{made}    </good>\n'


def comparing(place: Path, rounds: int) -> None:
    changed = set(random.Random(3).sample(range(RECORDS), CHANGED))
    for name, bump in (("old.xml", 0), ("new.xml", 7000)):
        body = "".join(record(n, n % 120 + (bump if n in changed else 0)) for n in range(RECORDS))
        (place / name).write_text(f'<?xml version="1.0"?>\n<stores>\n{body}</stores>\n', encoding="utf-8")
    parsed, compared = Measured(), Measured()
    for _ in range(rounds):
        parsed.add(*run([sys.executable, "-c", LXML, "old.xml", "new.xml"], place))
        compared.add(*run(ember("diff", "./old.xml", "./new.xml"), place))
    size = (place / "old.xml").stat().st_size / 1e6
    ratio = compared.seconds / parsed.seconds
    print(f"lxml parses both ({size:.1f} MB each)  {parsed.seconds:6.2f} s")
    print(f"diff                             {compared.seconds:6.2f} s  {ratio:.1f} times, aim 3  {verdict(ratio <= 3)}"
          f"   {compared.megabytes:4.0f} MB")  # fmt: skip


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument(
        "--sample", type=Path, help="where the large sample is, or is built (default: a temporary folder)"
    )
    parser.add_argument("--rounds", type=int, default=5)
    args = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="emberkeep-bench-") as room:
        place = args.sample or Path(room)
        place.mkdir(parents=True, exist_ok=True)
        looking_over(place, args.rounds)
        comparing(Path(room), args.rounds)


if __name__ == "__main__":
    main()
