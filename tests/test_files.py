"""The module that writes: what it reported done stays through a power cut, and what failed leaves nothing behind."""

from __future__ import annotations

import errno
import os
import random
import sqlite3
import stat
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import BinaryIO

import pytest

from emberkeep.errors import Refused
from emberkeep.fs import metadata, private, system, writing
from emberkeep.fs.metadata import Metadata
from emberkeep.fs.writing import TEMPORARY
from tests.conftest import tree_state
from tests.faults import FaultyIO, PowerCut, Recorder, Stop, count_calls, moments

TIDE = [b"tide " * 1000, 70_000, b"ebb", 5000]
"""Contents with holes, one of them at the end."""
WHOLE = b"tide " * 1000 + bytes(70_000) + b"ebb" + bytes(5000)
WHEN = 1_700_000_000_123_456_789


def whole(folder: Path) -> None:
    writing.write_whole(folder / "a", TIDE, mode=0o640, mtime_ns=WHEN)


def through(folder: Path) -> None:
    with writing.writing(folder / "a") as handle:
        handle.write(b"PK")
        handle.write(b"tide" * 3000)
        handle.seek(0)
        handle.write(b"pk")


def staged(folder: Path) -> None:
    stage = writing.Stage()
    for name in ("a", "deep/b", "deep/c"):
        stage.put(folder / name, [name.encode() * 900], Metadata(0o600, WHEN))
    stage.commit()


def linked(folder: Path) -> None:
    with system.durable():
        writing.place_link(folder / "old", "x", Metadata(mtime_ns=WHEN))
        writing.hard_link(folder / "again", folder / "x")


def moved(folder: Path) -> None:
    (folder / "part").write_bytes(b"fetched" * 500)
    metadata.persist_metadata(folder / "part", Metadata(0o640, WHEN))
    with system.durable():
        writing.move_in(folder / "part", folder / "new" / "place" / "a", Metadata(0o640, WHEN))


def made_and_gone(folder: Path) -> None:
    with system.durable():
        writing.make_folder(folder / "new" / "deep")
        metadata.set_folder_metadata(folder / "new", Metadata(0o700, WHEN))
        system.io.unlink(folder / "gone" / "y")
        system.io.rmdir(folder / "gone")
        system.io.replace(folder / "x", folder / "new" / "x")


ACTS: list[Callable[[Path], None]] = [whole, through, staged, linked, moved, made_and_gone]


def prepared(folder: Path) -> Path:
    (folder / "gone").mkdir(parents=True)
    for name in ("old", "x", "gone/y"):
        (folder / name).write_bytes(name.encode() * 50)
    for path in (folder / "gone", folder):
        os.utime(path, ns=(0, 0))
    return folder


@pytest.mark.parametrize("act", ACTS)
def test_what_was_written_outlasts_a_power_cut(tmp_path: Path, act: Callable[[Path], None]) -> None:
    for chance in range(8):
        folder, room = prepared(tmp_path / f"at{chance}"), tmp_path / f"room{chance}"
        room.mkdir()
        power = PowerCut(10**9, random.Random(chance), room)
        with system.use(power):
            act(folder)
        done = tree_state(folder, times=False)
        power.cut()
        assert tree_state(folder, times=False) == done


@pytest.mark.parametrize("act", [whole, through, staged])
def test_stopped_anywhere_the_old_file_stands_or_the_new_one(tmp_path: Path, act: Callable[[Path], None]) -> None:
    counted = prepared(tmp_path / "count")
    calls = count_calls(lambda: act(counted))
    new = (counted / "a").read_bytes()
    for at in moments(calls, 12):
        folder, room = prepared(tmp_path / f"at{at}"), tmp_path / f"room{at}"
        (folder / "a").write_bytes(b"the old one")
        room.mkdir()
        power = PowerCut(at, random.Random(at), room)
        with system.use(power):
            if at > calls:
                act(folder)
            else:
                with pytest.raises(Stop):
                    act(folder)
        power.cut()
        assert (folder / "a").read_bytes() in ((new,) if at > calls else (b"the old one", new)), at


@pytest.mark.parametrize("act", [whole, through, linked])
def test_what_fails_leaves_nothing_behind(tmp_path: Path, act: Callable[[Path], None]) -> None:
    """Whatever the system refuses, no temporary file stays, and no other file is touched."""
    counted = prepared(tmp_path / "count")
    calls = count_calls(lambda: act(counted))
    failed = 0
    for at in range(1, calls + 1):
        folder = prepared(tmp_path / f"at{at}")
        try:
            with system.use(FaultyIO(at, OSError(28, "No space left on device"))):
                act(folder)
        except OSError:
            failed += 1
        assert not [name for name in os.listdir(folder) if name.startswith(TEMPORARY)], at
        assert (folder / "gone" / "y").exists()
    assert failed >= calls - 1


def test_contents_modes_and_times_are_as_told(tmp_path: Path) -> None:
    whole(tmp_path)
    facts = (tmp_path / "a").stat()
    assert (tmp_path / "a").read_bytes() == WHOLE
    assert (stat.S_IMODE(facts.st_mode), facts.st_mtime_ns) == (0o640, WHEN)
    writing.write_whole(tmp_path / "a", [b"new"])
    assert stat.S_IMODE((tmp_path / "a").stat().st_mode) == 0o640  # that of the file it replaced
    (tmp_path / "link").symlink_to("a")
    writing.write_whole(tmp_path / "link", [b"own"])
    assert not (tmp_path / "link").is_symlink() and (tmp_path / "a").read_bytes() == b"new"
    through(tmp_path)
    assert (tmp_path / "a").read_bytes() == b"pk" + b"tide" * 3000


def test_a_further_name_over_one_of_its_own_leaves_no_third(tmp_path: Path) -> None:
    """Renaming one name of a file over another of its names does nothing, says POSIX, and the first name stays."""
    (tmp_path / "x").write_text("x")
    for _ in range(2):
        writing.hard_link(tmp_path / "again", tmp_path / "x")
    assert sorted(os.listdir(tmp_path)) == ["again", "x"]
    assert (tmp_path / "again").samefile(tmp_path / "x")


def test_a_write_that_the_system_takes_in_parts_is_whole(tmp_path: Path) -> None:
    class Slow(system.SystemIO):
        def create(self, path: str | Path) -> BinaryIO:
            handle: BinaryIO = super().create(path)
            return _Nibbling(handle)  # type: ignore[return-value]

    with system.use(Slow()):
        writing.write_new(str(tmp_path / "a"), [b"one", b"two " * 50], Metadata())
    assert (tmp_path / "a").read_bytes() == b"one" + b"two " * 50


class _Nibbling:
    """A file that takes seven bytes at a time, as a full pipe or a signal may make any."""

    def __init__(self, handle: BinaryIO) -> None:
        self.handle = handle

    def __enter__(self) -> _Nibbling:
        return self

    def __exit__(self, *_: object) -> None:
        self.handle.close()

    def write(self, data: memoryview) -> int:
        return self.handle.write(data[:7])


def test_a_new_file_is_never_written_over_one_that_is_there(tmp_path: Path) -> None:
    (tmp_path / "a").write_text("old")
    with pytest.raises(FileExistsError):
        writing.write_new(str(tmp_path / "a"), [b"new"], Metadata())
    assert (tmp_path / "a").read_text() == "old"


def test_a_new_file_goes_again_when_its_contents_fail(tmp_path: Path) -> None:
    def fails() -> object:
        yield b"half"
        raise OSError(5, "Input/output error")

    with pytest.raises(OSError, match="Input"):
        writing.write_new(str(tmp_path / "a"), fails(), Metadata())  # type: ignore[arg-type]
    assert os.listdir(tmp_path) == []


def test_a_stage_that_is_abandoned_leaves_nothing(tmp_path: Path) -> None:
    stage = writing.Stage()
    stage.put(tmp_path / "a", [b"x"], Metadata())
    stage.put(tmp_path / "b", [b"y"], Metadata())
    stage.abandon()
    stage.commit()
    assert os.listdir(tmp_path) == []


def test_a_file_without_rights_to_read_it_gets_its_facts_all_the_same(tmp_path: Path) -> None:
    class NotTheirs(system.SystemIO):
        def reopen(self, path: str | Path) -> BinaryIO:
            raise PermissionError(13, "Permission denied", str(path))

    (tmp_path / "a").write_text("x")
    with system.use(NotTheirs()):
        metadata.persist_metadata(tmp_path / "a", Metadata(0o600, WHEN))
    facts = (tmp_path / "a").stat()
    assert (stat.S_IMODE(facts.st_mode), facts.st_mtime_ns) == (0o600, WHEN)


def test_what_another_disk_has_to_take_is_written_anew(tmp_path: Path) -> None:
    class OtherDisk(system.SystemIO):
        def replace(self, source: Path, target: Path) -> None:
            if source.name == "part":
                raise OSError(18, "Invalid cross-device link")
            super().replace(source, target)

    (tmp_path / "part").write_bytes(b"x" * 3_000_000)
    with system.use(OtherDisk()):
        writing.move_in(tmp_path / "part", tmp_path / "a", Metadata(0o600, WHEN))
    assert os.listdir(tmp_path) == ["a"]
    facts = (tmp_path / "a").stat()
    assert (facts.st_size, stat.S_IMODE(facts.st_mode), facts.st_mtime_ns) == (3_000_000, 0o600, WHEN)

    class Full(system.SystemIO):
        def replace(self, source: Path, target: Path) -> None:
            raise OSError(28, "No space left on device")

    (tmp_path / "part").write_bytes(b"y")
    with system.use(Full()), pytest.raises(OSError, match="No space"):
        writing.move_in(tmp_path / "part", tmp_path / "a", Metadata())
    assert (tmp_path / "part").exists()


def test_a_folder_that_has_its_facts_is_left_alone(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    folder = tmp_path / "a"
    folder.mkdir(mode=0o700)
    os.utime(folder, ns=(0, WHEN))
    own = folder.stat()
    told = Metadata(0o700, WHEN, own.st_uid, own.st_gid)
    monkeypatch.setattr(metadata, "may_give_away", lambda: True)
    with system.use(noted := Recorder()), system.durable():
        metadata.set_folder_metadata(folder, told)
        metadata.set_folder_metadata(folder, Metadata())
    assert noted.calls == []
    for other in (
        Metadata(0o755),
        Metadata(mtime_ns=WHEN + 1),
        told._replace(owner=own.st_uid + 1),
        told._replace(group=own.st_gid + 1),
    ):
        assert not metadata.has_metadata(folder, other)
    monkeypatch.setattr(metadata, "may_give_away", lambda: False)
    assert metadata.has_metadata(folder, told._replace(owner=own.st_uid + 1))
    with system.use(noted), system.durable():
        metadata.set_folder_metadata(folder, Metadata(0o750))
    assert noted.calls == [("chmod", "a"), ("sync_folder", "a")]


def test_owners_are_given_only_where_that_is_allowed(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    given: list[tuple[str, int, int]] = []

    class Noting(system.SystemIO):
        def chown(self, path: str | Path, owner: int, group: int) -> None:
            given.append((Path(path).name, owner, group))

    (tmp_path / "a").write_text("x")
    with system.use(Noting()):
        for allowed in (True, False):
            monkeypatch.setattr(metadata, "may_give_away", lambda allowed=allowed: allowed)
            metadata.set_metadata(tmp_path / "a", Metadata(0o600, owner=1001, group=7))
            metadata.set_metadata(tmp_path / "a", Metadata(owner=0, group=0))  # root's
            metadata.set_metadata(tmp_path / "a", Metadata(0o600))
    assert given == [("a", 1001, 7), ("a", 0, 0)]
    assert metadata.may_give_away() is not None


@pytest.mark.parametrize("number", [errno.EPERM, errno.ENOSYS, errno.ENOTSUP])
def test_a_disk_that_keeps_no_modes_and_owners_is_given_none(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, number: int
) -> None:
    """FAT takes the mode that a file has already and no other; what knows no such call at all takes none."""

    class Plain(system.SystemIO):
        def chmod(self, path: str | Path, mode: int) -> None:
            self._judge(mode == os.lstat(path).st_mode & 0o7777)

        def chown(self, path: str | Path, owner: int, group: int) -> None:
            self._judge((owner, group) == (os.lstat(path).st_uid, os.lstat(path).st_gid))

        def _judge(self, same: bool) -> None:
            if number != errno.EPERM or not same:
                raise OSError(number, os.strerror(number))

    class Denied(system.SystemIO):
        def chmod(self, path: str | Path, mode: int) -> None:
            raise OSError(errno.EPERM, "it is another user's")

    monkeypatch.setattr(metadata, "may_give_away", lambda: True)
    (tmp_path / "a").write_text("x")
    before = (tmp_path / "a").stat()
    metadata.not_given()
    with system.use(Plain()):
        metadata.set_metadata(tmp_path / "a", Metadata(0o640, WHEN, 1001, 7))
    now = (tmp_path / "a").stat()
    assert (now.st_mode, now.st_uid, now.st_mtime_ns) == (before.st_mode, before.st_uid, WHEN)
    assert metadata.not_given() == {metadata.OWNERS: 1, metadata.MODES: 1}
    metadata.set_metadata(tmp_path / "a", Metadata(0o640, WHEN, before.st_uid, before.st_gid))
    assert metadata.not_given() == {}
    with system.use(Denied()), pytest.raises(OSError, match="another user's"):
        metadata.set_metadata(tmp_path / "a", Metadata(0o640))


def test_a_disk_that_syncs_no_folders_is_asked_for_files_alone(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    answer, fsync = errno.EINVAL, os.fsync

    def synced(descriptor: int) -> None:
        if stat.S_ISDIR(os.fstat(descriptor).st_mode):
            raise OSError(answer, os.strerror(answer))
        fsync(descriptor)

    monkeypatch.setattr(os, "fsync", synced)
    writing.make_folder(tmp_path / "new")
    writing.write_whole(tmp_path / "new" / "a", [b"x"])
    assert (tmp_path / "new" / "a").read_bytes() == b"x"
    answer = errno.EIO
    with pytest.raises(OSError, match="Input/output"):
        writing.write_whole(tmp_path / "b", [b"x"])
    with pytest.raises(OSError, match="Input/output"), writing.writing(tmp_path / "c") as out:
        out.write(b"x")
    assert os.listdir(tmp_path) == ["new"], "who is told that it failed finds nothing new"


def test_a_lock_that_cannot_be_is_refused_and_one_that_is_held_says_so(tmp_path: Path) -> None:
    with (
        private.exclusive_lock(tmp_path / "lock", lambda: Refused("held")),
        pytest.raises(Refused, match=r"^held$"),
        private.exclusive_lock(tmp_path / "lock", lambda: Refused("held")),
    ):
        pass
    (tmp_path / "text").write_text("no database, far from it\n" * 100)
    with (
        pytest.raises(Refused, match="cannot be written to") as caught,
        private.exclusive_lock(tmp_path / "text", lambda: Refused("held")),
    ):
        pass
    assert "may be removed" in caught.value.faults[0].hint


def test_sweeping_takes_temporary_files_and_folders_only(tmp_path: Path) -> None:
    (tmp_path / f"{TEMPORARY}1").write_text("x")
    (tmp_path / f"{TEMPORARY}2").mkdir()
    (tmp_path / f"{TEMPORARY}2" / "y").write_text("y")
    (tmp_path / "mine").write_text("z")
    writing.sweep(tmp_path)
    assert os.listdir(tmp_path) == ["mine"]


def test_each_folder_is_synced_once_at_the_end(tmp_path: Path) -> None:
    synced: list[str] = []

    class Noting(system.SystemIO):
        def sync_folder(self, path: str | Path) -> None:
            synced.append(Path(path).name)
            super().sync_folder(path)

    (tmp_path / "a").mkdir()
    with system.use(Noting()):
        with system.durable():
            for number in range(3):
                (tmp_path / "a" / f"{number}").write_text("x")
                system.io.unlink(tmp_path / "a" / f"{number}")
            with system.durable():
                system.io.mkdir(tmp_path / "b")
            assert synced == []
        assert sorted(synced) == sorted(["a", tmp_path.name])
        synced.clear()
        with pytest.raises(ValueError, match="x"), system.durable():
            system.io.rmdir(tmp_path / "b")
            raise ValueError("x")
        assert synced == []  # what failed is put right by whoever notices
        with system.durable():
            pass
        assert synced == []


# --- what each call asks of the system -------------------------------------------------------------------

CALLS: dict[str, Callable[[Path], object]] = {
    "create": lambda folder: system.io.create(folder / "new").close(),
    "replace": lambda folder: system.io.replace(folder / "x", folder.parent / "y"),
    "replace into": lambda folder: system.io.replace(folder.parent / "there", folder / "y"),
    "unlink": lambda folder: system.io.unlink(folder / "x"),
    "rmdir": lambda folder: system.io.rmdir(folder / "empty"),
    "mkdir": lambda folder: system.io.mkdir(folder / "new"),
    "symlink": lambda folder: system.io.symlink("x", folder / "new"),
    "link": lambda folder: system.io.link(folder / "x", folder / "new"),
}


@pytest.mark.parametrize("call", CALLS)
def test_each_change_of_names_has_its_folder_synced(tmp_path: Path, call: str) -> None:
    folder = tmp_path / "folder"
    (folder / "empty").mkdir(parents=True)
    (folder / "x").write_text("x")
    (tmp_path / "there").write_text("y")
    with system.use(noted := Recorder()), system.durable():
        CALLS[call](folder)
    synced = {name for kind, name in noted.calls if kind == "sync_folder"}
    assert synced == ({"folder", tmp_path.name} if call.startswith("replace") else {"folder"})


def test_a_folder_that_was_synced_meanwhile_is_not_synced_again(tmp_path: Path) -> None:
    with system.use(noted := Recorder()), system.durable():
        staged(tmp_path)
    assert len(noted.places("sync_folder", "deep")) == 1


@pytest.mark.skipif(not Path("/proc/self/fd").is_dir(), reason="looks at descriptors as Linux tells of them")
def test_syncing_reaches_the_system_and_leaves_nothing_open(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    synced: list[str] = []
    real = os.fsync

    def fsync(descriptor: int) -> None:
        synced.append(os.readlink(f"/proc/self/fd/{descriptor}"))
        real(descriptor)

    monkeypatch.setattr(os, "fsync", fsync)
    before = os.listdir("/proc/self/fd")
    system.io.sync_folder(tmp_path)
    with system.io.create(tmp_path / "a") as handle:
        system.io.sync(handle)
    assert synced == [str(tmp_path), str(tmp_path / "a")]
    synced.clear()
    writing.write_whole(tmp_path / "b", [b"x"])
    assert synced[1:] == [str(tmp_path)] and Path(synced[0]).name.startswith(TEMPORARY)
    synced.clear()
    with writing.writing(tmp_path / "c") as out:
        out.write(b"x")
    assert synced[1:] == [str(tmp_path)] and Path(synced[0]).name.startswith(TEMPORARY)
    assert os.listdir("/proc/self/fd") == before
    with pytest.raises(FileNotFoundError):
        system.io.sync_folder(tmp_path / "nowhere")


def test_a_link_has_its_own_time_and_owner(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    given: list[tuple[int, int]] = []

    class Noting(system.SystemIO):
        def chown(self, path: str | Path, owner: int, group: int) -> None:
            given.append((owner, group))

    (tmp_path / "x").write_text("x")
    before = (tmp_path / "x").stat()
    monkeypatch.setattr(metadata, "may_give_away", lambda: True)
    with system.use(Noting()):
        writing.place_link(tmp_path / "a", "x", Metadata(mtime_ns=WHEN, owner=5, group=6))
        writing.place_link(tmp_path / "b", "x", Metadata())
        writing.place_link(tmp_path / "d", "x", Metadata(owner=0, group=0))
        monkeypatch.setattr(metadata, "may_give_away", lambda: False)
        writing.place_link(tmp_path / "c", "x", Metadata(owner=5))
    assert given == [(5, 6), (0, 0)]
    if os.utime in os.supports_follow_symlinks:
        assert (tmp_path / "a").lstat().st_mtime_ns == WHEN
        assert (tmp_path / "b").lstat().st_mtime_ns != WHEN
    assert (tmp_path / "x").stat() == before


def test_what_is_no_refusal_of_the_system_is_not_taken_for_one(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A fault of our own comes through as it is, wherever the system's refusals are expected."""

    class Broken(system.SystemIO):
        def replace(self, source: Path, target: Path) -> None:
            raise ValueError("a fault of ours")

        def unlink(self, path: str | Path) -> None:
            raise ValueError("another")

        def reopen(self, path: str | Path) -> BinaryIO:
            raise ValueError("a third")

    (tmp_path / "a").write_text("x")
    (tmp_path / f"{TEMPORARY}1").write_text("x")
    with system.use(Broken()):
        with pytest.raises(ValueError, match="a fault of ours"):
            writing.move_in(tmp_path / "a", tmp_path / "b", Metadata())
        with pytest.raises(ValueError, match="a third"):
            metadata.persist_metadata(tmp_path / "a", Metadata())
        with pytest.raises(ValueError, match="another"):
            writing.sweep(tmp_path)

    def broken(*told: object, **more: object) -> None:
        raise ValueError("a fault of ours")

    with monkeypatch.context() as patch:
        patch.setattr(sqlite3, "connect", broken)
        with (
            pytest.raises(ValueError, match="a fault of ours"),
            private.exclusive_lock(tmp_path / "lock", lambda: Refused("held")),
        ):
            pass


def test_an_output_that_goes_on_is_appended_to(tmp_path: Path) -> None:
    for text in (b"one\n", b"two\n"):
        with writing.appending(tmp_path / "log") as log:
            log.write(text)
    assert (tmp_path / "log").read_bytes() == b"one\ntwo\n"


def test_archives_may_be_written_through_the_one_module(tmp_path: Path) -> None:
    """Packages that write archives seek, tell, flush and close as they like; the file counts once the block ends."""
    with (
        system.use(FaultyIO(10**9, None)),
        writing.writing(tmp_path / "a.zip") as out,
        zipfile.ZipFile(out, "w") as archive,
    ):
        archive.writestr("x", "tide " * 90)
        assert not (tmp_path / "a.zip").exists()
    with zipfile.ZipFile(tmp_path / "a.zip") as archive:
        assert archive.testzip() is None and archive.read("x") == b"tide " * 90
    with writing.writing(tmp_path / "b") as out:
        assert out.seekable() and out.tell() == 0
        assert out.write(b"tide") == 4
        assert out.seek(1) == 1
        out.flush()
        out.close()
        out.write(b"I")
    assert (tmp_path / "b").read_bytes() == b"tIde"
