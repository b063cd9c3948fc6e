"""Restores in place as runs: stopped or failing anywhere, they are finished or taken back to the byte."""

from __future__ import annotations

import os
import random
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
from collections.abc import Callable
from contextlib import closing, suppress
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest

from emberkeep.callbacks import no_op
from emberkeep.errors import EmberKeepError, Interrupted, Refused, RunFailed
from emberkeep.fs import system
from emberkeep.keep.keep import Keep
from emberkeep.operations.engine import apply, restore_plan, runner
from emberkeep.operations.engine.step import RunContext
from emberkeep.operations.flows import restore
from emberkeep.operations.record import snapshot
from emberkeep.operations.record.journal import Journal
from emberkeep.store.store import Store
from emberkeep.store.verify import verify
from tests import depth
from tests.conftest import tree_state
from tests.faults import FaultyIO, PowerCut, Stop, count_calls, moments
from tests.helpers import new_keep, undo
from tests.program import Program


def real_clock() -> datetime:
    return datetime.now(UTC)


@pytest.fixture
def keep(tmp_path: Path) -> Keep:
    """A server in small with a snapshot of how it was, wrecked since then."""
    server = tmp_path / "server"
    (server / "world" / "deep").mkdir(parents=True)
    (server / "world" / "tile").write_bytes(random.Random(1).randbytes(300_000))
    (server / "world" / "deep" / "b").write_text("b")
    (server / "notes").write_text("n")
    (server / "latest").symlink_to("notes")
    keep = new_keep(tmp_path)
    snapshot.take(keep, real_clock(), snapshot.SnapshotRequest(note="good"))
    (server / "world" / "tile").write_bytes(b"griefed")
    (server / "world" / "deep" / "b").unlink()
    (server / "world" / "deep").rmdir()
    (server / "world" / "deep").write_text("a file where a folder was")
    (server / "notes").chmod(0o600)
    (server / "stray").mkdir()
    (server / "stray" / "s").write_text("s")
    return keep


def put_back(keep: Keep, *only: str) -> None:
    with closing(Store(keep.store_folder)) as store:
        tree = snapshot.find(store, keep, "1", real_clock())
        found = restore.planned(keep, store, tree, only)
        restore.put_back(keep, store, found, only, real_clock, no_op)


def resume(keep: Keep) -> None:
    with closing(Store(keep.store_folder)) as store:
        runner.resume(RunContext(keep, store, Journal(keep.folder), runner.waiting(keep), real_clock))


def copy_of(keep: Keep, place: Path) -> Keep:
    place.mkdir()
    for name in ("server", "server.keep"):
        shutil.copytree(keep.folder.parent / name, place / name, symlinks=True)
    return Keep(place / "server.keep")


def good(keep: Keep, place: Path) -> dict[str, tuple[object, ...]]:
    """What an unbroken restore comes to."""
    whole = copy_of(keep, place)
    put_back(whole)
    assert Journal(whole.folder).waiting() is None
    return tree_state(whole.server)


@pytest.mark.parametrize(
    ("power", "then"), depth.some([(power, then) for power in (True, False) for then in ("resume", "undo")], 1)
)
def test_stopped_at_any_call_it_is_finished_or_taken_back(keep: Keep, tmp_path: Path, power: bool, then: str) -> None:
    wrecked = tree_state(keep.server)
    restored = good(keep, tmp_path / "good")
    counted = copy_of(keep, tmp_path / "count")
    calls = count_calls(lambda: put_back(counted))
    waited = 0
    for at in moments(calls, 10):
        mine = copy_of(keep, tmp_path / f"at{at}")
        context = tmp_path / f"room{at}"
        context.mkdir()
        faulty = PowerCut(at, random.Random(at), context) if power else FaultyIO(at, Stop())
        with system.use(faulty), suppress(Stop, EmberKeepError, OSError):
            put_back(mine)
        if isinstance(faulty, PowerCut):
            faulty.cut()
        run = Journal(mine.folder).waiting()
        if run is None:
            state = tree_state(mine.server)
            assert state == restored if at > calls else state in (wrecked, restored), at
            continue
        waited += 1
        with pytest.raises(Refused, match="interrupted half-way"):
            put_back(mine)
        if then == "resume":
            resume(mine)
            assert tree_state(mine.server) == restored, at
        else:
            undo(mine)
            assert tree_state(mine.server) == wrecked, at
        assert Journal(mine.folder).waiting() is None
        assert verify(Store(mine.store_folder)).sound
    assert waited > 3


@pytest.mark.parametrize("what", ["restore", "undo"])
def test_what_was_reported_done_outlasts_a_power_cut(keep: Keep, tmp_path: Path, what: str) -> None:
    """Names that came, went and changed, modes and times: nothing of it waits for the system to write it some time."""
    if what == "undo":
        put_back(keep)
    act = put_back if what == "restore" else undo
    whole = copy_of(keep, tmp_path / "whole")
    act(whole)
    done = tree_state(whole.server)
    assert done != tree_state(keep.server)
    for chance in range(depth.choose(4, 12)):
        mine, context = copy_of(keep, tmp_path / f"cut{chance}"), tmp_path / f"room{chance}"
        context.mkdir()
        power = PowerCut(10**9, random.Random(chance), context)
        with system.use(power):
            act(mine)
        power.cut()
        assert tree_state(mine.server) == done, chance


UPDATE = ("update", "releases/skerrylight-4.3.zip", "--to", "4.3", "--recipes", "releases/recipes", "--no-start")
WRITERS = {
    "restore into": ("restore", "latest", "--into", "deep/look"),
    "restore into, file by file": ("restore", "latest", "--into", "deep/look"),
    "adopt": ("adopt", "fresh"),
    "carry": ("carry", "gannet-rock", "fresh", "--mine", "--go"),
    "merge out": ("merge", "--old-defaults", "releases/skerrylight-4.2", "--new-defaults", "releases/skerrylight-4.3.zip",
                  "--mine", "gannet-rock", "--out", "merged"),
    "update": (*UPDATE, "--go"),
}  # fmt: skip
MORE_WRITERS = {
    "import": ("import", "friend", "--as", "isles", "--go"),
    "rehearse": (*UPDATE, "--rehearse", "rehearsed"),
    "snapshot": ("snapshot",),
    "export": ("export", "latest", "away.tar.zst"),
    "record": ("defaults", "record", "4.4", "releases/skerrylight-4.4.tar.gz"),
    "drop": ("defaults", "drop", "4.2"),
    "merge": ("merge", "--from", "4.2", "--to", "4.3", "--go"),
    "questions": ("merge", "--from", "4.2", "--to", "4.3", "--questions", "q.toml", "--report", "r.html"),
    "orders": ("orders", "propose", "--go"),
    "draft": ("migrate", "--draft", "4.2", "4.3", "--out", "d.toml"),
    "restore": ("restore", "1", "--go"),
    "thin": ("thin", "--go"),
}


@pytest.mark.parametrize("what", [*WRITERS, *(pytest.param(name, marks=pytest.mark.long) for name in MORE_WRITERS)])
def test_what_any_command_wrote_outlasts_a_power_cut(recorded: Program, place: Path, tmp_path: Path, what: str) -> None:
    """Files, folders, modes and times, those of a keep that a command made included; caches aside."""
    assert recorded("snapshot").code == 0
    (place / "gannet-rock/mission/economy/squalls.xml").write_text("<squalls/>")
    shutil.copytree(place / "releases/skerrylight-4.2", place / "fresh")
    shutil.copytree(place / "gannet-rock/outer-skerries", place / "friend")
    context, before = tmp_path / "context", outlasting(place)
    context.mkdir()
    power = PowerCut(10**9, random.Random(what), context)
    power.at_once = "file by file" not in what
    with system.use(power):
        done = recorded(*{**WRITERS, **MORE_WRITERS}[what])
    assert done.code in (0, 1), done.err
    after = outlasting(place)
    assert (after != before) or what == "thin"
    power.cut()
    now = outlasting(place)
    assert {path for path in after.keys() | now.keys() if after.get(path) != now.get(path)} == set()


def outlasting(place: Path) -> dict[str, tuple[object, ...]]:
    """What SQLite writes, it syncs itself; nothing leans on the copy that a rehearsal makes."""
    aside = ("sqlite", "rehearsed")
    return {path: told for path, told in tree_state(place).items() if not any(name in path for name in aside)}


def beside(place: Path, server: Path) -> dict[str, tuple[object, ...]]:
    """All but a server folder and the keeps: releases, what is brought in or carried from, whatever lies around."""
    found = tree_state(place)
    del found["."]
    return {path: told for path, told in found.items() if path.split("/")[0] != server.name and ".keep" not in path}


def steps_told(told: Any) -> set[str]:
    changes = [change for step in told["preview"]["steps"] for change in step["changes"]]
    return {path for change in changes for path in (change["path"], change["was"] or change["path"])}


def restore_told(told: Any) -> set[str]:
    plan = told["plan"]
    return {entry["path"] for part in ("write", "touch", "remove", "replace") for entry in plan[part]}


def merge_told(told: Any) -> set[str]:
    return {one["path"] for one in told["files"] if one["outcome"] != "same"}


def wipe_told(told: Any) -> set[str]:
    shown = told["preview"]
    cleared = {
        path
        for scope in shown["cleared"]["scopes"]
        for path in (*scope["files"], *(one["file"] for one in scope["records"]))
    }
    return cleared | {one["file"] for one in shown["settings"]}


RUNS: dict[str, tuple[tuple[str, ...], Callable[[Any], set[str]]]] = {
    "update": (UPDATE, steps_told),
    "carry": (("carry", "gannet-rock", "fresh", "--mine"), steps_told),
    "import": (("import", "friend", "--as", "isles"), steps_told),
    "merge": (("merge", "--from", "4.2", "--to", "4.3"), merge_told),
    "restore": (("restore", "1"), restore_told),
    "restore a part": (("restore", "1", "--only", "economy"), restore_told),
    "wipe": (("wipe", "map", "players", "--seed", "5", "--no-start"), wipe_told),
}


@pytest.mark.parametrize("what", depth.some([*RUNS], 1))
def test_a_preview_names_every_file_that_changes_and_no_other(recorded: Program, place: Path, what: str) -> None:
    words, told_by = RUNS[what]
    server = place / ("fresh" if what == "carry" else "gannet-rock")
    assert recorded("snapshot").code == 0
    shutil.copytree(place / "releases/skerrylight-4.2", place / "fresh")
    shutil.copytree(place / "gannet-rock/outer-skerries", place / "friend")
    (place / "gannet-rock/mission/economy/squalls.xml").write_text("<squalls/>")
    (place / "gannet-rock/stray").write_text("x")
    (place / "gannet-rock/welcome.json").unlink()
    before = tree_state(server)
    others = beside(place, server)
    told = told_by(recorded(*words, "--json").json)
    assert tree_state(server) == before
    done = recorded(*words, "--go")
    assert done.code in (0, 1), done.err
    assert beside(place, server) == others
    after = tree_state(server)
    changed = {
        path for path in before.keys() | after.keys() if before.get(path) != after.get(path)
        and "folder" not in {state[0] for state in (before.get(path), after.get(path)) if state}
    }  # fmt: skip
    assert changed == told


def test_failing_at_any_call_it_is_put_back_as_it_was(keep: Keep, tmp_path: Path) -> None:
    wrecked = tree_state(keep.server)
    restored = good(keep, tmp_path / "good")
    counted = copy_of(keep, tmp_path / "count")
    calls = count_calls(lambda: put_back(counted))
    back = 0
    for at in moments(calls, 10):
        mine = copy_of(keep, tmp_path / f"at{at}")
        try:
            with system.use(FaultyIO(at, OSError(28, "No space left on device"))):
                put_back(mine)
            assert tree_state(mine.server) == restored
        except (RunFailed, OSError) as error:
            assert tree_state(mine.server) == wrecked, at
            back += "all was put back" in str(error)
        assert Journal(mine.folder).waiting() is None
    assert back > 3


@pytest.mark.parametrize("error", [OSError(28, "No space left on device"), KeyboardInterrupt()], ids=["full", "Ctrl-C"])
def test_failing_at_any_call_nothing_is_left_of_a_restore_into_a_new_folder(
    keep: Keep, tmp_path: Path, error: BaseException
) -> None:
    with closing(Store(keep.store_folder)) as store:
        tree = snapshot.find(store, keep, "1", real_clock())

        def given_back(into: Path) -> None:
            apply.elsewhere(restore_plan.plan(tree, into, lambda path: True), tree)

        (tmp_path / "empty").mkdir()
        calls = count_calls(lambda: given_back(tmp_path / "whole"))
        failed = 0
        for at in moments(calls, 10):
            into = tmp_path / ("new/deep" if at % 2 else "empty")
            try:
                with system.use(FaultyIO(at, error)):
                    given_back(into)
                assert tree_state(into) == tree_state(tmp_path / "whole"), at
                shutil.rmtree(tmp_path / into.relative_to(tmp_path).parts[0])
                (tmp_path / "empty").mkdir(exist_ok=True)
            except (OSError, KeyboardInterrupt):
                failed += 1
                assert not (tmp_path / "new").exists() and not list((tmp_path / "empty").iterdir()), at
        assert failed > 5


def test_a_restore_can_be_undone_and_that_too(keep: Keep) -> None:
    wrecked = tree_state(keep.server)
    put_back(keep)
    restored = tree_state(keep.server)
    assert restored != wrecked
    undo(keep)
    assert tree_state(keep.server) == wrecked
    assert [run.state for run in Journal(keep.folder).runs()] == ["undone"]
    with pytest.raises(EmberKeepError, match="no run to take back"):
        undo(keep)
    with closing(Store(keep.store_folder)) as store:
        about = store.about(str(store.numbers()[-1]))
    assert about.note == "before undoing run 1"


def test_a_part_that_was_restored_is_undone_and_no_more(keep: Keep) -> None:
    put_back(keep, "world/**")
    (keep.server / "notes").write_text("written since")
    put_back_state = tree_state(keep.server)
    assert (keep.server / "stray" / "s").exists()
    undo(keep)
    assert (keep.server / "world" / "tile").read_bytes() == b"griefed"
    assert (keep.server / "notes").read_text() == "written since"
    assert tree_state(keep.server) != put_back_state


@pytest.mark.parametrize("then", ["resume", "undo"])
def test_a_merge_that_was_interrupted_goes_on_or_is_taken_back(
    recorded: Program, place: Path, server: Path, then: str
) -> None:
    before = tree_state(server)
    keep = Keep(place / "gannet-rock.keep")
    done = recorded("merge", "--to", "4.3", "--go")
    assert done.code == 1, done.err
    merged = tree_state(server)
    assert merged != before
    journal = Journal(keep.folder)
    run = journal.runs()[-1]
    with sqlite3.connect(keep.folder / "journal.db") as database:  # as if killed in the middle of writing
        database.execute("update step set ended = null where at = 1")
    journal.end(run, "begun", real_clock())
    shutil.copyfile(place / "releases" / "skerrylight-4.2" / "keeper.properties", server / "keeper.properties")
    again = recorded(then, "--go")
    assert again.code == 0, again.err
    assert tree_state(server) == (merged if then == "resume" else before)


def test_ctrl_c_in_a_restore_says_what_to_do(keep: Keep) -> None:
    class Pressed(FaultyIO):
        def replace(self, source: Path, target: Path) -> None:
            if target.name == "tile":
                raise KeyboardInterrupt
            super().replace(source, target)

    with system.use(Pressed(10**9, None)), pytest.raises(Interrupted) as caught:
        put_back(keep)
    assert "resume" in caught.value.faults[0].hint
    resume(keep)
    assert (keep.server / "world" / "tile").stat().st_size == 300_000


@pytest.mark.long
@pytest.mark.skipif(os.name == "nt", reason="kill -9")
def test_a_killed_restore_is_refused_on_then_finished_or_taken_back(keeper: Program, place: Path, server: Path) -> None:
    """kill -9 of the real program as soon as its journal says that it began, or a little later."""
    for number in range(400):
        (server / "outer-skerries" / f"more-{number}").write_bytes(random.Random(number).randbytes(20_000))
    keeper("snapshot")
    whole = tree_state(server)
    hits = 0
    journal = Journal(place / "gannet-rock.keep")
    for attempt in range(12):
        for number in range(400):
            (server / "outer-skerries" / f"more-{number}").unlink(missing_ok=True)
        wrecked = tree_state(server)
        command = [sys.executable, "-m", "emberkeep", "--keep", "gannet-rock.keep", "restore", "1", "--go"]
        process = subprocess.Popen(command, cwd=place, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        while process.poll() is None and journal.waiting() is None:
            time.sleep(0.002)
        time.sleep(attempt * 0.02)
        process.send_signal(signal.SIGKILL)
        process.wait()
        if journal.waiting():
            hits += 1
            assert keeper("restore", "1", "--go").code == 3
            assert "interrupted" in keeper("history").out
            if hits % 2:
                assert keeper("undo", "--go").code == 0
                assert tree_state(server) == wrecked
            else:
                assert keeper("resume", "--go").code == 0
        assert keeper("restore", "1", "--go").code == 0
        assert tree_state(server) == whole
        if hits >= 2:
            return
    assert hits
