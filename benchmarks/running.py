"""What a run costs beside the bare file work, and how long undoing takes, measured in one run on this machine.

    python benchmarks/running.py [--sample DIR] [--rounds N]

* A run that writes as ``carry`` does (the players, extension data and part of the world of the large sample, into an
  empty folder): its steps with journal, plan and records, beside the same files written the same way (beside the target,
  synced, renamed) without any of it. The snapshot of the folder, empty here, is left out. Aim: 15 % more.
* ``undo`` of an update of the large sample beside ``restore --into`` a new folder of the same snapshot. Aim: 1.5 times.
* ``survey`` of it: as fast as before runs had steps, see ``looking.py``.

Each figure is the best of N rounds, taken in turns. The sample is built in DIR once and used again.
"""

from __future__ import annotations

import argparse
import os
import shutil
import tempfile
import time
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path

from measuring import Measured, ember, run, verdict

from emberkeep.demo import sample
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.overlay import Overlay
from emberkeep.fs.trees import FOLDER
from emberkeep.keep.keep import Keep
from emberkeep.operations.engine import apply, restore_plan
from emberkeep.operations.engine.runner import carry_out
from emberkeep.operations.engine.step import FileStep, Notes, RunContext
from emberkeep.operations.record.facts import Run
from emberkeep.operations.record.journal import Journal
from emberkeep.operations.steps.snapshot import SnapshotStep
from emberkeep.store.store import Store

TAKEN = (
    "outer-skerries/keepers",
    "outer-skerries/chart/strip.1",
    "outer-skerries/chart/strip.-1",
    "extensions",
    "mission",
)


def now() -> datetime:
    return datetime.now(UTC)


def chosen(source: FolderTree) -> list[str]:
    return [path for path, entry in source.entries().items() if entry.kind is not FOLDER and path.startswith(TAKEN)]


def bare(server: Path, context: Path) -> float:
    """Only the file work."""
    target = context / "bare"
    target.mkdir()
    source = FolderTree(server)
    paths = chosen(source)
    began = time.perf_counter()
    planned = Overlay(FolderTree(target), 0)
    for path in paths:
        planned.take(path, source)
    apply.apply(restore_plan.plan(planned, target, lambda path: True), planned)
    seconds = time.perf_counter() - began
    shutil.rmtree(target)
    return seconds


def as_run(server: Path, context: Path) -> tuple[float, int]:
    """The same as a run; without its snapshot step."""
    target = context / "run"
    target.mkdir()
    folder = context / "run.keep"
    folder.mkdir()
    (folder / "keep.toml").write_text('format = 1\n[server]\nname = "x"\nfolder = "../run"\n')
    keep, source = Keep(folder), FolderTree(server)
    paths = chosen(source)

    def bring(context: RunContext) -> Notes:
        for path in paths:
            context.folder.take(path, source)
        return Notes()

    with closing(Store(keep.store_folder)) as store:
        journal = Journal(folder)
        there = RunContext(keep, store, journal, Run(0, "bench", now()), now)
        began = time.perf_counter()
        done = carry_out(there, [SnapshotStep("before", "bench"), FileStep("bring", "bring", bring)])
        seconds = time.perf_counter() - began
        steps = journal.steps(done)
        seconds -= steps[0].seconds or 0.0
    shutil.rmtree(target)
    shutil.rmtree(folder)
    return seconds, len(paths)


def overhead(place: Path, rounds: int) -> None:
    server = place / sample.SERVER
    without, within, count = Measured(), Measured(), 0
    with tempfile.TemporaryDirectory(dir=place) as told:
        for number in range(rounds):
            if number % 2 == 0:
                without.add(bare(server, Path(told)), 0)
            seconds, count = as_run(server, Path(told))
            within.add(seconds, 0)
            if number % 2:
                without.add(bare(server, Path(told)), 0)
    more = within.seconds / without.seconds - 1
    print(f"bare file work  {without.seconds:6.2f} s  ({count} files)")
    print(f"as a run        {within.seconds:6.2f} s  {more:+.0%}  aim +15 %  {verdict(more <= 0.15)}")


def going_back(place: Path, rounds: int) -> None:
    server, keep = place / sample.SERVER, place / "running.keep"
    shutil.rmtree(keep, ignore_errors=True)
    run(ember("adopt", sample.SERVER, "--keep", str(keep)), place)
    shutil.copytree(place / "releases" / "recipes", keep / "recipes")
    mine = ("--keep", str(keep))
    run(ember(*mine, "defaults", "record", "4.2", "releases/skerrylight-4.2"), place)
    run(ember(*mine, "snapshot"), place)
    update, undo, whole = Measured(), Measured(), Measured()
    line = ("update", "releases/skerrylight-4.3.zip", "--to", "4.3", "--no-start", "--go")
    for number in range(rounds):
        into = place / f"whole-{number}"
        whole.add(*run(ember(*mine, "restore", "1", "--into", str(into)), place))
        shutil.rmtree(into)
        update.add(*run(ember(*mine, *line), place))
        undo.add(*run(ember(*mine, "undo", "--go"), place))
    ratio = undo.seconds / whole.seconds
    print(f"update          {update.seconds:6.2f} s  {update.megabytes:4.0f} MB  (20 000 players given a new shape)")
    print(f"full restore    {whole.seconds:6.2f} s")
    print(
        f"undo            {undo.seconds:6.2f} s  {ratio:.2f}x  aim 1.5x  {verdict(ratio <= 1.5)}  {undo.megabytes:4.0f} MB"
    )
    surveyed = Measured()
    for _ in range(rounds):
        surveyed.add(*run(ember(*mine, "survey"), place))
    print(f"survey          {surveyed.seconds:6.2f} s  {surveyed.megabytes:4.0f} MB")
    shutil.rmtree(keep)
    assert (server / "skerrylight-4.2.0.bin").exists()


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--sample", default="/tmp/large", help="where the large sample is, or is built")
    parser.add_argument("--rounds", type=int, default=3)
    args = parser.parse_args()
    os.environ.pop("EMBERKEEP_KEEP", None)
    place = Path(args.sample)
    if not (place / sample.SERVER).is_dir():
        print(f"building the large sample in {place} …", flush=True)
        sample.build(place, "large")
    overhead(place, args.rounds)
    going_back(place, args.rounds)


if __name__ == "__main__":
    main()
