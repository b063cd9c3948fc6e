"""Writing a snapshot as an ordinary archive: .tar, .tar.zst or .zip, by the file's name.

A tar (POSIX pax form) keeps all that a snapshot keeps: times to the nanosecond, owners, links, hard links and names
that are not UTF-8. A zip keeps modes, symbolic links and times to the second; a hard link becomes a file of its
own.
"""

from __future__ import annotations

import io
import os
import stat
import struct
import tarfile
import zipfile
from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import BinaryIO

import zstandard

from emberkeep.callbacks import Progress, no_op
from emberkeep.errors import Refused, UsageError, system_may_refuse
from emberkeep.fs import writing
from emberkeep.fs.trees import FILE, FOLDER, LINK, Entry
from emberkeep.store.manifest import beside
from emberkeep.store.tree import SnapshotTree

Chunks = Callable[[str], Iterator[bytes]]
"""Gives the contents of a file by its path in the archive."""
SUFFIXES = (".tar", ".tar.zst", ".zip")


def export(
    tree: SnapshotTree,
    wanted: Callable[[str], bool],
    target: Path,
    *,
    databases: Sequence[str] = (),
    progress: Progress = no_op,
) -> tuple[int, int]:
    """Write what is ``wanted`` of a snapshot as ``target``, all or nothing; files and bytes written. ``databases``:
    those whose dumps go along, as ``databases/NAME.sql``.

    Refused when ``target`` is there. Damage when the store cannot give a file back whole. RunFailed when the system
    refuses.
    """
    suffix = next((end for end in reversed(SUFFIXES) if target.name.lower().endswith(end)), "")
    if not suffix:
        raise UsageError(f"{target.name} does not say what to write", hint=f"end it in {', '.join(SUFFIXES)}")
    if target.exists():
        raise Refused(f"{target} is there already", hint="name another file")
    entries = {path: entry for path, entry in tree.entries().items() if wanted(path)}
    dumps = {f"databases/{name}.sql": beside(name, ".sql") for name in databases}
    for path, own in dumps.items():
        entry = tree.beside(own)
        if entry is not None:
            entries[path] = entry._replace(path=path)
    if not entries:
        raise UsageError(f"nothing in {tree.label} is selected; no archive was written")

    def chunks(path: str) -> Iterator[bytes]:
        return tree.chunks(dumps.get(path, path))

    write = _zip if suffix == ".zip" else _tar
    hint = "nothing was left there; make room or mend that, and try again"
    with system_may_refuse("the archive could not be written", target, hint), writing.writing(target) as handle:
        if suffix == ".tar.zst":
            with zstandard.ZstdCompressor(level=3, threads=-1).stream_writer(handle, closefd=False) as packed:
                write(chunks, entries, packed, progress)
        else:
            write(chunks, entries, handle, progress)
    return sum(entry.kind is FILE for entry in entries.values()), sum(entry.size for entry in entries.values())


def _tar(chunks: Chunks, entries: Mapping[str, Entry], out: BinaryIO, progress: Progress) -> None:
    total, done = sum(entry.size for entry in entries.values()), 0
    # What lies in a folder follows the folder at once: tar sets a folder's time as soon as it comes to something else.
    paths = sorted(entries, key=lambda path: path.split("/"))
    with tarfile.open(fileobj=out, mode="w|", format=tarfile.PAX_FORMAT, errors="surrogateescape") as archive:
        for path in paths:
            entry = entries[path]
            info = _info(entry, entries)
            source = _Stream(chunks(path)) if info.isreg() else None
            archive.addfile(info, source)
            done += entry.size
            progress(done, total)


def _info(entry: Entry, entries: Mapping[str, Entry]) -> tarfile.TarInfo:
    info = tarfile.TarInfo(entry.path)
    info.mode, info.mtime = entry.mode, entry.mtime_ns // 1_000_000_000
    if entry.mtime_ns % 1_000_000_000:
        whole, part = divmod(abs(entry.mtime_ns), 1_000_000_000)
        info.pax_headers = {"mtime": f"{'-' if entry.mtime_ns < 0 else ''}{whole}.{part:09d}"}
    if entry.owner >= 0:
        info.uid, info.gid = entry.owner, entry.group
    if entry.kind is FOLDER:
        info.type = tarfile.DIRTYPE
    elif entry.kind is LINK:
        info.type, info.linkname = tarfile.SYMTYPE, entry.points_at
    elif entry.same_as in entries:
        info.type, info.linkname = tarfile.LNKTYPE, entry.same_as
    else:
        info.size = entry.size
    return info


class _Stream(io.RawIOBase):
    """Pieces of contents as something to read from."""

    def __init__(self, chunks: Iterator[bytes]) -> None:
        self._chunks = chunks
        self._held = b""

    def read(self, size: int = -1) -> bytes:
        while size < 0 or len(self._held) < size:
            chunk = next(self._chunks, b"")
            if not chunk:
                break
            self._held += chunk
        given, self._held = (self._held, b"") if size < 0 else (self._held[:size], self._held[size:])
        return given


_UNIX_TIME = struct.Struct("<HHBi")
"""The zip format's extended timestamp: id 0x5455, 5 bytes, flag for the modification time, seconds since 1970."""


def _zip(chunks: Chunks, entries: Mapping[str, Entry], out: BinaryIO, progress: Progress) -> None:
    total, done = sum(entry.size for entry in entries.values()), 0
    for path in entries:
        try:
            path.encode("utf-8")
        except UnicodeEncodeError:
            raise UsageError(f"a zip cannot hold the name {path!r}, which is not UTF-8", hint="write a .tar") from None
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, compresslevel=6) as archive:
        for path, entry in entries.items():
            info = _zip_info(entry)
            if entry.kind is FILE:
                with archive.open(info, "w", force_zip64=entry.size > 1 << 30) as member:
                    for chunk in chunks(path):
                        member.write(chunk)
            else:
                archive.writestr(info, os.fsencode(entry.points_at))
            done += entry.size
            progress(done, total)


def _zip_info(entry: Entry) -> zipfile.ZipInfo:
    seconds = entry.mtime_ns // 1_000_000_000
    moment = datetime.fromtimestamp(min(max(seconds, 315_532_800), 4_354_819_198), UTC)  # a zip knows 1980 to 2107
    info = zipfile.ZipInfo(entry.path + ("/" if entry.kind is FOLDER else ""), moment.timetuple()[:6])
    kind = {FILE: stat.S_IFREG, FOLDER: stat.S_IFDIR, LINK: stat.S_IFLNK}[entry.kind]
    info.create_system = 3
    info.external_attr = (kind | entry.mode) << 16 | (0x10 if entry.kind is FOLDER else 0)
    info.compress_type = zipfile.ZIP_STORED if entry.kind is not FILE else zipfile.ZIP_DEFLATED
    if -(1 << 31) <= seconds < 1 << 31:
        info.extra = _UNIX_TIME.pack(0x5455, 5, 1, seconds)
    return info
