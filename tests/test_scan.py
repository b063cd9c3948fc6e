"""Scans: what they find, what their fingerprint tells, and looks ahead by a process of their own."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import closing
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from emberkeep.fs import scan, sorted_paths
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.scan import Ahead, Scan
from emberkeep.fs.sorted_paths import SortedPaths
from emberkeep.fs.trees import read
from emberkeep.keep.keep import Keep
from emberkeep.operations.record import snapshot
from emberkeep.store import stat_cache, writer
from emberkeep.store.manifest import About
from emberkeep.store.store import Store
from emberkeep.store.tree import SnapshotTree
from emberkeep.store.writer import SnapshotResult
from tests.program import Program

needs_fork = pytest.mark.skipif(not scan.FORKS, reason="no processes are forked here")


@pytest.fixture
def root(tmp_path: Path) -> Path:
    folder = tmp_path / "server"
    (folder / "world" / "deep").mkdir(parents=True)
    (folder / "world" / "deep" / "tile").write_bytes(b"rocks")
    (folder / "world" / "tile").write_bytes(b"sea")
    (folder / "empty").mkdir()
    (folder / "away").symlink_to("world")
    if os.name == "posix":
        Path(os.fsdecode(os.fsencode(folder) + b"/n\xe4me")).write_bytes(b"no UTF-8")
    return folder


def told(found: dict[str, os.stat_result]) -> dict[str, tuple[int, ...]]:
    """All but when it was last read, which the scans themselves change, and what it takes on the disk, which the system
    may change later."""
    return {path: (*facts[:7], facts.st_mtime_ns, facts.st_ctime_ns) for path, facts in found.items()}


def walked(root: Path) -> dict[str, os.stat_result]:
    """What the standard library's own walk finds."""
    found = {}
    for place, folders, files in os.walk(root):
        for name in (*folders, *files):
            path = Path(place, name)
            found[path.relative_to(root).as_posix()] = path.lstat()
    return found


@given(st.dictionaries(st.lists(st.sampled_from("abC"), min_size=1, max_size=4).map("/".join), st.binary(max_size=3)))
def test_a_scan_finds_what_stands_there(tmp_path_factory: pytest.TempPathFactory, files: dict[str, bytes]) -> None:
    root = tmp_path_factory.mktemp("scan")
    for path, data in files.items():
        if not any(other.startswith(f"{path}/") for other in files):
            (root / path).parent.mkdir(parents=True, exist_ok=True)
            (root / path).write_bytes(data)
    assert dict(Scan(str(root)).rows) == told(walked(root))


@pytest.mark.parametrize("by_folder", [True, False])
def test_either_way_of_asking_finds_the_same(root: Path, monkeypatch: pytest.MonkeyPatch, by_folder: bool) -> None:
    before = Scan(str(root))
    (root / ".emberkeep-left").mkdir()
    (root / ".emberkeep-left" / "inside").write_bytes(b"")
    monkeypatch.setattr(scan, "BY_FOLDER", by_folder and scan.BY_FOLDER)
    found = Scan(str(root))
    assert dict(found.rows) == dict(before.rows)
    assert found.temporary == [".emberkeep-left"]
    assert not found.unread


CHANGES: dict[str, Callable[[Path], object]] = {
    "written to": lambda root: (root / "world" / "tile").write_bytes(b"sky"),
    "longer": lambda root: (root / "world" / "deep" / "tile").write_bytes(b"rocks and more"),
    "new": lambda root: (root / "empty" / "one").write_bytes(b""),
    "gone": lambda root: (root / "world" / "tile").unlink(),
    "renamed": lambda root: (root / "world" / "tile").rename(root / "world" / "other"),
    "another of the same name": lambda root: shutil.copy2(root / "world" / "tile", root / "t") and (root / "t").replace(root / "world" / "tile"),
    "mode": lambda root: (root / "world" / "tile").chmod(0o600),
    "time": lambda root: os.utime(root / "world" / "tile", (5, 5)),
    "mode of the folder itself": lambda root: root.chmod(0o700),
    "a link that points elsewhere": lambda root: (root / "away").unlink() or (root / "away").symlink_to("empty"),
}  # fmt: skip


@pytest.mark.parametrize("change", CHANGES)
def test_any_change_gives_another_fingerprint(root: Path, change: str) -> None:
    (root / "world" / "tile").chmod(0o644)
    root.chmod(0o755)
    before = Scan(str(root)).fingerprint()
    assert before and Scan(str(root)).fingerprint() == before
    time.sleep(0.02)  # the system's clock for files ticks this slowly
    CHANGES[change](root)
    assert Scan(str(root)).fingerprint() not in ("", before)


def test_a_scan_stands_what_comes_and_goes_meanwhile(root: Path) -> None:
    for number in range(300):
        (root / "world" / f"still {number}").write_bytes(b"")
    ended = threading.Event()

    def busy() -> None:
        while not ended.is_set():
            for number in range(50):
                (root / "world" / f"brief {number}").write_bytes(b"")
                (root / "world" / f"folder {number}").mkdir()
            for number in range(50):
                (root / "world" / f"brief {number}").unlink()
                (root / "world" / f"folder {number}").rmdir()

    other = threading.Thread(target=busy)
    other.start()
    try:
        scans = [Scan(str(root)) for _ in range(60)]
    finally:
        ended.set()
        other.join()
    for found in scans:
        paths = [path for path, _ in found.rows]
        assert len(set(paths)) == len(paths)
        assert {f"world/still {number}" for number in range(300)} <= set(paths)
        assert all("brief" in path or "folder" in path for path, _ in found.unread)
    assert any(found.unread for found in scans), "nothing ever went away between being listed and being asked about"


def test_a_folder_that_cannot_be_listed_is_told(tmp_path: Path) -> None:
    with pytest.raises(FileNotFoundError):
        Scan(str(tmp_path / "none"))


# --- looks ahead ------------------------------------------------------------------


@needs_fork
def test_a_look_ahead_finds_what_a_scan_finds(root: Path) -> None:
    with scan.ahead(str(root)) as found:
        assert found is not None
        assert found.fingerprint(str(root)) == Scan(str(root)).fingerprint()


@needs_fork
def test_a_look_at_another_folder_counts_for_nothing(root: Path) -> None:
    with closing(Ahead(str(root))) as found:
        assert found.fingerprint(str(root / "world")) == ""


@needs_fork
@pytest.mark.parametrize("there", [True, False])
def test_a_look_counts_for_nothing_once_a_witness_was_written_to(root: Path, tmp_path: Path, there: bool) -> None:
    witness = tmp_path / "journal"
    if there:
        witness.write_bytes(b"a run")
    with closing(Ahead(str(root), [str(witness)])) as found:
        time.sleep(0.02)
        witness.write_bytes(b"or two")
        assert found.fingerprint(str(root)) == ""


@needs_fork
def test_a_look_that_finds_nothing_or_is_ended_says_nothing(root: Path, tmp_path: Path) -> None:
    with closing(Ahead(str(tmp_path / "none"))) as found:
        assert found.fingerprint(str(tmp_path / "none")) == ""
    with closing(Ahead(str(root))) as found:
        os.kill(found.process, signal.SIGKILL)
        assert found.fingerprint(str(root)) in ("", Scan(str(root)).fingerprint())


@needs_fork
def test_a_look_ends_when_it_is_closed(root: Path) -> None:
    with closing(Ahead(str(root))) as found:
        assert Path(f"/proc/{found.process}").exists() or not Path("/proc").exists()
    with pytest.raises(ChildProcessError):
        os.waitpid(found.process, 0)


@pytest.mark.parametrize("folder", ["", "here"])
def test_where_there_is_no_look_ahead_there_is_none(monkeypatch: pytest.MonkeyPatch, root: Path, folder: str) -> None:
    monkeypatch.setattr(scan, "FORKS", not folder)
    with scan.ahead(str(root) if folder else "") as found:
        assert found is None


# --- snapshots by a glimpse -------------------------------------------------------


def take(store: Store, root: Path, glimpse: str = "", running: str = "", **more: bool) -> SnapshotResult:
    about = About("", datetime.now(UTC) + timedelta(seconds=10), "asked", running=running)
    live = FolderTree(root, "live")
    return writer.add(store, live, about, live=live, glimpse=glimpse, **more)  # type: ignore[arg-type]


def held(store: Store, label: str, path: str) -> bytes:
    return read(SnapshotTree(store, store.manifest(label), label), path)


def test_a_glimpse_is_of_the_folder_as_it_was_then(root: Path, tmp_path: Path) -> None:
    store = Store(tmp_path / "store")
    take(store, root)
    glimpse = Scan(str(root)).fingerprint()
    (root / "world" / "tile").write_bytes(b"written since")
    assert held(store, take(store, root, glimpse).about.label, "world/tile") == b"sea"
    assert held(store, take(store, root).about.label, "world/tile") == b"written since"
    assert held(store, take(store, root, glimpse).about.label, "world/tile") == b"written since"


def test_a_glimpse_is_not_enough_where_a_server_ran_that_may_have_ended_since(root: Path, tmp_path: Path) -> None:
    store = Store(tmp_path / "store")
    take(store, root, running="process 7")
    glimpse = Scan(str(root)).fingerprint()
    (root / "world" / "tile").write_bytes(b"saved at the end")
    assert held(store, take(store, root, glimpse).about.label, "world/tile") == b"saved at the end"


def test_a_glimpse_does_not_stand_for_reading_everything(root: Path, tmp_path: Path) -> None:
    store = Store(tmp_path / "store")
    take(store, root)
    glimpse = Scan(str(root)).fingerprint()
    (root / "world" / "tile").write_bytes(b"written since")
    assert held(store, take(store, root, glimpse, rehash=True).about.label, "world/tile") == b"written since"


def test_a_glimpse_is_not_enough_when_a_pack_is_gone(root: Path, tmp_path: Path) -> None:
    store = Store(tmp_path / "store")
    take(store, root)
    glimpse = Scan(str(root)).fingerprint()
    for pack in store.packs.iterdir():
        pack.unlink()
    store = Store(tmp_path / "store")
    assert held(store, take(store, root, glimpse).about.label, "world/tile") == b"sea"


@pytest.fixture
def soon_settled(monkeypatch: pytest.MonkeyPatch) -> None:
    """What was written a moment before a scan counts as seen: this system's file times are exact."""
    monkeypatch.setattr(stat_cache, "SETTLED_NS", 20_000_000)


@needs_fork
def test_what_a_running_server_saved_since_the_look_is_in_the_snapshot(
    place: Path, keeper: Program, soon_settled: None
) -> None:
    time.sleep(0.05)
    keeper("snapshot")
    keep, server = Keep(place / "gannet-rock.keep"), place / "gannet-rock"

    def after_a_look() -> bytes:
        with scan.ahead(str(server)) as found:
            assert found is not None
            assert found.fingerprint(str(server))
            (server / "welcome.json").write_bytes(b"saved since the look")
            done = snapshot.take(keep, datetime.now(UTC), snapshot.SnapshotRequest(while_running=True), ahead=found)
        return held(Store(keep.store_folder), done.about.label, "welcome.json")

    other = subprocess.Popen([sys.executable, "-c", "import time; time.sleep(60)"])
    try:
        (server / "keeper.pid").write_text(str(other.pid))
        time.sleep(0.05)
        keeper("snapshot", "--while-running")
        assert after_a_look() == b"saved since the look"
    finally:
        other.kill()
        other.wait()


_LISTED = """
import os, sys
opened = []
sys.addaudithook(lambda event, args: opened.append(str(args[0])) if event == "open" else None)
from emberkeep.cli.main import main
code = main(["snapshot", *sys.argv[2:]])
print("looked itself" if sys.argv[1] in opened else "had it looked at")
sys.exit(code)
"""


@needs_fork
def test_the_program_leaves_looking_at_an_unchanged_folder_to_another_process(
    place: Path, keeper: Program, soon_settled: None
) -> None:
    keep, server = place / "gannet-rock.keep", place / "gannet-rock"

    def looked(*more: str) -> str:
        line = [sys.executable, "-c", _LISTED, str(server), "--keep", str(keep), *more]
        done = subprocess.run(line, capture_output=True, text=True, check=True)
        return done.stdout.splitlines()[-1]

    time.sleep(0.05)
    keeper("snapshot")
    assert looked() == "had it looked at"
    assert looked("--rehash") == "looked itself"
    (server / "new").write_bytes(b"")
    assert looked() == "looked itself"
    labels = [str(number) for number in Store(keep / "store").numbers()]
    assert "new" not in Store(keep / "store").manifest(labels[-2]).held
    assert "new" in Store(keep / "store").manifest(labels[-1]).held


def test_a_diff_reads_only_what_was_written_to_since_the_last_snapshot(
    place: Path, keeper: Program, soon_settled: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    time.sleep(0.05)
    keeper("snapshot")
    read: list[str] = []
    plain = FolderTree.chunks

    def noted(tree: FolderTree, path: str) -> Iterator[bytes]:
        read.append(path)
        return plain(tree, path)

    monkeypatch.setattr(FolderTree, "chunks", noted)
    assert keeper("diff", "1", "live").code == 0
    tiles = [path for path in read if path.endswith(".sea")]
    assert tiles == []
    tile = place / "gannet-rock" / "outer-skerries" / "chart" / "strip.0.0.sea"
    before = tile.stat()
    with tile.open("r+b") as file:
        file.write(b"x" if file.read(1) != b"x" else b"y")
    os.utime(tile, ns=(before.st_atime_ns, before.st_mtime_ns))  # only its ctime tells
    done = keeper("diff", "1", "live", "--json")
    assert done.code == 1
    assert [item["path"] for item in done.json["difference"]["files"]] == ["outer-skerries/chart/strip.0.0.sea"]
    read.clear()
    assert keeper("diff", "1", "live", "--rehash").code == 1
    every = {path.relative_to(place / "gannet-rock").as_posix() for path in place.glob("gannet-rock/**/*.sea")}
    assert {path for path in read if path.endswith(".sea")} == every


NAMES = st.text(st.sampled_from("ab/.-~\0\u00e9\uffff\U0001f525\udc80\udcff"), max_size=4)


@given(st.sets(NAMES.filter(lambda name: "\0" not in name)), st.lists(NAMES), st.booleans())
def test_sorted_paths_are_as_a_dict(names: set[str], further: list[str], numbered: bool) -> None:
    paths = sorted(names)
    numbers = [7 * at % 101 for at in range(len(paths))]
    plain = dict(zip(paths, numbers if numbered else range(len(paths)), strict=True))
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(sorted_paths, "_STRETCH", 3)
        found = SortedPaths(paths, numbers if numbered else None)
        assert dict(found.items()) == dict(found) == plain
        assert (list(found), list(found.values()), len(found)) == (paths, list(plain.values()), len(paths))
        asked = [*paths, *further, *reversed(paths), *(name for path in paths for name in (path, path + "a", path))]
        assert [found.get(name) for name in asked] == [plain.get(name) for name in asked]
        for wrong in ([*paths, *paths[-1:]], paths[::-1]):
            if len(wrong) > 1:
                with pytest.raises(ValueError, match="ascend"):
                    SortedPaths(wrong)


def test_sorted_paths_are_found_though_another_thread_is_quicker(monkeypatch: pytest.MonkeyPatch) -> None:
    found, real = SortedPaths(f"{at:04}" for at in range(2000)), sorted_paths._name

    def overtaken(path: str) -> bytes:
        monkeypatch.setattr(sorted_paths, "_name", real)
        assert [found["0110"], found["0111"]] == [110, 111]  # has what stands around at hand by now
        return real(path)

    monkeypatch.setattr(sorted_paths, "_name", overtaken)
    assert found["0100"] == 100
