"""Links put in the place of folders while we read and write: nothing outside is read, written or removed."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path

import pytest

from emberkeep.errors import EmberKeepError
from emberkeep.fs import system
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.scan import Root
from emberkeep.operations.engine import apply, restore_plan
from emberkeep.store import writer
from emberkeep.store.store import Store
from emberkeep.store.tree import SnapshotTree
from tests import depth
from tests.conftest import Rock, tree_state
from tests.helpers import ABOUT
from tests.program import Program

pytestmark = pytest.mark.skipif(not sys.platform.startswith("linux"), reason="needs Linux's exchange of two names")
SECRET = b"of root alone\n"


@contextmanager
def swapping(other: Path, folders: Sequence[Path]) -> Iterator[list[int]]:
    """Links to ``other`` in the place of folders by turns; how often, once it has ended."""
    program = Path(__file__).with_name("swapper.py")
    line = [sys.executable, program, other, *folders]
    process = subprocess.Popen(line, stdin=subprocess.PIPE, stdout=subprocess.PIPE)
    assert process.stdin is not None and process.stdout is not None
    assert process.stdout.readline() == b"swapping\n"
    count: list[int] = []
    try:
        yield count
    finally:
        told, _ = process.communicate(timeout=30)
        count.append(int(told))


@pytest.fixture
def outside(tmp_path: Path) -> Path:
    """What nobody may read or change: folders and files of the names that the server's folders hold."""
    folder = tmp_path / "outside"
    (folder / "deep").mkdir(parents=True)
    for number in range(20):
        for where in (folder, folder / "deep"):
            (where / f"{number}.sea").write_bytes(SECRET)
            (where / f"{number}.sea").chmod(0o600)
    return folder


@pytest.fixture
def root(tmp_path: Path) -> Path:
    folder = tmp_path / "server"
    for number in range(6):
        (folder / f"d{number}" / "deep").mkdir(parents=True)
        for name in range(20):
            (folder / f"d{number}" / f"{name}.sea").write_bytes(b"%d %d" % (number, name))
            (folder / f"d{number}" / "deep" / f"{name}.sea").write_bytes(b"%d %d" % (number, name))
    return folder


SWAPS = 51
"""How often folders have to have been swapped for a test to count."""
SECONDS = 2.0


def rounds() -> Iterator[int]:
    """Rounds of a test while folders are swapped: as many as asked for, and more, so that who swaps has its turn on a
    busy machine too."""
    least, began, number = depth.number("SWAPS", 12, 150), time.monotonic(), 0
    while number < least or time.monotonic() - began < SECONDS:
        yield number
        number += 1


def folders_of(root: Path) -> list[Path]:
    return sorted(path for path in root.iterdir() if path.is_dir())


def test_a_snapshot_reads_nothing_outside(tmp_path: Path, root: Path, outside: Path) -> None:
    store = Store(tmp_path / "store")
    with swapping(outside, folders_of(root)) as swapped:
        for _ in rounds():
            tree = FolderTree(root)
            with suppress(EmberKeepError):
                writer.add(store, tree, ABOUT, live=tree, rehash=True)
    assert swapped[0] >= SWAPS
    assert store.numbers()
    for number in store.numbers():
        held = SnapshotTree(store, store.manifest(str(number)), "x")
        for path, entry in held.entries().items():
            if str(entry.kind) == "file":
                assert b"".join(held.chunks(path)) != SECRET, path


def test_a_restore_writes_and_removes_nothing_outside(tmp_path: Path, root: Path, outside: Path) -> None:
    store = Store(tmp_path / "store")
    writer.add(store, FolderTree(root), ABOUT)
    tree = SnapshotTree(store, store.manifest("1"), "1")
    before = tree_state(outside)
    with swapping(outside, folders_of(root)) as swapped:
        for round_ in rounds():
            for number in range(6):
                with suppress(OSError):
                    (root / f"d{number}" / f"{round_ % 20}.sea").write_bytes(b"changed")
                    (root / f"d{number}" / "more.sea").write_bytes(b"is to go")
                    (root / f"d{number}" / "deep" / "1.sea").chmod(0o777)
            for path in (outside, outside / "deep"):  # what we have just written there ourselves
                (path / "more.sea").unlink(missing_ok=True)
            for path in outside.rglob("*.sea"):
                path.write_bytes(SECRET)
                path.chmod(0o600)
            before = tree_state(outside)
            with suppress(EmberKeepError, OSError):
                plan = restore_plan.plan(tree, root, lambda path: True)
                apply.apply(plan, tree)
            assert tree_state(outside) == before
    assert swapped[0] >= SWAPS


@pytest.mark.parametrize("act", ["create", "replace", "unlink", "rmdir", "mkdir", "symlink", "link", "chmod", "utime"])
def test_no_writing_call_goes_through_a_link_in_an_anchored_folder(tmp_path: Path, outside: Path, act: str) -> None:
    server = tmp_path / "server"
    server.mkdir()
    (server / "own").write_text("own")
    (server / "world").symlink_to(outside)
    (outside / "empty").mkdir()
    before = tree_state(outside)
    target = server / "world" / "deep" / "1.sea"
    calls = {
        "create": lambda: system.io.create(server / "world" / "new").close(),
        "replace": lambda: system.io.replace(server / "own", target),
        "unlink": lambda: system.io.unlink(target),
        "rmdir": lambda: system.io.rmdir(server / "world" / "empty"),
        "mkdir": lambda: system.io.mkdir(server / "world" / "new"),
        "symlink": lambda: system.io.symlink("x", server / "world" / "new"),
        "link": lambda: system.io.link(server / "own", server / "world" / "new"),
        "chmod": lambda: system.io.chmod(target, 0o777),
        "utime": lambda: system.io.utime(target, 0),
    }
    with system.anchored(server), pytest.raises(OSError, match="a link stands where a folder was"):
        calls[act]()
    assert tree_state(outside) == before
    (server / "file").symlink_to(outside / "1.sea")
    with system.anchored(server), suppress(OSError):
        {
            "chmod": lambda: system.io.chmod(server / "file", 0o777),
            "utime": lambda: system.io.utime(server / "file", 0),
        }[act if act in ("chmod", "utime") else "chmod"]()
    assert tree_state(outside) == before


def test_a_folder_that_was_put_in_anothers_place_is_found_again(tmp_path: Path) -> None:
    (tmp_path / "a" / "b").mkdir(parents=True)
    (tmp_path / "a" / "b" / "x").write_text("old")
    tree = FolderTree(tmp_path)
    assert b"".join(tree.chunks("a/b/x")) == b"old"
    (tmp_path / "a" / "b").rename(tmp_path / "c")
    (tmp_path / "c" / "x").unlink()
    (tmp_path / "a" / "b").mkdir()
    (tmp_path / "a" / "b" / "x").write_text("new")
    assert b"".join(tree.chunks("a/b/x")) == b"new"


def test_descriptors_do_not_pile_up(tmp_path: Path) -> None:
    for number in range(60):
        (tmp_path / f"{number}" / "deep" / "er").mkdir(parents=True)
    before = len(os.listdir("/proc/self/fd"))
    way = Root(str(tmp_path))
    for number in range(60):
        way.folder(f"{number}/deep/er")
        way.at(f"{number}/x")
    assert len(os.listdir("/proc/self/fd")) <= before + 4
    way.forget()
    FolderTree(tmp_path).entries()
    assert len(os.listdir("/proc/self/fd")) <= before + 1


def test_a_pipe_in_a_files_place_keeps_nobody_waiting(tmp_path: Path) -> None:
    (tmp_path / "x").write_text("x")
    tree = FolderTree(tmp_path)
    tree.entries()
    (tmp_path / "x").unlink()
    os.mkfifo(tmp_path / "x")
    with pytest.raises(EmberKeepError, match="no file any more"):
        list(tree.chunks("x"))


@pytest.mark.long
def test_a_whole_update_beside_one_who_swaps(rock: Rock, recorded_once: Path, outside: Path) -> None:
    before = tree_state(outside)
    with swapping(outside, [rock.server / "mission", rock.server / "lib"]) as swapped:
        for _ in range(5):
            rock.update("--no-start", "--go")
            rock.run("undo", "--go")
    assert swapped[0] >= SWAPS
    assert tree_state(outside) == before


def test_the_keep_is_for_its_owner_alone_whatever_the_umask(keeper: Program, place: Path) -> None:
    before = os.umask(0)
    try:
        (place / "gannet-rock" / "x").write_text("x")
        for line in (["snapshot"], ["restore", "1"], ["export", "1", "out.zip"], ["export", "1", "out.tar.zst"]):
            assert keeper(*line).code == 0
        (place / "gannet-rock" / "x").write_text("y")
        assert keeper("restore", "1", "--go").code == 0
    finally:
        os.umask(before)
    keep = place / "gannet-rock.keep"
    open_ = [str(path) for path in (keep / "store").rglob("*") if path.stat().st_mode & 0o077]
    assert open_ == []
    assert not any(path.stat().st_mode & 0o077 for path in (keep, keep / "journal.db", place / "out.zip"))
    keep.chmod(0o755)
    told = keeper("history")
    assert "could be read by other users" in told.err
    assert keep.stat().st_mode & 0o777 == 0o700
    assert "other users" not in keeper("history").err
