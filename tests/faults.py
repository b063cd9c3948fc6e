"""File calls that fail, stop the program, or lose what was not synced: put in place of the product's own with ``files.use``."""

from __future__ import annotations

import os
import random
import shutil
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Any, BinaryIO

from emberkeep.fs import system
from tests import depth

CALLS = (
    "create",
    "write",
    "sync",
    "reopen",
    "sync_folder",
    "sync_disk",
    "replace",
    "unlink",
    "rmdir",
    "mkdir",
    "symlink",
    "link",
    "chmod",
    "chown",
    "utime",
    "truncate",
    "skip",
)


class Stop(BaseException):
    """The program ends here, as if killed: nothing of ours may catch it to tidy up."""


def _counted(name: str) -> Callable[..., Any]:
    def call(self: FaultyIO, *args: Any) -> Any:
        self._step(name, args)
        return getattr(system.SystemIO, name)(self, *args)

    return call


class FaultyIO(system.SystemIO):
    """Counts the writing calls and fails, or stops everything, at the n-th; a write then gets half-way."""

    def __init__(self, at: int, error: BaseException | None) -> None:
        self.left = at
        self.error = error
        self.stopped = False

    def _step(self, name: str, args: tuple[Any, ...]) -> None:
        if self.stopped:
            raise Stop  # a dead program does not clean up
        self.left -= 1
        if self.left == 0 and self.error is not None:
            if name == "write":
                args[0].write(args[1][: len(args[1]) // 2])
            self.stopped = isinstance(self.error, Stop)
            raise self.error


for _name in CALLS:
    setattr(FaultyIO, _name, _counted(_name))


def moments(calls: int, quick: int, thorough: int = 10**9) -> list[int]:
    """Calls at which to disturb an act that makes ``calls`` of them: the first, the last, and the one *after* the last,
    when all has been said to be done; between these as many as the depth has it, drawn evenly by chance."""
    inner = range(2, calls)
    most = min(depth.number("KILLS", quick, thorough), len(inner))
    return [1, *sorted(random.Random(calls).sample(inner, most)), calls, calls + 1]


def count_calls(act: Callable[[], object]) -> int:
    """How many writing calls ``act`` makes."""
    counting = FaultyIO(10**9, None)
    with system.use(counting):
        act()
    return 10**9 - counting.left


class Recorder(FaultyIO):
    """Lets every call through and notes it: its name and the last part of the path that it is about."""

    def __init__(self) -> None:
        super().__init__(10**9, None)
        self.calls: list[tuple[str, str]] = []

    def _step(self, name: str, args: tuple[Any, ...]) -> None:
        super()._step(name, args)
        about = getattr(args[0], "name", args[0])  # a handle's path, or a path
        self.calls.append((name, Path(str(about)).name))

    def places(self, name: str, ending: str) -> list[int]:
        """Where in the order of calls those of a name stand whose path ends so."""
        return [at for at, (call, about) in enumerate(self.calls) if call == name and about.endswith(ending)]


class PowerCut(FaultyIO):
    """Stops at the n-th call; :meth:`cut` then takes back what was not synced, as a power cut may.

    Contents written after a file's last sync are lost in part. Names made, renamed or removed since their folder's last
    sync, and modes and times given since a file's or folder's own, are lost from some moment on that ``chance`` picks: a
    journal keeps a beginning of them.
    """

    def __init__(self, at: int, chance: random.Random, room: Path) -> None:
        super().__init__(at, Stop())
        self._chance = chance
        self._room = room
        self._synced: dict[Path, int] = {}
        self._names: list[tuple[Path, Callable[[], object]]] = []
        """Changes that are not synced yet, and what takes each back, by the path whose sync makes it last."""
        self._open: dict[int, Path] = {}
        self._saved = 0
        self.at_once = True
        """Whether the system has a call that syncs a whole disk."""

    def create(self, path: str | Path) -> BinaryIO:
        handle: BinaryIO = super().create(path)
        path = Path(path)
        self._open[id(handle)] = path
        self._synced[path] = 0
        self._names.append((path.parent, lambda: path.unlink(missing_ok=True)))
        return handle

    def reopen(self, path: str | Path) -> BinaryIO:
        handle: BinaryIO = super().reopen(path)
        self._open[id(handle)] = Path(path)
        return handle

    def sync(self, handle: BinaryIO) -> None:
        super().sync(handle)
        path = self._open[id(handle)]
        self._synced[path] = os.fstat(handle.fileno()).st_size
        self._settled(path)

    def sync_folder(self, path: str | Path) -> None:
        super().sync_folder(path)
        self._settled(Path(path))

    def sync_disk(self, folder: Path) -> bool:
        if not (self.at_once and super().sync_disk(folder)):
            return False
        self._names.clear()
        self._synced = {path: path.stat().st_size for path in self._synced if path.exists()}
        return True

    def _settled(self, path: Path) -> None:
        def open_yet(where: Path) -> bool:
            return where != path and (where.exists() or path not in where.parents)  # a folder that is gone has no names

        self._names = [(where, back) for where, back in self._names if open_yet(where)]

    def chmod(self, path: str | Path, mode: int) -> None:
        before = Path(path).stat().st_mode & 0o7777
        super().chmod(path, mode)
        self._names.append((Path(path), lambda: _if_there(os.chmod, path, before)))

    def utime(self, path: str | Path, mtime_ns: int) -> None:
        facts = os.lstat(path)
        super().utime(path, mtime_ns)
        times = (facts.st_atime_ns, facts.st_mtime_ns)
        if not os.path.islink(path):
            self._names.append((Path(path), lambda: _if_there(os.utime, path, ns=times)))

    def replace(self, source: Path, target: Path) -> None:
        saved = self._save(target)
        super().replace(source, target)
        self._synced[target] = self._synced.pop(source, target.lstat().st_size)

        def back() -> None:
            if target.exists() and not target.is_dir():
                os.replace(target, source)
            if saved is not None:
                shutil.copy2(saved, target)

        self._names.append((target.parent, back))

    def unlink(self, path: Path) -> None:
        saved = self._save(path)
        super().unlink(path)
        if saved is not None:
            self._names.append((path.parent, lambda: _again(saved, path)))

    def mkdir(self, path: Path, mode: int = 0o777) -> None:
        super().mkdir(path, mode)
        self._names.append((path.parent, lambda: shutil.rmtree(path, ignore_errors=True)))

    def rmdir(self, path: Path) -> None:
        facts = path.stat()
        super().rmdir(path)

        def back() -> None:
            path.mkdir(facts.st_mode & 0o7777)
            os.utime(path, ns=(facts.st_atime_ns, facts.st_mtime_ns))

        self._names.append((path.parent, back))

    def _save(self, path: Path) -> Path | None:
        if path.is_symlink() or not path.is_file():
            return None
        self._saved += 1
        saved = self._room / str(self._saved)
        shutil.copy2(path, saved)
        return saved

    def cut(self) -> None:
        """What the disk holds after the lights went out."""
        for path, synced in self._synced.items():
            if path.is_file() and not path.is_symlink() and path.stat().st_size > synced:
                os.truncate(path, self._chance.randint(synced, path.stat().st_size))
        keep = self._chance.randint(0, len(self._names))
        for _, back in reversed(self._names[keep:]):
            back()


def _again(saved: Path, path: Path) -> None:
    if not path.exists():
        shutil.copy2(saved, path)


def _if_there(act: Callable[..., object], path: str | Path, *args: Any, **how: Any) -> None:
    with suppress(FileNotFoundError):
        act(path, *args, **how)
