"""Archives (.zip, .tar, .tar.gz, .tar.bz2, .tar.xz, .tar.zst) as trees, read without unpacking them to disk.

What strangers may put into an archive is refused as a whole: names that lead out of it, that are ours, longer or deeper
than any file has; the same name twice; links that point outside, or by way of others might; sizes that only a bomb has,
of contents and of headers. Owners and the right to run as them are not taken over. Devices and the like are left out
and listed.
"""

from __future__ import annotations

import bz2
import datetime
import decimal
import gzip
import lzma
import stat
import struct
import tarfile
import tempfile
import zipfile
import zlib
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO, cast

import zstandard

from emberkeep.errors import Place, UnreadableInput, UsageError
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.scan import TEMPORARY
from emberkeep.fs.trees import CHUNK, Entry, Kind, Skipped, Still, Tree, digest_of, fitting, parents, whole

RATIO = 200
"""An archive may unpack to this many times its size …"""
ALWAYS = 512 << 20
"""… or to this many bytes, whichever is more."""

LONGEST, DEEPEST = 4096, 100
"""Characters and folders of a name, and characters of what a link points at."""
_LARGEST_HEADER = 1 << 20
"""Bytes that a header of a tar may take, and that are read from one at a time."""
_EACH = 1 << 10
"""What a member counts beside its contents."""
MOST = 1_000_000
"""Members of an archive."""
_FAR_MORE = "it would unpack to far more than an archive of this size holds"
_AGAIN = "it is damaged or cut short; get it again from where it came"
_BROKEN = (
    *(OSError, EOFError, ValueError, RuntimeError, struct.error),
    *(zipfile.BadZipFile, tarfile.TarError, zlib.error, lzma.LZMAError, zstandard.ZstdError),
)
"""What the packages that read archives raise on damaged ones, and on kinds of them that they do not read."""
_ZSTD, _USTAR = b"\x28\xb5\x2f\xfd", b"ustar"
TAR_NAMES = (".tar", ".tar.gz", ".tgz", ".tar.bz2", ".tbz2", ".tar.xz", ".txz", ".tar.zst", ".tzst")


@dataclass
class ArchiveTree(Still):
    """An archive as a tree. ``open_member`` gives a readable stream for a file in it."""

    path: Path
    _entries: dict[str, Entry]
    _skipped: tuple[Skipped, ...]
    _open: Callable[[str], IO[bytes]]

    @property
    def label(self) -> str:
        """The archive's name."""
        return self.path.name

    @property
    def skipped(self) -> tuple[Skipped, ...]:
        """Members that would lead out of the folder, or are neither file, folder nor link."""
        return self._skipped

    @property
    def top(self) -> Entry | None:
        """None: an archive tells nothing of the folder it came from."""
        return None

    def entries(self) -> Mapping[str, Entry]:
        """The members that are safe to unpack, by path."""
        return self._entries

    def chunks(self, path: str) -> Iterator[bytes]:
        """The contents of a member. UnreadableInput where the archive is damaged there."""
        try:
            with self._open(path) as handle:  # gives no more than the archive says that the member holds
                while chunk := handle.read(CHUNK):
                    yield chunk
        except _BROKEN as error:
            raise UnreadableInput(f"cannot unpack {path}: {error}", place=Place(str(self.path)), hint=_AGAIN) from error

    def digest(self, path: str) -> str:
        """BLAKE3 of a member, worked out by reading it."""
        return digest_of(self.chunks(path))


def is_archive(path: Path) -> bool:
    """Whether a file is an archive we read, by its content, or by a tar's usual names."""
    return path.is_file() and (zipfile.is_zipfile(path) or _is_tar(path))


def _is_tar(path: Path) -> bool:
    """Whether a file is called as tars are, or its first 512 bytes, unpacked, are the header of one (POSIX ustar)."""
    if path.name.lower().endswith(TAR_NAMES):
        return True
    try:
        with path.open("rb") as handle:
            if handle.read(4) == _ZSTD:
                handle.seek(0)
                return zstandard.ZstdDecompressor().stream_reader(handle).read(512)[257:262] == _USTAR
        with _packed(path) as packed:
            return packed.read(512)[257:262] == _USTAR
    except _BROKEN:
        return False


def open_source(source: Path, *, partly: bool = False) -> Tree:
    """A folder or an archive as a tree. UsageError when it is neither; UnreadableInput where a part of a folder could
    not be listed or read, unless ``partly``."""
    if source.is_dir():
        return FolderTree(source) if partly else whole(FolderTree(source))
    if not source.exists():
        raise UsageError(f"{source} is not there")
    return open_archive(source)


def open_archive(path: Path) -> ArchiveTree:
    """The tree in an archive. UnreadableInput says what is wrong with it and that nothing was taken."""
    try:
        if zipfile.is_zipfile(path):
            return _open_zip(path)
        if _is_tar(path):
            return _open_tar(path)
    except _BROKEN as error:
        raise UnreadableInput(f"not a whole archive: {error}", place=Place(str(path)), hint=_AGAIN) from error
    raise UnreadableInput(
        "not an archive we know",
        place=Place(str(path)),
        hint="a folder, .zip or .tar(.gz .bz2 .xz .zst) is wanted",
    )


@dataclass
class _Gathered:
    """Entries of an archive while they are checked."""

    path: Path
    entries: dict[str, Entry] = field(default_factory=dict)
    skipped: list[Skipped] = field(default_factory=list)
    total: int = 0
    headers: int = 0

    def add(self, entry: Entry) -> None:
        if entry.kind is not Kind.FOLDER and entry.path in self.entries:
            raise UnreadableInput(f"{entry.path!r} is in it twice", place=Place(str(self.path)))
        if entry.kind is Kind.LINK and _leads_out(entry):
            raise UnreadableInput(
                f"the link {entry.path!r} points out of it, at {entry.points_at[:200]!r}",
                place=Place(str(self.path)),
            )
        if len(self.entries) >= MOST:
            raise UnreadableInput(f"it holds more than {MOST} files", place=Place(str(self.path)))
        self.total += entry.size
        self.headers += _EACH
        if max(self.total, self.headers) > _most(self.path):
            raise UnreadableInput(_FAR_MORE, place=Place(str(self.path)))
        for parent in reversed([*parents(entry.path)]):
            self.entries.setdefault(parent, Entry(parent, Kind.FOLDER, 0o755, entry.mtime_ns))
        self.entries[entry.path] = entry

    def whole(self) -> dict[str, Entry]:
        """All of them, once the last one is in. UnreadableInput where one lies below a link or a file."""
        for path in self.entries:
            for parent in reversed([*parents(path)]):
                if self.entries[parent].kind is not Kind.FOLDER:
                    raise UnreadableInput(
                        f"{path!r} would lie below {parent!r}, which is no folder", place=Place(str(self.path))
                    )
        return self.entries

    def name(self, raw: str) -> str:
        """A member's name as a path of ours; "" for the root itself."""
        if len(raw) > LONGEST or raw.count("/") + raw.count("\\") > DEEPEST:
            raise UnreadableInput(
                f"the name {raw[:60]!r}… is longer or deeper than any file has", place=Place(str(self.path))
            )
        parts = [part for part in raw.replace("\\", "/").split("/") if part not in ("", ".")]
        outside = raw.startswith(("/", "\\")) or ".." in parts or "\0" in raw
        if outside or (parts and len(parts[0]) > 1 and parts[0][1] == ":"):
            raise UnreadableInput(f"the name {raw!r} leads out of it", place=Place(str(self.path)))
        if any(part.startswith(TEMPORARY) for part in parts):
            raise UnreadableInput(
                f"the name {raw!r} is one that Ember Keep gives its own temporary files", place=Place(str(self.path))
            )
        return "/".join(parts)


def _leads_out(entry: Entry) -> bool:
    """Whether a link points outside, or up again from anything it passes: that may be a link itself."""
    target = entry.points_at
    if not target or len(target) > LONGEST or target.startswith(("/", "\\")) or target[1:2] == ":" or "\0" in target:
        return True
    parts = [part for part in target.replace("\\", "/").split("/") if part not in ("", ".")]
    up = next((at for at, part in enumerate(parts) if part != ".."), len(parts))
    return up > entry.path.count("/") or ".." in parts[up:]


def _open_zip(path: Path) -> ArchiveTree:
    archive = zipfile.ZipFile(path)
    gathered = _Gathered(path)
    members: dict[str, zipfile.ZipInfo] = {}
    for info in archive.infolist():
        name = gathered.name(info.filename)
        if not name:
            continue
        gathered.add(_zip_entry(archive, info, name))
        members[name] = info
    return ArchiveTree(path, gathered.whole(), tuple(gathered.skipped), lambda name: archive.open(members[name]))


def _zip_entry(archive: zipfile.ZipFile, info: zipfile.ZipInfo, name: str) -> Entry:
    unix = info.external_attr >> 16
    mode = unix & _RIGHTS or (0o755 if info.is_dir() else 0o644)
    mtime = _zip_seconds(info) * 1_000_000_000
    if info.is_dir():
        return Entry(name, Kind.FOLDER, mode, mtime)
    if stat.S_ISLNK(unix):
        if info.file_size > LONGEST:
            raise UnreadableInput(f"the link {name!r} points at a text of {info.file_size} bytes", place=_at(archive))
        points_at = archive.read(info).decode("utf-8", "surrogateescape")
        return Entry(name, Kind.LINK, 0o777, mtime, 0, points_at)
    return Entry(name, Kind.FILE, mode, mtime, info.file_size)


_RIGHTS = 0o777
"""The bits of a mode that are taken over."""


def _at(archive: zipfile.ZipFile) -> Place:
    return Place(str(archive.filename))


def _zip_seconds(info: zipfile.ZipInfo) -> int:
    """Seconds since 1970: of the extended timestamp (0x5455) where there is one, else of the entry's own, taken as
    UTC."""
    at = 0
    while at + 4 <= len(info.extra):
        kind, size = struct.unpack_from("<HH", info.extra, at)
        if kind == 0x5455 and size >= 5 and len(info.extra) >= at + 9 and info.extra[at + 4] & 1:
            return int(struct.unpack_from("<i", info.extra, at + 5)[0])
        at += 4 + size
    try:
        return int(datetime.datetime(*info.date_time, tzinfo=datetime.UTC).timestamp())
    except ValueError:
        return 0


class _Bounded:
    """A tar that is read in pieces: who asks for more at once has met a header that no file has."""

    def __init__(self, handle: IO[bytes], path: Path) -> None:
        self._handle, self._path = handle, path

    def read(self, size: int = -1) -> bytes:
        if not 0 <= size <= _LARGEST_HEADER:
            raise UnreadableInput(f"it holds a header of {size} bytes", place=Place(str(self._path)))
        return self._handle.read(size)

    def seek(self, offset: int, whence: int = 0) -> int:
        return self._handle.seek(offset, whence)

    def tell(self) -> int:
        return self._handle.tell()


def _packed(path: Path) -> IO[bytes]:
    """The tar inside a file, by what the file begins with."""
    with path.open("rb") as handle:
        begin = handle.read(6)
    if begin.startswith(_ZSTD):
        return _unzst(path)
    if begin.startswith(b"\x1f\x8b"):
        return cast(IO[bytes], gzip.open(path))
    if begin.startswith(b"BZh"):
        return bz2.open(path)
    return cast(IO[bytes], lzma.open(path)) if begin == b"\xfd7zXZ\0" else path.open("rb")


def _open_tar(path: Path) -> ArchiveTree:
    packed = _packed(path)
    archive = tarfile.open(fileobj=_Bounded(packed, path), mode="r:")  # type: ignore[call-overload]  # noqa: SIM115
    gathered = _Gathered(path)
    members: dict[str, tarfile.TarInfo] = {}
    for info in archive:
        gathered.headers += sum(len(key) + len(value) for key, value in info.pax_headers.items())
        name = gathered.name(info.name)
        if not name:
            continue
        entry = _tar_entry(info, name)
        info.pax_headers = {}  # which may be long, and are not needed any more
        if info.islnk():
            first = gathered.name(info.linkname)
            if first not in members or not members[first].isfile():
                raise UnreadableInput(f"the hard link {name!r} points at nothing in it", place=Place(str(path)))
            known = gathered.entries[first]
            entry, info = known._replace(path=name, same_as=known.same_as or first), members[first]
        if entry is None:
            gathered.skipped.append(Skipped(name, "neither a file, a folder nor a link"))
            continue
        gathered.add(entry)
        members[name] = info
    _read_through(path, packed)

    def stream(name: str) -> IO[bytes]:
        handle = archive.extractfile(members[name])
        assert handle is not None
        return cast(IO[bytes], handle)

    return ArchiveTree(path, gathered.whole(), tuple(gathered.skipped), stream)


_FAR = decimal.Decimal(1 << 40)
"""Seconds from 1970 that are more than any time has that can be told."""


def _tar_entry(info: tarfile.TarInfo, name: str) -> Entry | None:
    mode = info.mode & _RIGHTS
    exact = info.pax_headers.get("mtime", "")
    try:
        # put within bounds first: a short text can tell of a number that no memory holds
        seconds = min(max(decimal.Decimal(exact or info.mtime), -_FAR), _FAR)
        mtime = fitting(int(seconds * 1_000_000_000))
    except (decimal.DecimalException, ValueError, OverflowError):
        mtime = 0
    if info.isdir():
        return Entry(name, Kind.FOLDER, mode, mtime)
    if info.issym():
        return Entry(name, Kind.LINK, 0o777, mtime, 0, info.linkname)
    return Entry(name, Kind.FILE, mode, mtime, info.size) if info.isfile() else None


def _read_through(path: Path, packed: object) -> None:
    """Read on to the end of what was compressed, where its sum stands: reading members alone would never compare
    that."""
    if not isinstance(packed, gzip.GzipFile | bz2.BZ2File | lzma.LZMAFile):
        return
    limit = _most(path)
    while packed.read(CHUNK):
        if packed.tell() > limit:
            raise UnreadableInput(_FAR_MORE, place=Place(str(path)))


def _most(path: Path) -> int:
    """Bytes that an archive may unpack to."""
    return max(ALWAYS, RATIO * path.stat().st_size)


def _unzst(path: Path) -> IO[bytes]:
    """The tar inside a .tar.zst, in an unnamed temporary file: reading members needs to seek."""
    limit = _most(path)
    out = tempfile.TemporaryFile()  # noqa: SIM115 - lives as long as the tree
    with path.open("rb") as packed:
        for chunk in zstandard.ZstdDecompressor().read_to_iter(packed):
            out.write(chunk)
            if out.tell() > limit:
                raise UnreadableInput(_FAR_MORE, place=Place(str(path)))
    out.seek(0)
    return out
