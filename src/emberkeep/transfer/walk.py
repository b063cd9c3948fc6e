"""All that a far server folder holds, by its listings; and the same as a tree."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from emberkeep.errors import Place, Refused, UnreadableInput
from emberkeep.fs.scan import TEMPORARY
from emberkeep.fs.trees import Entry, Kind, Skipped, Still, digest_of
from emberkeep.transfer.pool import ConnectionPool, RemoteConnection
from emberkeep.transfer.protocol import RemoteEntry, RemoteError, RemoteFileSystem, SkippedEntry

DEEPEST = 64
MOST = 2_000_000
"""Folders within folders, and names, that no server has: a listing without end is broken off."""
LOOKS = 3
"""How often a folder is asked for what stands in it: some hosts trip over what another connection renames meanwhile."""


@dataclass(frozen=True)
class Listing:
    """What a far folder holds, by path; ``odd``: names that are left out; ``leftovers``: temporary files of ours."""

    entries: Mapping[str, RemoteEntry]
    odd: tuple[SkippedEntry, ...] = ()
    leftovers: tuple[str, ...] = ()

    @property
    def timeless(self) -> bool:
        """Whether it tells no times, so that a file of the same size may hold something else."""
        return any(entry.kind is Kind.FILE and entry.mtime_ns is None for entry in self.entries.values())


def walk(pool: ConnectionPool, on_count: Callable[[int], None] = lambda count: None) -> Listing:
    """List everything, some folders at a time. ``on_count``: called with the number of names so far.

    Refused when the folder is not there, or is without end.
    """
    found: dict[str, RemoteEntry] = {}
    odd: list[SkippedEntry] = []
    leftovers: list[str] = []
    guard = threading.Lock()

    def look(line: RemoteConnection, folder: str) -> Sequence[str]:
        items = _listed(line, folder, odd)
        below = []
        with guard:
            for item in items:
                if isinstance(item, SkippedEntry):
                    odd.append(item)
                elif item.path.rpartition("/")[2].startswith(TEMPORARY):
                    leftovers.append(item.path)
                elif item.path not in found:
                    found[item.path] = item
                    below += [item.path] if item.kind is Kind.FOLDER else []
            if len(found) > MOST or folder.count("/") > DEEPEST:
                raise Refused(
                    f"{folder or 'the folder'} seems to have no end",
                    place=Place(str(line.settings.address)),
                    hint="see the folder there with another program; a link may lead into itself",
                )
            on_count(len(found))
        return below

    pool.each([""], look)
    return Listing({path: found[path] for path in sorted(found)}, tuple(odd), tuple(sorted(leftovers)))


def _listed(line: RemoteConnection, folder: str, odd: list[SkippedEntry]) -> list[RemoteEntry | SkippedEntry]:
    try:
        return line.do(lambda host: list(host.listing(folder)), f"cannot list {folder or 'the server folder'}")
    except RemoteError as error:
        if folder:
            return [SkippedEntry(folder, f"cannot be listed: {error}")]
        raise Refused(
            f"the server folder cannot be listed: {error}",
            place=Place(str(line.settings.address)),
            hint="is it the right folder? An address names it from the root, or with /~/ from where one arrives",
        ) from None


@dataclass
class RemoteTree(Still):
    """A far folder, or a part of it, read over one connection."""

    line: RemoteConnection
    listing: Listing
    wanted: Callable[[str], bool] = lambda path: True
    _skipped: list[Skipped] = field(default_factory=list)

    def __post_init__(self) -> None:
        self._entries = {path: _entry(entry) for path, entry in self.listing.entries.items() if self.wanted(path)}
        self._skipped += [Skipped(odd.path, odd.why) for odd in self.listing.odd]

    @property
    def label(self) -> str:
        """The address."""
        return str(self.line.settings.address)

    @property
    def skipped(self) -> tuple[Skipped, ...]:
        """Names that are not taken, and folders that could not be listed."""
        return tuple(self._skipped)

    @property
    def top(self) -> Entry | None:
        """None: a listing tells nothing of its own folder."""
        return None

    def entries(self) -> Mapping[str, Entry]:
        """What the listing told, by path."""
        return self._entries

    def chunks(self, path: str) -> Iterator[bytes]:
        """The contents of a file, fetched now."""
        size = self.listing.entries[path].size
        at = 0
        try:
            for chunk in self.line.steady(path, 0, size, f"cannot read {path}"):
                at += len(chunk)
                yield chunk
        except RemoteError as error:
            raise UnreadableInput(f"cannot read {path}: {error}", place=Place(self.label)) from None
        if size >= 0 and at != size:
            raise UnreadableInput(
                f"{path} has {at} bytes where the listing tells {size}: it changed meanwhile",
                place=Place(self.label),
                hint="stop the server, and try again",
            )

    def digest(self, path: str) -> str:
        """BLAKE3 of a file, worked out by fetching it."""
        return digest_of(self.chunks(path))


def _entry(found: RemoteEntry) -> Entry:
    mode = found.mode if found.mode is not None else 0o755 if found.kind is Kind.FOLDER else 0o644
    return Entry(found.path, found.kind, mode, found.mtime_ns or 0, max(0, found.size), found.points_at)


def now_there(host: RemoteFileSystem, path: str) -> RemoteEntry | None:
    """What a fresh listing tells of one path; None when nothing is there. RemoteError where its folder is there and the
    host does not list it: then nobody knows."""
    folder = path.rpartition("/")[0]
    for left in reversed(range(LOOKS)):
        try:
            found = list(host.listing(folder))
            return next((item for item in found if isinstance(item, RemoteEntry) and item.path == path), None)
        except RemoteError:
            if not left and (not folder or now_there(host, folder) is not None):
                raise
    return None
