"""A folder as a tree, read as it was scanned."""

from __future__ import annotations

import contextlib
import errno
import os
import stat
import sys
from array import array
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path

from emberkeep.errors import UnreadableInput, reason
from emberkeep.fs.scan import FACTS, Facts, Root, Scan, facts_of
from emberkeep.fs.sorted_paths import SortedPaths
from emberkeep.fs.trees import (
    AS_IT_IS,
    CHUNK,
    FILE,
    FOLDER,
    LINK,
    MOST,
    NO_FILE,
    SET_ID,
    Entry,
    Hole,
    Kind,
    OnDemand,
    Skipped,
    Stamp,
    chunks_of,
    digest_of,
    fitting,
)


@dataclass
class FolderTree:
    """A folder on disk, read without ever following a link.

    Devices, sockets, pipes and whatever may not be read are left out and listed in ``skipped``.
    """

    root: Path
    name: str = ""
    stamps: Mapping[str, tuple[int, int]] = field(default_factory=dict, repr=False)
    """ctime (ns) and inode of each file as the scan found it."""
    copied: dict[str, Path] = field(default_factory=dict, repr=False)
    """Files whose contents are read from a copy."""
    digests: Mapping[str, str] = field(default_factory=dict, repr=False)
    """BLAKE3 of files that need not be read, as nobody has written to them since somebody did."""
    _entries: Mapping[str, Entry] | None = field(default=None, repr=False)
    _skipped: list[Skipped] = field(default_factory=list, repr=False)
    _sparse: set[str] = field(default_factory=set, repr=False)
    _scan: Scan | None = field(default=None, repr=False)
    _fingerprint: str | None = field(default=None, repr=False)

    def __post_init__(self) -> None:
        self._way = Root(str(self.root))

    @property
    def label(self) -> str:
        """What was told at making, else the path."""
        return self.name or str(self.root)

    @property
    def skipped(self) -> tuple[Skipped, ...]:
        """What could not be read, or is neither file, folder nor link."""
        self.entries()
        return tuple(self._skipped)

    @property
    def top(self) -> Entry | None:
        """The folder itself."""
        facts = self.root.stat()
        mode = stat.S_IMODE(facts.st_mode)
        return Entry("", Kind.FOLDER, mode, fitting(facts.st_mtime_ns), 0, "", facts.st_uid, facts.st_gid)

    def on_disk(self, path: str) -> Path | None:
        """Where a file of it lies, or its copy where one was made."""
        return self.copied.get(path, self.root / path)

    @property
    def leftovers(self) -> tuple[str, ...]:
        """Temporary files of ours that an interrupted run left behind; they are no entries."""
        return tuple(self.scanned().temporary)

    def entries(self) -> Mapping[str, Entry]:
        """What stood there at the scan, by path."""
        if self._entries is None:
            scan = self.scanned()
            self._skipped = [Skipped(path, why) for path, why in scan.unread]
            self._sparse = set(scan.sparse)
            self._entries = self._of_many(scan) if len(scan.paths) > VERY_MANY else self._of_few(scan)
        return self._entries

    def _of_few(self, scan: Scan) -> dict[str, Entry]:
        found: dict[str, Entry] = {}
        stamps: dict[str, tuple[int, int]] = {}
        for path, facts in scan.rows:
            entry = self._kept(path, facts)
            if entry is not None:
                found[path] = entry
                if entry.kind is FILE:
                    stamps[path] = (facts[8], facts[1])
        self.stamps = stamps
        found.update(_further_names(scan, found))
        return {path: found[path] for path in sorted(found)}

    def _of_many(self, scan: Scan) -> Mapping[str, Entry]:
        """The same in as little memory as may be: entries are made of what was scanned when they are asked for."""
        paths, facts = scan.paths, scan.facts
        rare: dict[str, Entry] = {}
        left: set[str] = set()
        for path, each in scan.rows:
            form = each[0] & _TYPE
            if form == _FOLDER or (form == _REGULAR and each[3] < 2):
                continue
            entry = self._kept(path, each)
            if entry is None:
                left.add(path)
            else:
                rare[path] = entry
        rare.update(_further_names(scan, rare))
        self.fingerprint()  # while it can be told
        order = array("I", sorted(range(len(paths)), key=paths.__getitem__))
        if left:
            order = array("I", (number for number in order if paths[number] not in left))
        at = SortedPaths(map(paths.__getitem__, order), order)
        scan.paths = []
        self.stamps = _ManyStamps(at, facts)
        return _ManyEntries(at, facts, rare)

    def _kept(self, path: str, facts: Facts) -> Entry | None:
        """The entry at a path; None, and it is skipped, where there can be none."""
        try:
            entry = self._entry(path, facts)
        except OSError as error:
            self._skipped.append(Skipped(path, f"cannot be read: {reason(error)}"))
            return None
        if entry is None:
            self._skipped.append(Skipped(path, NO_FILE))
        return entry

    def now_at(self, path: str) -> Entry | None:
        """What stands at one path now, without a scan; None where nothing does."""
        try:
            return self._entry(path, facts_of(self._facts(path)))
        except OSError:
            return None

    def _facts(self, path: str) -> os.stat_result:
        name, folder = self._way.at(path)
        return os.stat(name, dir_fd=folder, follow_symlinks=False)

    def fingerprint(self) -> str:
        """Of what the scan found, see ``scan``; "" where something could not be read. Many times quicker than making
        the entries."""
        if self._fingerprint is None:
            self._fingerprint = self._fingerprint_of(self.scanned())
        return self._fingerprint

    def _fingerprint_of(self, scan: Scan) -> str:
        return scan.fingerprint()

    def scanned(self) -> Scan:
        """What the system told of the folder, asked once."""
        if self._scan is None:
            try:
                self._scan = Scan(str(self.root))
            except OSError as error:
                raise UnreadableInput(f"cannot list {self.root}: {reason(error)}") from error
        return self._scan

    def _entry(self, path: str, facts: Facts) -> Entry | None:
        """Every path of a large tree comes through here, so what is common is done without a further call."""
        full, _, _, _, owner, group, size, when, _ = facts
        kind, target = FILE, ""
        form = full & _TYPE
        if form != _REGULAR:
            size = 0
            if form == _FOLDER:
                kind = FOLDER
            elif form == _LINK:
                name, folder = self._way.at(path)
                kind, target = LINK, os.readlink(name, dir_fd=folder)
            else:
                return None
        if not -MOST < when < MOST:
            when = fitting(when)
        return tuple.__new__(Entry, (path, kind, full & 0o7777, when, size, target, owner, group, ""))

    def chunks(self, path: str) -> Iterator[bytes]:
        """The contents of a file as it is now. UnreadableInput where it cannot be read, or is none any more."""
        try:
            entry = self.entries().get(path)
            descriptor = self._open(path, entry)
            holes = holes_of(descriptor) if path in self._sparse else ()
            yield from chunks_of(descriptor, entry.size if entry else CHUNK, holes)
        except OSError as error:
            raise UnreadableInput(f"cannot read {self.root / path}: {reason(error)}") from error

    def _open(self, path: str, entry: Entry | None) -> int:
        """A descriptor of a file, and of nothing else that may stand there by now."""
        try:
            name, folder = self._way.at(path)
            descriptor = os.open(name, AS_IT_IS, dir_fd=folder)
        except FileNotFoundError:  # perhaps its folder was put in another's place
            self._way.anew()
            name, folder = self._way.at(path)
            descriptor = os.open(name, AS_IT_IS, dir_fd=folder)
        facts = os.fstat(descriptor)
        wrong = "" if stat.S_ISREG(facts.st_mode) else "it is no file any more"
        if entry is not None and entry.mode & SET_ID and (entry.owner, entry.group) != (facts.st_uid, facts.st_gid):
            wrong = "it was replaced meanwhile"  # what runs as its owner must be its owner's
        if wrong:
            os.close(descriptor)
            raise OSError(errno.EINVAL, wrong, path)
        return descriptor

    def digest(self, path: str) -> str:
        """BLAKE3 of a file, read now unless it is known."""
        known = self.digests.get(path) if path not in self.copied else None
        return known or digest_of(self.chunks(path))

    def stamp(self, path: str) -> Stamp | None:
        """Size, times (ns) and inode of a file now, by which a change is seen; () when it is gone."""
        try:
            facts = self._facts(path)
        except OSError:
            return ()  # gone: it can only differ from what it was
        inode = facts.st_ino if _LISTS_INODES else 0
        return facts.st_size, fitting(facts.st_mtime_ns), facts.st_ctime_ns, inode

    def holes(self, path: str) -> tuple[Hole, ...]:
        """Where a sparse file has no data, as the disk tells."""
        if path not in self._sparse:
            return ()
        try:
            descriptor = self._open(path, None)
        except OSError:
            return ()  # reading it tells what is wrong
        try:
            return holes_of(descriptor)
        finally:
            os.close(descriptor)

    def changed(self, path: str) -> None:
        """Nothing: it is read as it then is."""
        return


_TYPE = 0o170000
"""The bits of a mode that say what kind of thing it is."""


_REGULAR, _FOLDER, _LINK = stat.S_IFREG, stat.S_IFDIR, stat.S_IFLNK


def _further_names(scan: Scan, found: Mapping[str, Entry]) -> dict[str, Entry]:
    """The entries of the further names of files that have several, with the first of them."""
    names: dict[tuple[int, int], list[str]] = {}
    for path, facts in scan.rows:
        if facts[3] > 1 and path in found and found[path].kind is FILE:
            names.setdefault((facts[2], facts[1]), []).append(path)
    several = [(first, path) for first, *others in map(sorted, names.values()) for path in others]
    return {path: found[path]._replace(same_as=first) for first, path in several}


class _ManyEntries(OnDemand[Entry]):
    """Entries made of packed facts. ``rare``: those that such facts do not tell all of, links and files with several
    names."""

    def __init__(self, at: Mapping[str, int], facts: bytearray, rare: Mapping[str, Entry]) -> None:
        super().__init__(at)
        self._facts, self._rare = facts, rare

    def made(self, path: str, at: int) -> Entry:
        """The entry at a path."""
        if path in self._rare:
            return self._rare[path]
        full, _, _, _, owner, group, size, when, _ = FACTS.unpack_from(self._facts, at * FACTS.size)
        kind, size = (FILE, size) if full & _TYPE == _REGULAR else (FOLDER, 0)
        return tuple.__new__(Entry, (path, kind, full & 0o7777, when, size, "", owner, group, ""))


class _ManyStamps(Mapping[str, tuple[int, int]]):
    """The stamps of files by path, made of packed facts; other paths have none."""

    def __init__(self, at: Mapping[str, int], facts: bytearray) -> None:
        self._at, self._facts = at, facts

    def __getitem__(self, path: str) -> tuple[int, int]:
        facts = FACTS.unpack_from(self._facts, self._at[path] * FACTS.size)
        if facts[0] & _TYPE != _REGULAR:
            raise KeyError(path)
        return facts[8], facts[1]

    def __iter__(self) -> Iterator[str]:
        return (path for path in self._at if path in self)

    def __len__(self) -> int:
        return sum(1 for _ in self)


VERY_MANY = 50_000
"""Of more paths than this what was scanned is kept packed, and an entry is made each time when it is asked for."""
_LISTS_INODES = os.name != "nt"
"""Whether listing a folder tells inodes; Windows gives 0 there."""


def holes_of(descriptor: int) -> tuple[Hole, ...]:
    """Where an open file has no data (lseek(2), SEEK_HOLE); none where the system or the disk cannot tell. It is then
    read from its beginning."""
    if sys.platform == "win32" or not hasattr(os, "SEEK_HOLE"):
        return ()
    found: list[Hole] = []
    end, at = os.fstat(descriptor).st_size, 0
    with contextlib.suppress(OSError):
        while at < end and (hole := os.lseek(descriptor, at, os.SEEK_HOLE)) < end:
            try:
                at = os.lseek(descriptor, hole, os.SEEK_DATA)
            except OSError as error:
                if error.errno != errno.ENXIO:
                    raise
                at = end  # nothing but a hole up to the end
            found.append((hole, at))
    os.lseek(descriptor, 0, os.SEEK_SET)
    return tuple(found)
