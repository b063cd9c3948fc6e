"""Snapshots of a live folder: what they keep, what they trust, databases that others have open, a server that runs."""

from __future__ import annotations

import os
import random
import shutil
import socketserver
import sqlite3
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, closing, contextmanager
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from emberkeep.databases.live import LiveTree
from emberkeep.fs import folder_tree
from emberkeep.fs.folder_tree import FolderTree, holes_of
from emberkeep.fs.scan import Scan
from emberkeep.fs.trees import AS_IT_IS, CHUNK, chunks_of
from emberkeep.keep.config import Config
from emberkeep.operations.engine import apply, restore_plan
from emberkeep.store import writer
from emberkeep.store.manifest import About
from emberkeep.store.store import Store
from emberkeep.store.tree import SnapshotTree
from emberkeep.store.writer import SnapshotResult
from tests.conftest import tree_state
from tests.program import Program

CONFIG = Config("x", "server", "UTC")


def now() -> datetime:
    return datetime.now(UTC)


@pytest.fixture
def root(tmp_path: Path) -> Path:
    folder = tmp_path / "server"
    folder.mkdir()
    return folder


@pytest.fixture
def store(tmp_path: Path) -> Store:
    return Store(tmp_path / "keep" / "store")


def take(store: Store, root: Path, *, later: float = 10, rehash: bool = False) -> SnapshotResult:
    """A snapshot whose clock is far enough ahead for what was just written to be trusted from now on."""
    live = LiveTree(root, "live", room=store.folder / "room")
    try:
        return writer.add(store, live, About("", now() + timedelta(seconds=later), "asked"), live=live, rehash=rehash)
    finally:
        shutil.rmtree(store.folder / "room", ignore_errors=True)


def put_back(store: Store, label: str, target: Path, *only: str) -> None:
    tree = SnapshotTree(store, store.manifest(label), label)
    plan = restore_plan.plan(tree, target, restore_plan.scope_of(tree.manifest, only, CONFIG))
    assert apply.apply(plan, tree) == []
    assert restore_plan.plan(tree, target, restore_plan.scope_of(tree.manifest, only, CONFIG)).nothing


# --- what is kept ------------------------------------------------------------


@pytest.mark.skipif(os.name == "nt", reason="POSIX names, links and modes")
def test_everything_a_folder_has_comes_back(store: Store, root: Path, tmp_path: Path) -> None:
    (root / "deep" / "empty").mkdir(parents=True)
    (root / "deep" / "a").write_bytes(b"a" * 100_000)
    os.link(root / "deep" / "a", root / "b")
    os.link(root / "deep" / "a", root / "deep" / "c")
    (root / os.fsdecode(b"caf\xe9\n")).write_text("not UTF-8")
    (root / "dangling").symlink_to("../nowhere")
    (root / "run").write_text("x")
    (root / "run").chmod(0o4750)
    if os.geteuid() == 0:
        os.chown(root / "run", 1234, 4321)
        (root / "run").chmod(0o4750)
        os.chown(root / "dangling", 77, 88, follow_symlinks=False)
        os.chown(root / "deep", 5, 6)
    os.utime(root / "run", ns=(1, 1_600_000_000_123_456_789))
    os.utime(root / "dangling", ns=(1, 1_600_000_000_000_000_321), follow_symlinks=False)
    os.utime(root / "deep", ns=(1, 1_500_000_000_000_000_001))
    take(store, root)
    put_back(store, "1", tmp_path / "again")
    assert owned(tmp_path / "again") == owned(root)
    assert (tmp_path / "again" / "b").samefile(tmp_path / "again" / "deep" / "c")
    assert (tmp_path / "again" / "b").stat().st_nlink == 3


@pytest.mark.skipif(os.name == "nt", reason="Windows takes no such times")
@pytest.mark.parametrize("ns", [-1_500_000_000, -(10**18), 10_413_792_000_000_000_000, 10**19])
def test_times_long_ago_and_far_ahead_are_kept_as_far_as_they_can_be(
    store: Store, root: Path, tmp_path: Path, ns: int
) -> None:
    (root / "world").mkdir()
    (root / "world" / "tile").write_bytes(b"t" * 50_000)
    for path in (root / "world" / "tile", root / "world", root):
        os.utime(path, ns=(0, ns))
    assert (root / "world" / "tile").stat().st_mtime_ns == ns
    take(store, root)
    put_back(store, "1", tmp_path / "again")
    put_back(store, "1", root)
    latest = (1 << 63) - 1
    for name in ("world/tile", "world", ""):
        assert abs((tmp_path / "again" / name).stat().st_mtime_ns - min(ns, latest)) < 1000
    assert (root / "world" / "tile").stat().st_mtime_ns == ns, "what is as far as can be told was written again"
    (root / "world" / "tile").write_bytes(b"u" * 50_000)
    os.utime(root / "world" / "tile", ns=(0, ns))
    again = take(store, root)
    assert not again.about.unsettled
    assert store.manifest("1").held["world/tile"].digest != store.manifest("2").held["world/tile"].digest


def owned(folder: Path) -> dict[str, tuple[object, ...]]:
    found = {path: Path(folder, path).lstat() for path in tree_state(folder)}
    return {path: (*state, found[path].st_uid, found[path].st_gid) for path, state in tree_state(folder).items()}


@pytest.mark.skipif(os.name == "nt", reason="hard links")
def test_hard_links_are_made_and_broken_as_the_snapshot_says(store: Store, root: Path) -> None:
    (root / "one").write_text("same")
    os.link(root / "one", root / "two")
    (root / "three").write_text("same")
    take(store, root)
    (root / "two").unlink()
    (root / "two").write_text("same")
    (root / "three").unlink()
    os.link(root / "one", root / "three")
    put_back(store, "1", root)
    assert (root / "one").samefile(root / "two")
    assert not (root / "one").samefile(root / "three")
    (root / "one").write_text("both")
    put_back(store, "1", root, "two")
    assert [(root / name).read_text() for name in ("one", "two")] == ["both", "same"]


def test_what_a_scan_told_of_very_many_paths_is_let_go_and_its_fingerprint_stays(
    root: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    for name in ("a", "b", "c"):
        (root / name).write_text(name)
    plain = FolderTree(root)
    assert plain.entries() and plain.scanned().paths
    monkeypatch.setattr(folder_tree, "VERY_MANY", 2)
    for make in (FolderTree, LiveTree):
        tree = make(root)
        assert set(tree.entries()) == {"a", "b", "c"} and not tree.scanned().paths
        assert tree.fingerprint() == Scan(str(root)).fingerprint() != ""
    (root / "book.db-wal").write_text("x")
    tree = LiveTree(root)
    assert tree.entries() and tree.fingerprint() == ""


def _sparse(path: Path, stretches: Sequence[tuple[int, bytes]], size: int) -> None:
    """A file of ``size`` bytes with data in some places and holes elsewhere; skips where the disk keeps no holes."""
    with path.open("r+b" if path.exists() else "wb") as handle:
        for at, data in stretches:
            handle.seek(at)
            handle.write(data)
        handle.truncate(size)
    if path.stat().st_blocks * 512 >= size:
        pytest.skip("this file system keeps no holes")


@pytest.mark.skipif(not hasattr(os, "SEEK_HOLE"), reason="holes cannot be told here")
def test_a_sparse_file_is_compared_with_its_earlier_version_as_others_are(store: Store, root: Path) -> None:
    some = random.Random(2)
    tiles = [(at << 20, some.randbytes(1 << 16)) for at in (0, 3, 5, 17, 39)]
    _sparse(root / "world.img", tiles, 40 << 20)
    states = [(root / "world.img").read_bytes()]
    assert take(store, root).about.new_bytes > 5 << 16
    for at, length in ((3 << 20, 4096), (9 << 20, 8192), ((17 << 20) + 5000, 4096)):
        _sparse(root / "world.img", [(at, some.randbytes(length))], 40 << 20)
        states.append((root / "world.img").read_bytes())
        assert take(store, root).about.new_bytes < 1 << 15  # neither the other tiles nor the holes
    for number, state in enumerate(states, 1):
        tree = SnapshotTree(store, store.manifest(str(number)), "x")
        assert b"".join(tree.chunks("world.img")) == state
        assert sum(piece for piece in tree.pieces("world.img") if isinstance(piece, int)) > 38 << 20


@given(
    st.lists(st.tuples(st.integers(0, 30), st.integers(1, 9)), max_size=5),
    st.integers(1, 40),
    st.sampled_from([CHUNK, 4096]),
)
def test_holes_are_told_as_the_zeros_they_are(where: list[tuple[int, int]], size: int, expected: int) -> None:
    """Read by the map of holes or to its end, a file holds the same."""
    unit = 1 << 17
    with tempfile.TemporaryDirectory() as room:
        path = Path(room, "sparse")
        path.touch()
        with path.open("r+b") as handle:
            for at, length in where:
                handle.seek(at * unit)
                handle.write(bytes([65 + at]) * (length * unit // 2))
            handle.truncate(size * unit)
        descriptor = os.open(path, AS_IT_IS)
        holes = holes_of(descriptor)
        pieces = list(chunks_of(descriptor, expected, holes))
        assert b"".join(pieces) == path.read_bytes()
        assert all(0 < len(piece) <= CHUNK for piece in pieces)
        assert all(low < high for low, high in holes)


@pytest.mark.skipif(not hasattr(os, "SEEK_HOLE"), reason="holes cannot be told here")
def test_sparse_files_stay_sparse(store: Store, root: Path, tmp_path: Path) -> None:
    _sparse(root / "sparse", [(0, b"head"), (40 << 20, b"middle")], 90 << 20)
    done = take(store, root)
    assert done.about.bytes == 90 << 20
    put_back(store, "1", tmp_path / "again")
    again = tmp_path / "again" / "sparse"
    assert again.read_bytes() == (root / "sparse").read_bytes()
    assert again.stat().st_blocks <= (root / "sparse").stat().st_blocks + 16
    _sparse(root / "sparse", [(60 << 20, b"later")], 90 << 20)
    take(store, root)
    put_back(store, "2", tmp_path / "again")
    assert again.read_bytes() == (root / "sparse").read_bytes()


def test_inserted_rows_and_dated_dumps_take_little_room(store: Store, root: Path) -> None:
    some = random.Random(4)
    rows = [f"insert into trades values ({number}, {some.random()});\n" for number in range(40_000)]
    (root / "dump-2026-01-01.sql").write_text("".join(rows))
    first = take(store, root).about.new_bytes
    for at in range(0, 40_000, 4000):
        rows.insert(at, f"insert into trades values (0, {some.random()}); -- new\n")
    (root / "dump-2026-01-08.sql").write_text("".join(rows))
    assert take(store, root).about.new_bytes < first / 5
    put_back(store, "2", root)


# --- what is trusted ---------------------------------------------------------


class Counting(FolderTree):
    """Counts the files that are read."""

    def chunks(self, path: str) -> Iterator[bytes]:
        self.__dict__.setdefault("asked", []).append(path)
        return super().chunks(path)

    @property
    def asked(self) -> set[str]:
        return set(self.__dict__.get("asked", []))


def read_for(store: Store, root: Path, *, later: float = 10, rehash: bool = False) -> set[str]:
    live = Counting(root)
    writer.add(store, live, About("", now() + timedelta(seconds=later), "asked"), live=live, rehash=rehash)
    return live.asked


def test_only_what_somebody_wrote_to_is_read_again(store: Store, root: Path) -> None:
    for name in "abc":
        (root / name).write_text(name * 50_000)
    assert read_for(store, root) == {"a", "b", "c"}
    assert read_for(store, root) == set()
    before = (root / "b").stat()
    (root / "b").write_text("B" * 50_000)
    os.utime(root / "b", ns=(before.st_atime_ns, before.st_mtime_ns))  # same size, same time: the ctime tells
    assert read_for(store, root) == {"b"}
    assert read_for(store, root, rehash=True) == {"a", "b", "c"}
    (root / "d").write_text("d")
    (root / "a").unlink()
    assert read_for(store, root) == {"d"}
    put_back(store, str(store.numbers()[-1]), root)


def test_what_was_written_just_before_the_scan_is_not_trusted(store: Store, root: Path) -> None:
    (root / "a").write_text("one")
    assert read_for(store, root, later=0) == {"a"}
    assert read_for(store, root, later=0) == {"a"}


def test_trust_ends_when_a_pack_is_gone(store: Store, root: Path) -> None:
    (root / "a").write_bytes(random.Random(1).randbytes(50_000))
    read_for(store, root)
    next(store.packs.glob("*.pack")).unlink()
    assert read_for(store, root) == {"a"}
    put_back(store, "2", root)


class Restless(FolderTree):
    """A folder in which one file is written to whenever it is read, ``times`` times."""

    times = 0

    def chunks(self, path: str) -> Iterator[bytes]:
        yield from super().chunks(path)
        if path == "log" and self.times:
            self.times -= 1
            with (self.root / path).open("ab") as log:
                log.write(b"another line\n")


@pytest.mark.parametrize(("times", "settles"), [(1, True), (99, False)])
@pytest.mark.parametrize("size", [10, 100_000])
def test_what_changes_while_it_is_read_is_read_again(
    store: Store, root: Path, times: int, settles: bool, size: int
) -> None:
    (root / "log").write_bytes(b"x" * size)
    (root / "quiet").write_text("q")
    live = Restless(root)
    live.times = times
    done = writer.add(store, live, About("", now(), "asked"), live=live)
    assert done.about.unsettled is not settles
    assert [item.path for item in done.skipped] == ([] if settles else ["log"])
    held = store.manifest("1").held
    assert set(held) == {"log", "quiet"}
    stored = b"".join(SnapshotTree(store, store.manifest("1"), "1").chunks("log"))
    assert stored.startswith(b"x" * size)
    assert len(stored) == held["log"].entry.size
    if settles:
        assert stored == (root / "log").read_bytes()


def test_a_file_that_cannot_be_read_is_named_and_the_rest_is_taken(store: Store, root: Path) -> None:
    (root / "a").write_text("a")
    (root / "b").write_text("b")

    class Denied(FolderTree):
        def chunks(self, path: str) -> Iterator[bytes]:
            if path == "a":
                (self.root / "a").unlink()
            return super().chunks(path)

    done = writer.add(store, Denied(root), About("", now(), "asked"))
    assert [item.path for item in done.skipped] == ["a"]
    assert set(store.manifest("1").held) == {"b"}


# --- databases ---------------------------------------------------------------

WRITER = """
import sqlite3, sys, time
database = sqlite3.connect(sys.argv[1], isolation_level=None)
database.execute("pragma journal_mode = " + sys.argv[2])
database.execute("pragma wal_autocheckpoint = 0")
database.execute("create table if not exists pair (a integer, b integer, filler blob)")
number = 0
while True:
    number += 1
    database.execute("begin immediate")
    database.execute("insert into pair values (?, ?, zeroblob(3000))", (number, number))
    database.execute("update pair set a = a + 1, b = b + 1")
    database.execute("commit")
    if number == 5:
        print("ready", flush=True)
    if number > 5:
        time.sleep(0.002)
"""


@contextmanager
def at_work(*words: str, says: bytes, cwd: Path | None = None) -> Iterator[None]:
    """A program of Python's that has said that it is up, ended with the block."""
    with subprocess.Popen([sys.executable, *words], cwd=cwd, stdout=subprocess.PIPE) as process:
        try:
            assert process.stdout is not None
            assert process.stdout.readline() == says
            yield
        finally:
            process.kill()


def writing(path: Path, mode: str) -> AbstractContextManager[None]:
    return at_work("-c", WRITER, str(path), mode, says=b"ready\n")


def pairs(path: Path) -> list[tuple[int, int]]:
    with closing(sqlite3.connect(path)) as database:
        assert database.execute("pragma integrity_check").fetchone() == ("ok",)
        return database.execute("select a, b from pair").fetchall()


@pytest.mark.parametrize("mode", ["wal", "delete"])
def test_a_database_that_others_write_to_is_copied_as_of_one_moment(
    store: Store, root: Path, tmp_path: Path, mode: str
) -> None:
    with writing(root / "book.db", mode):
        taken = [take(store, root) for _ in range(4)]
    for done in taken:
        target = tmp_path / done.about.label
        put_back(store, done.about.label, target)
        found = pairs(target / "book.db")
        assert len(found) >= 5
        assert all(a == b for a, b in found)
        if mode == "wal":
            assert done.about.copied == ("book.db",)
            assert not done.skipped
            assert not list((root.parent / done.about.label).glob("*-wal"))
    assert not list((tmp_path / "keep").rglob("*.db"))


def test_database_and_log_of_a_server_that_crashed_are_taken_byte_for_byte(
    store: Store, root: Path, tmp_path: Path
) -> None:
    with writing(root / "book.db", "wal"):
        pass
    before = tree_state(root)
    assert "book.db-wal" in before
    assert take(store, root).about.copied == ()
    assert tree_state(root) == before
    put_back(store, "1", tmp_path / "again")
    assert tree_state(tmp_path / "again") == before
    assert all(a == b for a, b in pairs(tmp_path / "again" / "book.db"))


# --- a server that runs ------------------------------------------------------


def running(server: Path) -> AbstractContextManager[None]:
    (server / "serve.py").write_text("import time\nprint('up', flush=True)\ntime.sleep(60)\n")
    return at_work("serve.py", says=b"up\n", cwd=server)


class Console(socketserver.StreamRequestHandler):
    """A console as ours speak: a line in, a line out; the first is the secret."""

    def handle(self) -> None:
        for line in self.rfile:
            self.server.heard.append((line.decode().strip(), time.monotonic()))  # type: ignore[attr-defined]
            self.wfile.write(self.server.says)  # type: ignore[attr-defined]


@contextmanager
def console(says: bytes = b"aye\n") -> Iterator[tuple[int, list[tuple[str, float]]]]:
    with socketserver.ThreadingTCPServer(("127.0.0.1", 0), Console) as server:
        server.heard = []  # type: ignore[attr-defined]
        server.says = says  # type: ignore[attr-defined]
        server.daemon_threads = True
        thread = threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True)
        thread.start()
        yield server.server_address[1], server.heard  # type: ignore[attr-defined]
        server.shutdown()
        thread.join()


def configure(place: Path, text: str) -> None:
    with (place / "gannet-rock.keep" / "keep.toml").open("a") as settings:
        settings.write(text)


def test_a_running_server_is_refused_or_recorded(keeper: Program, place: Path, server: Path) -> None:
    with running(server):
        refused = keeper("snapshot")
        assert refused.code == 3
        assert "--while-running" in refused.err
        assert keeper("history", "--json").json["snapshots"] == []
        done = keeper("snapshot", "--while-running", "--json")
        assert done.code == 0
        assert "runs from this folder" in done.json["snapshot"]["running"]
    assert "while running" in keeper("history").out


PHRASES = 'phrases = { save = "log all", hold = "log hold", free = "log free" }\n'


def test_a_console_has_the_server_hold_its_writes_meanwhile(keeper: Program, place: Path, server: Path) -> None:
    with running(server), console() as (port, heard):
        configure(
            place,
            f'\n[console]\naddress = "127.0.0.1:{port}"\nsecret = {{ env = "ROCK" }}\ngood = "^aye"\n{PHRASES}',
        )
        assert keeper("snapshot").code == 3  # the secret is not set
        done = keeper("snapshot", "--json", environment={"ROCK": "herring"})
        assert done.code == 0, done.err
        assert [line for line, _ in heard] == ["herring", "log all", "log hold", "log free"]
        assert "herring" not in done.out + done.err
        assert done.json["snapshot"]["running"]


def test_a_console_that_does_not_do_as_told_is_no_reason_to_copy(keeper: Program, place: Path, server: Path) -> None:
    with running(server), console(b"what?\n") as (port, _):
        configure(place, f'\n[console]\naddress = "127.0.0.1:{port}"\ngood = "^aye"\n{PHRASES}')
        refused = keeper("snapshot")
        assert refused.code == 3
        assert "what?" in refused.err
    with running(server):
        unreachable = keeper("snapshot")
        assert unreachable.code == 3
        assert "cannot be reached" in unreachable.err
    assert keeper("history", "--json").json["snapshots"] == []


def test_a_command_can_be_the_console(keeper: Program, place: Path, server: Path) -> None:
    heard = place / "heard"
    script = f"import sys; open({str(heard)!r}, 'a').write(sys.argv[1] + chr(10))"
    arguments = ", ".join(f"'''{word}'''" for word in (sys.executable, "-c", script, "{phrase}"))
    configure(place, f"\n[console]\nkind = 'command'\ncommand = [{arguments}]\n{PHRASES}")
    with running(server):
        assert keeper("snapshot").code == 0
    assert heard.read_text().split("\n") == ["log all", "log hold", "log free", ""]


@pytest.mark.skipif(os.name != "posix", reason="modes of files")
def test_a_secret_that_others_may_read_is_refused(keeper: Program, place: Path, server: Path) -> None:
    secret = place / "secret"
    secret.write_text("herring\n")
    secret.chmod(0o644)
    with running(server), console() as (port, heard):
        configure(
            place,
            f'\n[console]\naddress = "127.0.0.1:{port}"\nsecret = {{ file = "{secret}" }}\n{PHRASES}',
        )
        refused = keeper("snapshot")
        assert refused.code == 3
        assert "chmod 600" in refused.err
        secret.chmod(0o600)
        assert keeper("snapshot").code == 0
        assert heard[0][0] == "herring"
