"""Whether what the admin wrote in the keep is still what it was, unless a hand changed it."""

from __future__ import annotations

from contextlib import suppress

from emberkeep.fs.trees import digest_of, file_chunks
from emberkeep.keep.keep import Keep
from emberkeep.operations.record.journal import Journal


def _written(keep: Keep) -> dict[str, tuple[int, int, str]]:
    found = {}
    for path in keep.written:
        with suppress(OSError):
            facts = path.stat()
            digest = digest_of(file_chunks(path))
            found[path.relative_to(keep.folder).as_posix()] = (facts.st_size, facts.st_mtime_ns, digest)
    return found


def remember_written(keep: Keep) -> None:
    """Record what the admin has written in the keep, so that a later fault of the disk in it is seen."""
    journal, now = Journal(keep.folder), _written(keep)
    if now != journal.remembered():
        journal.remember(now)


def rotten(keep: Keep) -> list[str]:
    """Files of the keep that hold something else than they did, though nobody has saved them since: no hand did
    that."""
    before = Journal(keep.folder).remembered()
    now = _written(keep) if before else {}
    return [path for path, facts in now.items() if path in before and _is_rotten(before[path], facts)]


def _is_rotten(before: tuple[int, int, str], now: tuple[int, int, str]) -> bool:
    return before[:2] == now[:2] and before[2] != now[2]
