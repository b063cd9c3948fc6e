"""System calls of the real program that fail, one at a time, from outside: all is done, or put back, or waits to be."""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import pytest

from emberkeep.keep.keep import Keep
from emberkeep.operations.record.journal import Journal
from emberkeep.store.shared import store_of
from emberkeep.store.store import Store
from emberkeep.store.verify import verify
from tests import depth
from tests.conftest import KEEP, WORD, Moorings, said_yes, tree_state
from tests.helpers import same_contents
from tests.program import Program, Ran, command_line, process_environment, run_program

CALLS = (
    "fsync,fdatasync,rename,renameat,renameat2,unlink,unlinkat,mkdir,mkdirat,symlink,symlinkat,link,linkat,"
    "pwrite64,ftruncate,utimensat,fchmod,fchmodat,fchownat"
)
"""What a run changes disks with, and Python's own start does not."""
ERRORS = ("EIO", "ENOSPC")


@pytest.fixture
def place(tmp_path: Path, moorings: Moorings) -> Path:
    """The smallest sample: what is looked for hangs on the calls, not on the size."""
    return moorings(tmp_path / "place", "cove").place


@pytest.fixture
def recorded(place: Path) -> Program:
    said_yes(again(place, "defaults", "record", "4.3", "releases/skerrylight-4.3.zip"))
    return lambda *words: again(place, *map(str, words))


def traced(line: tuple[str, ...], place: Path, fault: str = "") -> Ran:
    """The program under ``strace``, which lets ``fault`` happen to one of these calls."""
    told = ["-e", f"trace={CALLS}", *(["-e", f"inject={CALLS}:{fault}"] if fault else [])]
    command = [
        "strace",
        "-f",
        "-qq",
        "--seccomp-bpf",
        "-o",
        place / "trace",
        *told,
        *command_line("--keep", KEEP, *line),
    ]
    environment = process_environment({"PYTHONDONTWRITEBYTECODE": "1", **WORD})
    done = subprocess.run(command, cwd=place, env=environment, capture_output=True, text=True, check=False, timeout=120)
    return Ran(done.returncode, done.stdout, done.stderr)


def again(place: Path, *words: str, keep: str = KEEP) -> Ran:
    """The program in a copy of the place, with nothing in its way."""
    return run_program(*words, cwd=place, environment={"EMBERKEEP_KEEP": keep, **WORD})


def calls_of(line: tuple[str, ...], place: Path) -> int:
    """How many such calls a run makes; skipped where nothing can be traced."""
    if not shutil.which("strace"):
        pytest.skip("strace is not installed")
    if subprocess.run(["strace", "-o", os.devnull, "true"], capture_output=True, check=False).returncode:
        pytest.skip("nothing can be traced here")
    done = traced(line, place)
    assert done.code in (0, 1), done.err
    return sum("(" in told for told in (place / "trace").read_text().splitlines())


def restored(recorded: Program, place: Path) -> tuple[str, ...]:
    recorded("snapshot", "--note", "target")
    server = place / "gannet-rock"
    shutil.rmtree(server / "mission")
    (server / "new").mkdir()
    (server / "new" / "file").write_text("new")
    (server / "keeper.properties").chmod(0o600)
    (server / "welcome.json").write_text("changed")
    return "restore", "target", "--go"


def merged(recorded: Program, place: Path) -> tuple[str, ...]:
    return "merge", "--from", "4.2", "--to", "4.3", "--go"


def wiped(recorded: Program, place: Path) -> tuple[str, ...]:
    line = ("wipe", "players", "--no-start")
    recorded(*line)
    return (*line, "--go")


def updated(recorded: Program, place: Path) -> tuple[str, ...]:
    extensions = ("--extensions", "releases/extensions-4.3")
    return ("update", "releases/skerrylight-4.3.zip", "--to", "4.3", *extensions, "--no-start", "--go")


def imported(recorded: Program, place: Path) -> tuple[str, ...]:
    shutil.copytree(place / "gannet-rock" / "outer-skerries", place / "friend")
    return "import", "friend", "--as", "isles", "--go"


def carried(recorded: Program, place: Path) -> tuple[str, ...]:
    shutil.copytree(place / "releases" / "skerrylight-4.2", place / "fresh")
    return "carry", "gannet-rock", "fresh", "--mine", "--go"


WAYS = dict.fromkeys((restored, merged, wiped, updated, imported), "gannet-rock") | {carried: "fresh"}
"""What is run, and the folder that it changes; the keep of that stands beside it."""


@pytest.mark.long
@pytest.mark.parametrize("prepare", depth.some([*WAYS], 1))
def test_any_call_may_fail(recorded: Program, place: Path, prepare: Callable[[Program, Path], tuple[str, ...]]) -> None:
    line, name = prepare(recorded, place), WAYS[prepare]
    before = tree_state(place / name)
    shutil.copytree(place, place.with_name("count"), symlinks=True)
    count = calls_of(line, place.with_name("count"))
    after = tree_state(place.with_name("count") / name)
    assert count > 20 and after != before
    outcomes = set()
    for number, at in enumerate(depth.spread(range(1, count + 1), depth.number("CALLS", 4, 24))):
        there = place.with_name(f"at{at}")
        shutil.copytree(place, there, symlinks=True)
        done = traced(line, there, f"error={ERRORS[number % 2]}:when={at}")
        assert done.code in (0, 1, 2, 3, 5) and "Traceback" not in done.err, (at, done)
        keep = f"{name}.keep"
        if (there / keep / "store").is_dir():
            assert verify(Store(there / keep / "store")).sound
        server = there / name
        if Journal(there / keep).waiting() is not None:
            back = again(there, "undo", "--go", keep=keep)
            assert back.code == 0, (at, back.err)
            assert tree_state(server) == before, at
            outcomes.add("waited")
        elif done.code in (0, 1):
            assert tree_state(server, times=False) == {
                path: (*state[:2], *state[3:]) if len(state) > 2 else state for path, state in after.items()
            } or set(tree_state(server)) == set(after)
            outcomes.add("done")
        else:
            assert tree_state(server) == before, (at, done.err)
            outcomes.add("put back")
            anew = again(there, *line)  # and nothing of it stands in the way of the next try
            assert anew.code in (0, 1), (at, done.err, anew.err)
        shutil.rmtree(there)
    assert "put back" in outcomes, outcomes


@pytest.mark.long
def test_any_call_of_a_move_into_a_shared_store_may_fail_or_be_its_last(recorded: Program, place: Path) -> None:
    """Not only an error: the program is killed in the call, which no tidying up follows."""
    recorded("snapshot")
    line = ("store", "join", "shared", "--go")
    shutil.copytree(place, place.with_name("count"), symlinks=True)
    count = calls_of(line, place.with_name("count"))
    states = set()
    faults = ("error=EIO", "signal=KILL", "error=ENOSPC", "signal=KILL")
    for number, at in enumerate(depth.spread(range(1, count + 1), depth.number("CALLS", 4, 24))):
        there = place.with_name(f"at{at}")
        shutil.copytree(place, there, symlinks=True)
        done = traced(line, there, f"{faults[number % 4]}:when={at}")
        assert "Traceback" not in done.err, (at, done)
        keep = Keep(there / KEEP)
        if Journal(keep.folder).waiting() is not None:
            ended = again(there, "resume" if number % 4 == 1 else "undo", "--go")
            assert ended.code == 0, (at, ended.err)
        with closing(store_of(keep)) as store:
            assert store.numbers() == [1] and sorted(store.versions()) == ["4.2", "4.3"], at
            assert verify(store).sound
            same_contents(store, "1", there / "gannet-rock")
            states.add(bool(store.member))
        shutil.rmtree(there)
    assert states == {True, False}
