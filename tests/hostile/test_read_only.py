"""A keep that may only be read, on a disk gone read-only or of another user, gives back all that it holds."""

from __future__ import annotations

import os
import shutil
import sqlite3
import subprocess
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path

import pytest

from emberkeep.operations.record.journal import Journal
from tests.conftest import KEEP, tree_state
from tests.hostile.others import in_the_open, run_as
from tests.program import Program, run_program


@contextmanager
def read_only(folder: Path) -> Iterator[None]:
    """The folder on a disk that was made read-only."""
    if os.name == "nt" or os.geteuid() != 0 or not shutil.which("mount"):
        pytest.skip("only root makes a disk read-only")
    mount = ["mount", "--bind", str(folder), str(folder)]
    if subprocess.run(mount, capture_output=True, check=False).returncode:
        pytest.skip("nothing may be mounted here")
    try:
        subprocess.run(["mount", "-o", "remount,ro,bind", str(folder)], check=True)
        with pytest.raises(OSError, match="Read-only"):
            (folder / "written").write_text("x")
        yield
    finally:
        subprocess.run(["umount", str(folder)], check=True)


READING = (
    ["history"],
    ["history", "--run", "1"],
    ["verify"],
    ["restore", "1", "--into", "elsewhere"],
    ["restore", "1"],
    ["undo"],
    ["export", "1", "out.zip"],
    ["diff", "1", "live"],
    ["survey"],
    ["defaults", "list"],
    ["thin"],
)


def test_every_reading_command_works_on_a_disk_gone_read_only(keeper: Program, place: Path, server: Path) -> None:
    keeper("snapshot")
    held = tree_state(server)
    (server / "keeper.properties").write_text("changed\n")
    assert keeper("restore", "1", "--go").code == 0
    (server / "keeper.properties").write_text("changed\n")
    usual = {tuple(line): keeper(*line) for line in READING}
    shutil.rmtree(place / "elsewhere")
    (place / "out.zip").unlink()
    with read_only(place / KEEP):
        for line in READING:
            done = keeper(*line)
            assert done.code == usual[tuple(line)].code, (line, done.err)
            assert "Run 1" not in usual[tuple(line)].out or "Run 1" in done.out
        refused = keeper("snapshot")
        assert (refused.code, "Traceback" in refused.err) == (3, False), refused.err
    given = {path: state for path, state in tree_state(place / "elsewhere").items() if path != "."}
    assert given == {path: state for path, state in held.items() if path != "."}


@pytest.mark.parametrize("mode", ["wal", "delete"])
def test_a_journal_that_was_not_written_to_its_end_is_read_whole(keeper: Program, place: Path, mode: str) -> None:
    """As a program that was killed leaves it: with a log, which earlier versions wrote, or with what takes a change of
    it back."""
    keeper("snapshot")
    (place / "gannet-rock" / "new").write_text("x")
    keeper("restore", "1", "--go")
    journal = place / KEEP / "journal.db"
    with closing(sqlite3.connect(journal)) as held_open:
        held_open.execute(f"pragma journal_mode = {mode}")
        held_open.execute("pragma wal_autocheckpoint = 0")
        held_open.execute("pragma cache_size = 1")  # so that a change goes into the file before it is whole
        held_open.execute("update run set ended = '2031-01-01T00:00:00+00:00'")
        if mode == "wal":
            held_open.commit()
        held_open.execute("create table large (a)")
        held_open.executemany("insert into large values (?)", [("x" * 5000,)] * 50)
        ends = ("", "-wal") if mode == "wal" else ("", "-journal")
        for end in ends:
            shutil.copy(f"{journal}{end}", place / f"left.db{end}")
    for end in ("", "-wal", "-shm", "-journal"):
        journal.with_name(f"journal.db{end}").unlink(missing_ok=True)
    for end in ends:
        shutil.move(place / f"left.db{end}", f"{journal}{end}")
    assert mode == "wal" or (place / KEEP / "journal.db-journal").stat().st_size > 1000
    with read_only(place / KEEP):
        (run,) = Journal(place / KEEP).runs()
    assert run.ended is not None and (run.ended.year == 2031) == (mode == "wal")
    assert keeper("undo", "--go").code == 0
    assert sorted(path.name for path in (place / KEEP).glob("journal.db*")) == ["journal.db"]
    assert (place / KEEP / "journal.db").read_bytes()[18] == 1  # no log from here on


def test_a_damaged_journal_keeps_no_snapshot_back(keeper: Program, place: Path) -> None:
    keeper("snapshot", "--note", "kept")
    (place / "gannet-rock" / "new").write_text("since")
    (place / KEEP / "journal.db").write_bytes(b"nonsense" * 2000)
    told = keeper("history")
    assert (told.code, "kept" in told.out) == (4, True)
    assert keeper("verify").code == 0
    for line in (["history"], ["undo"], ["restore", "kept", "--go"], ["resume"]):
        done = keeper(*line)
        assert done.code in (2, 4), (line, done.err)
        assert "aside" not in done.err + done.out
    assert "restore REF --into DIR" in keeper("undo").err
    assert keeper("restore", "kept", "--into", "elsewhere").code == 0


@pytest.mark.long
def test_another_user_who_may_read_reads(keeper: Program, place: Path) -> None:
    if os.name == "nt" or os.geteuid() != 0:
        pytest.skip("only root becomes another user")
    keeper("snapshot")
    for path in [place / KEEP, *(place / KEEP).rglob("*")]:
        path.chmod(0o755 if path.is_dir() else 0o644)
    with in_the_open(place) as there:
        for words, code in ((["history"], 0), (["verify"], 0), (["restore", "1", "--into", "x"], 5)):
            done = run_as(65534, "--keep", there / KEEP, *words, cwd=there)
            assert (done.returncode, "Traceback" in done.stderr) == (code, False), (words, done.stderr)
        assert run_program("--keep", there / KEEP, "history", cwd=there).code == 0
