"""What a start costs, and what many keeps at once cost, beside a bare interpreter, measured in one run on this machine.

    python benchmarks/starting.py [--rounds N] [--keeps N]

* ``--version`` and ``--help`` beside ``python -c pass``: aim 1.6 times.
* ``survey``, ``history``, ``snapshot`` and ``diff latest live`` of the smallest sample, in seconds: aim 0.35 s for a survey.
* ``survey --all`` and ``snapshot --all`` of N such keeps beside N single calls, one after the other: aim 1.3 times the work
  divided by the processors. A single call does the work and starts Python; the aim is held against it as it is.

Each figure is the median of N rounds, taken in turns, as whole processes. Install the project (not editable) to measure what
users have.
"""

from __future__ import annotations

import argparse
import os
import shutil
import statistics
import sys
import tempfile
from pathlib import Path

from measuring import ember, run, verdict

from emberkeep.demo import sample


def medians(commands: dict[str, list[str]], place: Path, rounds: int) -> dict[str, float]:
    """Seconds by name, of whole processes in turns."""
    found: dict[str, list[float]] = {name: [] for name in commands}
    for command in commands.values():
        run(command, place)
    for _ in range(rounds):
        for name, command in commands.items():
            found[name].append(run(command, place)[0])
    return {name: statistics.median(seconds) for name, seconds in found.items()}


def starts(keep: Path, rounds: int) -> None:
    run(ember("--keep", str(keep), "snapshot"), keep.parent)
    commands = {"python -c pass": [sys.executable, "-c", "pass"]}
    commands |= {words: ember(words) for words in ("--version", "--help")}
    for words in ("survey", "history", "snapshot", "diff latest live"):
        commands[words] = ember("--keep", str(keep), *words.split())
    found = medians(commands, keep.parent, rounds)
    bare = found["python -c pass"]
    for name, seconds in found.items():
        aim = verdict(seconds <= 1.6 * bare) if name.startswith("--") else ""
        aim = verdict(seconds <= 0.35) if name == "survey" else aim
        print(f"{name:18} {seconds * 1e3:6.0f} ms  {seconds / bare:5.1f} times  {aim}")


def many(keep: Path, count: int) -> None:
    server = keep.parent / sample.SERVER
    folder = keep.parent / "keeps"
    folder.mkdir()
    for number in range(count):
        shutil.copytree(server, folder / f"s{number:03}", symlinks=True)
        shutil.copytree(keep, folder / f"s{number:03}.keep")
        told = folder / f"s{number:03}.keep" / "keep.toml"
        told.write_text(told.read_text().replace(f'"../{sample.SERVER}"', f'"../s{number:03}"'))
    processors = os.cpu_count() or 1
    for words in (("survey", "--offline"), ("snapshot",)):
        singles = [folder / f"s{number:03}.keep" for number in range(min(count, 10))]
        alone = statistics.mean(run(ember("--keep", str(one), *words), folder)[0] for one in singles)
        together, megabytes = run(ember(*words, "--all", str(folder)), folder)
        aim = 1.3 * alone * count / processors
        print(f"{words[0]:9} of {count} keeps: {together:6.2f} s; one alone {alone:.2f} s, aim {aim:.1f} s"
              f"  {verdict(together <= aim)}   {megabytes:.0f} MB")  # fmt: skip


def main() -> None:
    parser = argparse.ArgumentParser(description="what a start costs")
    parser.add_argument("--rounds", type=int, default=7)
    parser.add_argument("--keeps", type=int, default=60)
    args = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="emberkeep-bench-") as room:
        place = Path(room)
        sample.build(place, "cove")
        run(ember("adopt", sample.SERVER), place)
        keep = place / f"{sample.SERVER}.keep"
        starts(keep, args.rounds)
        shutil.rmtree(keep / "store")
        many(keep, args.keeps)


if __name__ == "__main__":
    main()
