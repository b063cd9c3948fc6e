"""Is the server running? By processes that work in its folder, by pid files, and by the signs that keep.toml names."""

from __future__ import annotations

import os
import re
import socket
import sys
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from emberkeep.errors import Refused
from emberkeep.fs import globs
from emberkeep.keep.config import Config
from emberkeep.keep.keep import Keep
from emberkeep.keep.tables.process import Process

FRESH = 5.0
"""Seconds since the last write within which a log may be growing …"""
LOOKS_AGAIN = 0.7
"""… and how long it is watched to see whether it does."""


@dataclass(frozen=True)
class Sign:
    """Something that shows that the server runs. ``pid``: of the process seen, 0 where none was."""

    words: str
    pid: int = 0


def running_signs(server: Path, config: Config | None = None) -> tuple[str, ...]:
    """What shows that the server runs, in words; empty when nothing does."""
    return tuple(sign.words for sign in signs(server, config))


def signs(server: Path, config: Config | None = None) -> Iterator[Sign]:
    """What shows that the server runs, the surest first.

    A process counts when its program lies in the folder, when it works there and was started with a file of it or has
    one open for writing, or when its command line fits the pattern of keep.toml. Our own process and those that
    started it do not count, nor do programs that people look at files with.
    """
    root = Path(os.path.realpath(server))
    expected = config.running.process if config else Process()
    yield from _processes(root, expected.command)
    yield from _pid_files(root, expected.pid_file)
    yield from _listening(expected.address)
    yield from _locked(root, expected.lock)
    yield from _growing(root, expected.grows or (config.log.within if config else ()))


def _processes(root: Path, command: str) -> Iterator[Sign]:
    import psutil  # only by the commands that look for processes

    ours = {process.pid for process in (psutil.Process(), *psutil.Process().parents())}
    for process in psutil.process_iter(["pid", "name", "exe", "cwd", "cmdline", "status"]):
        facts = process.info
        if facts["pid"] in ours or facts["status"] == psutil.STATUS_ZOMBIE or _only_looks(facts["name"]):
            continue
        if _inside(facts["exe"], root) or _started_with(facts["cwd"], facts["cmdline"], root):
            yield Sign(f"process {facts['pid']} ({facts['name']}) runs from this folder", facts["pid"])
        elif (path := _writes(process, facts["cwd"], facts["cmdline"], root)) is not None:
            yield Sign(f"process {facts['pid']} ({facts['name']}) has {path} open for writing", facts["pid"])
        elif command and re.search(command, " ".join(facts["cmdline"] or ())):
            yield Sign(f"process {facts['pid']} ({facts['name']}) has the server's command line", facts["pid"])


def opened(server: Path) -> frozenset[str]:
    """Files below a folder that programs which run from it or work in it have open for writing."""
    import psutil  # only where somebody asks

    root = Path(os.path.realpath(server))
    found: set[str] = set()
    for process in psutil.process_iter(["pid", "name", "exe", "cwd", "cmdline"]):
        facts = process.info
        if facts["pid"] != os.getpid() and not _only_looks(facts["name"]):
            near = _inside(facts["exe"], root) or _started_with(facts["cwd"], facts["cmdline"], root)
            found.update(_written(process, root) if near else ())
    return frozenset(found)


_LOOKING = frozenset(
    (
        "tail",
        "less",
        "more",
        "cat",
        "head",
        "grep",
        "watch",
        "vi",
        "vim",
        "nvim",
        "nano",
        "emacs",
        "micro",
        "find",
        "du",
    )
)
"""Programs with which admins look at files of a running or stopped server."""


def _only_looks(name: str | None) -> bool:
    return (name or "").lower().removesuffix(".exe") in _LOOKING


def _inside(path: str | None, root: Path) -> bool:
    return bool(path) and root in Path(str(path)).parents


def _started_with(cwd: str | None, arguments: list[str] | None, root: Path) -> bool:
    if not cwd or not (Path(cwd) == root or root in Path(cwd).parents):
        return False
    for argument in (arguments or [])[:3]:
        path = Path(os.path.normpath(Path(cwd, argument)))
        if "\0" not in argument and root in path.parents and path.is_file():
            return True
    return False


def _writes(process: Any, cwd: str | None, arguments: list[str] | None, root: Path) -> str | None:
    """A file below ``root`` that a process has open for writing; only those are asked that work there or name it."""
    near = bool(cwd) and (Path(str(cwd)) == root or root in Path(str(cwd)).parents)
    if not near and not any(str(root) in argument for argument in arguments or ()):
        return None
    return next(iter(_written(process, root)), None)


def _written(process: Any, root: Path) -> Iterator[str]:
    """The files below ``root`` that a process has open for writing."""
    import psutil

    try:
        every = process.open_files()
    except (psutil.Error, OSError):
        return
    for one in every:
        if root in Path(one.path).parents and getattr(one, "mode", "r") != "r":
            yield Path(one.path).relative_to(root).as_posix()


def pid_files(root: Path, text: str) -> list[Path]:
    """The files in a server folder that name the process that runs there; ``text``: the one keep.toml names, or ""."""
    return sorted({*root.glob("*.pid"), *([root / text] if text else [])})


def _pid_files(root: Path, text: str) -> Iterator[Sign]:
    for path in pid_files(root, text):
        try:
            number = int(path.read_text(encoding="ascii").split()[0])
        except (OSError, ValueError, IndexError):
            continue
        if alive(number):
            yield Sign(f"{path.name} names process {number}, which is alive", number)


def alive(pid: int) -> bool:
    """Whether a process of this number lives; one that has ended and only waits to be noticed does not."""
    import psutil

    try:
        return pid > 0 and psutil.Process(pid).status() != psutil.STATUS_ZOMBIE
    except psutil.Error:
        return False


def _listening(address: str) -> Iterator[Sign]:
    if not address:
        return
    host, _, port = address.rpartition(":")
    try:
        with socket.create_connection((host.strip("[]"), int(port)), timeout=1):
            yield Sign(f"something listens at {address}")
    except OSError:
        return


def _locked(root: Path, lock: str) -> Iterator[Sign]:
    if lock and is_locked(root / lock):
        yield Sign(f"{lock} is locked")


def is_locked(path: Path) -> bool:
    """Whether another process holds a lock on a file, by either way of locking; on Windows: whether it may not be
    opened for writing."""
    try:
        descriptor = os.open(path, os.O_RDWR)
    except FileNotFoundError:
        return False
    except OSError:
        return True
    try:
        if sys.platform == "win32":
            return False
        import fcntl

        for way in (fcntl.lockf, fcntl.flock):
            try:
                way(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except OSError:
                return True
        return False
    finally:
        os.close(descriptor)


def _growing(root: Path, within: Sequence[str]) -> Iterator[Sign]:
    """A log that was just written to, watched for a moment."""
    fresh = [path for path in matching(root, within) if _age(path) < FRESH]
    if not fresh:
        return
    before = {path: _size(path) for path in fresh}
    end = time.monotonic() + LOOKS_AGAIN
    while time.monotonic() < end:
        for path in fresh:
            if _size(path) != before[path]:
                yield Sign(f"{path.relative_to(root).as_posix()} is growing")
                return
        time.sleep(0.05)


def matching(root: Path, within: Sequence[str]) -> list[Path]:
    """The files below ``root`` that fit any of the patterns; only the folders that patterns begin with are listed."""
    found: set[Path] = set()
    for pattern in within:
        start = pattern[: pattern.index("*")] if "*" in pattern else pattern
        folder = root / start.rpartition("/")[0]
        for where, _, names in os.walk(folder):
            for name in names:
                path = Path(where, name)
                if globs.matches(path.relative_to(root).as_posix(), [pattern]) and not path.is_symlink():
                    found.add(path)
            if "**" not in pattern:
                break
    return sorted(found)


def _age(path: Path) -> float:
    try:
        return time.time() - path.stat().st_mtime
    except OSError:
        return FRESH


def _size(path: Path) -> int:
    try:
        return path.stat().st_size
    except OSError:
        return -1


def refuse_if_running(keep: Keep, what: str) -> None:
    """Refused, with the first sign seen, when the server runs."""
    sign = next(signs(keep.server, keep.config), None)
    if sign is not None:
        raise Refused(f"the server is running ({sign.words}); {what}", hint="'emberkeep stop --go', and try again")


def wait_for(condition: Callable[[], bool], limit: float, every: float = 0.1) -> bool:
    """Whether ``condition`` came true within ``limit`` seconds."""
    end = time.monotonic() + limit
    while not condition():
        if time.monotonic() >= end:
            return False
        time.sleep(min(every, max(0.0, end - time.monotonic())))
    return True
