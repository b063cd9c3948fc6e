"""Whether what the admin wrote in the keep is still what it was, unless a hand changed it."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import suppress

from emberkeep.fs.trees import digest_of, file_chunks
from emberkeep.keep.keep import Keep
from emberkeep.operations.record.journal_file import JournalFile


class _WrittenFiles(JournalFile):
    def replace_all(self, written: Mapping[str, tuple[int, int, str]]) -> None:
        """Record size, mtime (ns) and BLAKE3 (hex) of files, in place of all that were recorded."""
        with self.opened() as database:
            database.execute("delete from told")
            rows = [(path, *facts) for path, facts in written.items()]
            database.executemany("insert into told values (?, ?, ?, ?)", rows)

    def all(self) -> dict[str, tuple[int, int, str]]:
        """What was recorded last."""
        return {row[0]: (row[1], row[2], row[3]) for row in self.ask("select path, size, mtime, digest from told")}


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
    recorded, now = _WrittenFiles(keep.folder), _written(keep)
    if now != recorded.all():
        recorded.replace_all(now)


def rotten(keep: Keep) -> list[str]:
    """Files of the keep that hold something else than they did, though nobody has saved them since: no hand did
    that."""
    before = _WrittenFiles(keep.folder).all()
    now = _written(keep) if before else {}
    return [path for path, facts in now.items() if path in before and _is_rotten(before[path], facts)]


def _is_rotten(before: tuple[int, int, str], now: tuple[int, int, str]) -> bool:
    return before[:2] == now[:2] and before[2] != now[2]
