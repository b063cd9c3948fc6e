"""Modes, owners and times of what is written, and what of them could not be set."""

from __future__ import annotations

import errno
import os
import stat
import sys
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

from emberkeep.fs import system

OWNERS, MODES = "owners", "modes"


class Metadata(NamedTuple):
    """What a file or folder has beside its contents; what is None (or, for numbers of people, negative) is left
    alone."""

    mode: int | None = None
    mtime_ns: int | None = None
    owner: int = -1
    group: int = -1


def may_give_away() -> bool:
    """Whether this process may set owners and groups as it likes."""
    return sys.platform != "win32" and os.geteuid() == 0


def set_metadata(path: str | Path, facts: Metadata, *, ours: bool = False) -> None:
    """Give a file or folder owner and group (where permitted), mode and time, in the order in which each survives
    the next. A disk that keeps no owners or no modes, as FAT, is given none: :func:`not_given` tells, but
    for files of ``ours`` ('emberkeep check' tells of these)."""
    give_owner(path, facts)
    if facts.mode is not None:
        mode = facts.mode
        _give(lambda: system.io.chmod(path, mode), lambda: system.io.chmod(path, stat.S_IMODE(os.lstat(path).st_mode)))
        if not ours and os.name != "nt" and stat.S_IMODE(os.lstat(path).st_mode) != mode:
            _not_given.append(MODES)
    if facts.mtime_ns is not None:
        system.io.utime(path, facts.mtime_ns)


_not_given: list[str] = []


def not_given() -> Counter[str]:
    """How many files and folders did not take their :data:`OWNERS` or :data:`MODES` since this was asked last: their
    disk keeps none, or this process may not set them."""
    found = Counter(_not_given)
    _not_given.clear()
    return found


def give_owner(path: str | Path, facts: Metadata) -> None:
    """Set owner and group, where they are told and this process may."""
    wanted = facts.owner, facts.group
    if facts.owner < 0 or not may_give_away():
        return
    now = os.lstat(path)
    _give(lambda: system.io.chown(path, *wanted), lambda: system.io.chown(path, now.st_uid, now.st_gid))
    now = os.lstat(path)
    if now.st_uid != facts.owner or facts.group not in (-1, now.st_gid):
        _not_given.append(OWNERS)


_NOT_KEPT = (errno.EPERM, errno.ENOSYS, errno.ENOTSUP)
"""What a system says of a fact that a disk does not keep; also, in part, of one that this user may not give."""


def _give(new: Callable[[], None], same: Callable[[], None]) -> None:
    """Give a file a fact that its disk may not keep: then what it has already can be given, or none can be at all."""
    try:
        new()
    except OSError as error:
        if error.errno not in _NOT_KEPT:
            raise
        try:
            same()
        except OSError as again:
            if again.errno not in (errno.ENOSYS, errno.ENOTSUP):
                raise error from None


def persist_metadata(path: str | Path, facts: Metadata, *, ours: bool = False) -> None:
    """Give a written file its facts, and sync both; facts alone where it may not be read. ``ours``: see
    :func:`set_metadata`."""
    try:
        handle = system.io.reopen(path)  # before its mode may forbid that
    except PermissionError:
        set_metadata(path, facts, ours=ours)
        return
    with handle:
        set_metadata(path, facts, ours=ours)
        system.io.sync(handle)


def has_metadata(path: str | Path, facts: Metadata) -> bool:
    """Whether a file or folder has its facts already."""
    now = os.lstat(path)
    mode = facts.mode is None or stat.S_IMODE(now.st_mode) == facts.mode
    time = facts.mtime_ns is None or now.st_mtime_ns == facts.mtime_ns
    people = facts.owner < 0 or not may_give_away() or (now.st_uid, now.st_gid) == (facts.owner, facts.group)
    return mode and time and people


def set_folder_metadata(path: str | Path, facts: Metadata) -> None:
    """Give a folder the facts that it lacks; they are synced at the end of the :func:`durable` block."""
    if has_metadata(path, facts):
        return
    set_metadata(path, facts)
    if system.io.unsynced is not None:
        system.io.unsynced.add(str(path))
