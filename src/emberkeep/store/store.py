"""A snapshot store: its folder, its one writer, and reading from it.

::

    store/
      format                 b"emberkeep store 3\\n", twice: where the two differ, it is damaged
      packs/NNNNNNNN.pack    blocks, see ``packs``
      snapshots/NNNNNN.manifest
      defaults/VERSION.manifest
      index                  cache, see ``index``
      seen                   cache, see ``stat_cache``
      damaged                places that are known to be damaged, see ``damage``
      verified               empty; written whenever all of the store was found sound
      lock, holder           one writer at a time; readers never wait
      keeps/NAME/            a store that several keeps share has snapshots, defaults and seen here, see ``shared``

A snapshot becomes visible by the rename of its manifest, after its pack is synced and renamed: a writer killed
at any instant leaves the earlier snapshots whole and nothing else that counts.
"""

from __future__ import annotations

import contextlib
import errno
import os
import shutil
import stat
import threading
from collections import OrderedDict
from collections.abc import Callable, Collection, Iterable, Iterator
from dataclasses import replace
from datetime import UTC, datetime
from itertools import groupby
from pathlib import Path

from blake3 import blake3

from emberkeep.callbacks import Say, no_op
from emberkeep.errors import Damage, Place, Refused, UsageError, reason
from emberkeep.fs import private, system
from emberkeep.fs import writing as files
from emberkeep.fs.trees import content_hasher, zeros
from emberkeep.store import damage
from emberkeep.store import extents as lists
from emberkeep.store import index as indexes
from emberkeep.store import manifest as manifests
from emberkeep.store import packs as pack_files
from emberkeep.store.extents import HOLE, Extent
from emberkeep.store.manifest import About, Manifest, ManifestName
from emberkeep.store.packs import BlockId, Location, PackReader
from emberkeep.store.reuse import PIECE
from emberkeep.store.table import FileRow

_LINE = b"emberkeep store 3\n"
FORMAT = _LINE * 2
OTHER = "this store was written by another version of Ember Keep"
_ASKED_ABOUT = 8
"""Files of a store that are asked which format they are of, where the store's own word for it is damaged."""
_MANIFESTS = 3
"""Manifests kept at hand."""
AT_HAND = 24 << 20
"""Raw bytes of blocks kept at hand."""


class Recent:
    """Raw blocks that were used lately, up to :data:`AT_HAND` bytes of them and the newest always. Not safe by itself
    for several threads."""

    def __init__(self) -> None:
        self.blocks: OrderedDict[BlockId, bytes] = OrderedDict()
        self.bytes = 0

    def get(self, block: BlockId) -> bytes | None:
        """A block that is at hand; None for any other."""
        raw = self.blocks.get(block)
        if raw is not None:
            self.blocks.move_to_end(block)
        return raw

    def put(self, block: BlockId, raw: bytes) -> None:
        """Keep a block at hand; the longest unused ones go when there is no more room."""
        if block in self.blocks:  # another thread may have read it meanwhile
            return
        self.blocks[block] = raw
        self.bytes += len(raw)
        while self.bytes > AT_HAND and len(self.blocks) > 1:
            self.bytes -= len(self.blocks.popitem(last=False)[1])


VERIFIED = "verified"
HOLDER = "holder"
KEEPS = "keeps"
"""Where a store that several keeps share has what is of each of them."""
SHARED_PATIENCE = 1800.0
"""Seconds that a writer to a store which several keeps share waits for its turn."""


class Store:
    """A store on disk, as one keep sees it. Opening one reads nothing but its format line; the first writing makes the
    folder. ``member``: the name of the keep in a store that several share, "" in one of its own. ``patience``: seconds
    that a writer waits for another one; ``on_wait`` hears of it. ``still``: whether the keep's snapshots
    still lie here."""

    def __init__(self, folder: Path, reader: PackReader | None = None, *, member: str = "") -> None:
        self.folder = folder
        self.member = member
        self.own = folder / KEEPS / member if member else folder
        self.patience = SHARED_PATIENCE if member else 0.0
        self.on_wait: Say = no_op
        self.still: Callable[[], bool] = lambda: True
        self.packs = folder / "packs"
        self._reader = reader or PackReader(self.packs)
        self._index: indexes.Index | None = None
        self.recent = Recent()
        self._manifests: dict[str, Manifest] = {}
        self._guard = threading.Lock()
        self._damaged: set[damage.Spot] | None = None
        self._holding = False
        self.format_damaged = self.format_mended = False
        if folder.exists():
            self._check_format()

    def _check_format(self) -> None:
        try:
            found = (self.folder / "format").read_bytes()
        except FileNotFoundError:
            return
        if found in (FORMAT, _LINE):  # the line alone, as it was first written
            return
        half = len(found) // 2
        if (half and found[:half] == found[half:]) or not self._is_of_this_version():
            raise Refused(
                OTHER,
                place=Place(str(self.folder / "format")),
                hint="update Ember Keep and try again",
            )
        self.format_damaged = True

    def _is_of_this_version(self) -> bool:
        """Whether what the store holds is: each of its files tells its own format."""
        there = [*self.packs.glob("*.pack"), *self.folder.glob("*/*.manifest")]
        with contextlib.suppress(OSError):
            for path in there[:_ASKED_ABOUT]:
                with path.open("rb") as handle:
                    if handle.read(len(manifests.MAGIC)).startswith((manifests.MAGIC, pack_files.MAGIC)):
                        return True
        return False

    def close(self) -> None:
        """Close open packs."""
        self._reader.close()

    # --- reading -------------------------------------------------------------

    @property
    def index(self) -> indexes.Index:
        """Where each block lies, loaded on first use."""
        if self._index is None:
            self._index = self._loaded()
        return self._index

    def _loaded(self) -> indexes.Index:
        """The index without what is known to be damaged; of such blocks, any other copy."""
        index = indexes.load(self.folder / "index", self.packs)
        spots = {(spot.pack, spot.offset) for spot in self.damaged}
        lost = {block for block, at in index.items() if (at.pack, at.offset) in spots} if spots else set()
        if not lost:
            return index
        again = indexes.rebuild(self.packs, but=spots)
        return {**{block: at for block, at in index.items() if block not in lost}, **again}

    @property
    def damaged(self) -> set[damage.Spot]:
        """Places in the packs that are known to be damaged."""
        if self._damaged is None:
            self._damaged = damage.load(self.folder / "damaged", self.packs, self._reader)
        return self._damaged

    def note_damage(self, spots: Iterable[damage.Spot]) -> None:
        """Lean on these places no more, and remember that, where the store may be written to and nobody else does."""
        found = self.damaged | set(spots)
        if not found:
            return
        self._damaged, self._index = found, None
        with contextlib.suppress(Refused, OSError), self.writing():
            damage.save(self.folder / "damaged", found)

    def note_verified(self) -> None:
        """Remember that all of it was found sound just now, where the store may be written to."""
        with contextlib.suppress(Refused, OSError):
            files.write_whole(self.folder / VERIFIED, [b""])

    @property
    def verified(self) -> datetime | None:
        """When all of it was last found sound; None where it never was."""
        try:
            return datetime.fromtimestamp((self.folder / VERIFIED).stat().st_mtime, UTC)
        except OSError:
            return None

    def forget_index(self) -> None:
        """Read the index anew when it is next asked for: another writer may have changed the store."""
        self._index = self._damaged = None

    def save_index(self) -> None:
        """Have the index on disk be that of the packs that are there."""
        if not indexes.is_current(self.folder / "index", self.packs):
            indexes.save(self.folder / "index", self.packs, self.index)

    def replace_index(self, index: indexes.Index, without: Collection[int] = ()) -> None:
        """Go on with another index, and write it as the index of all packs but those of numbers ``without``."""
        self._index = index
        indexes.save(self.folder / "index", self.packs, index, without)

    def needed_files(self) -> dict[str, Path]:
        """The files that this keep needs of it, by their names in a store of its own."""
        found = {name: self.folder / name for name in ("format", "index")}
        found |= {f"packs/{path.name}": path for path in self.packs.glob("*.pack")}
        found |= {f"{path.parent.name}/{path.name}": path for path in map(self.path_of, self.names())}
        return {**found, "seen": self.own / "seen"}

    def size(self) -> int:
        """Bytes that the store takes on disk."""
        return sum(map(_size_of, self.folder.rglob("*")))

    def free(self) -> int:
        """Bytes left on the store's disk."""
        return shutil.disk_usage(self.folder if self.folder.is_dir() else self.folder.parent).free

    def numbers(self) -> list[int]:
        """The snapshots' numbers, ascending."""
        return sorted(int(path.stem) for path in (self.own / "snapshots").glob("*.manifest") if path.stem.isdigit())

    def versions(self) -> list[str]:
        """The versions whose defaults are recorded, in no particular order."""
        return [path.name.removesuffix(".manifest") for path in (self.own / "defaults").glob("*.manifest")]

    def manifest_path(self, label: str, *, defaults: bool = False) -> Path:
        """The file that holds the manifest of a snapshot's number or of a version's defaults."""
        return self.path_of(ManifestName(label, defaults))

    def path_of(self, name: ManifestName) -> Path:
        """The file of a manifest."""
        at = self.folder / KEEPS / name.keep if name.keep else self.own
        return at / ("defaults" if name.defaults else "snapshots") / name.file

    def names(self) -> list[ManifestName]:
        """All that this keep has here: snapshots by number, then recorded defaults."""
        snapshots = [ManifestName(str(number)) for number in self.numbers()]
        return snapshots + [ManifestName(version, True) for version in sorted(self.versions())]

    def others(self) -> list[Store]:
        """The store as the other keeps that share it see it, by name; none where it is this keep's own."""
        folders = sorted((self.folder / KEEPS).glob("*")) if self.member else []
        names = [folder.name for folder in folders if folder.name != self.member and folder.is_dir()]
        return [Store(self.folder, self._reader, member=name) for name in names]

    def all_names(self) -> list[ManifestName]:
        """All that lies here, of this keep and then of those that share the store."""
        return self.names() + [name._replace(keep=other.member) for other in self.others() for name in other.names()]

    def manifest(self, label: str, *, defaults: bool = False) -> Manifest:
        """A manifest, checked. UsageError when there is none, Damage when it is not what was written."""
        return self.manifest_of(ManifestName(label, defaults))

    def manifest_of(self, name: ManifestName) -> Manifest:
        """The same by name."""
        return self.parsed(*self.manifest_file(name))

    def parsed(self, data: bytes, name: str) -> Manifest:
        """A manifest from its bytes. The last ones are kept at hand, by what they hold: a run asks for the same ones
        several times, and snapshots of an unchanged server hold the same."""
        key = manifests.check_of(data)
        if not key or key not in self._manifests:
            self.keep_at_hand(key, manifests.parse(data, name))
        return replace(self._manifests[key], about=manifests.parse_about(data, name))

    def keep_at_hand(self, key: str, manifest: Manifest) -> None:
        """Keep a manifest by what it holds; the oldest one goes when there are too many."""
        while len(self._manifests) >= _MANIFESTS:
            self._manifests.pop(next(iter(self._manifests)))
        self._manifests[key] = manifest

    def manifest_file(self, name: ManifestName) -> tuple[bytes, str]:
        """The bytes of a manifest file, unchecked, and its name within the store. UsageError when there is none."""
        path = self.path_of(name)
        return self.bytes_of(path), _within(self.folder, path)

    def about(self, label: str, *, defaults: bool = False) -> About:
        """The facts of a manifest alone."""
        return manifests.parse_about(*self.manifest_file(ManifestName(label, defaults)))

    def bytes_of(self, path: Path) -> bytes:
        """The bytes of a manifest file. UsageError when there is none."""
        try:
            return path.read_bytes()
        except FileNotFoundError:
            raise UsageError(
                f"there is no {path.stem.lstrip('0')} in this keep",
                hint="'emberkeep history' and 'emberkeep defaults list' show what there is",
            ) from None

    def block(self, block: BlockId) -> bytes:
        """The raw bytes of a block, checked. Several threads may ask at once."""
        with self._guard:
            raw = self.recent.get(block)
            if raw is not None:
                return raw
            location = self._located(block)
        try:
            raw = self._reader.read(block, location)
        except Damage:
            with self._guard:
                self.damaged.add(damage.Spot(location.pack, location.offset, block))
                self.index.pop(block, None)
            raise
        with self._guard:
            self.recent.put(block, raw)
        return raw

    def location(self, block: BlockId) -> Location:
        """Where a block lies; Damage when it is missing."""
        with self._guard:
            return self._located(block)

    def _located(self, block: BlockId) -> Location:
        location = self.index.get(block)
        if location is not None and self._reader.there(location.pack):
            return location
        # another writer may have added packs, or put packs together, since the index was read
        self._index = self._loaded()
        location = self._index.get(block)
        if location is None:
            raise Damage(f"block {block.hex()[:12]} is missing from the store", hint="run 'emberkeep verify'")
        return location

    def extents(self, held: FileRow) -> list[Extent]:
        """The extents of a file's contents, in order."""
        return lists.extents_of(held.place, self.block) if held.place else []

    def holds(self, held: FileRow) -> bool:
        """Whether every block that a file needs can be found."""
        try:
            for extent in self.extents(held):
                if extent.block != HOLE:
                    self.location(extent.block)
        except Damage:
            return False
        return True

    def contents(self, held: FileRow, *, holes: bool = False) -> Iterator[files.Chunk]:
        """A file's contents, piece by piece; the whole is checked against its digest at the end.

        ``holes``: a hole comes as its length instead of as zeros.
        """
        hasher = content_hasher()
        at = 0
        for is_hole, extents in groupby(self.extents(held), lambda extent: extent.block == HOLE):
            if not is_hole:
                for raw in lists.gathered(extents, self.block, PIECE):
                    hasher.update(raw)
                    yield raw
                    at += len(raw)
                continue
            length = sum(extent.length for extent in extents)
            at += length
            for raw in zeros(at - length, at):
                hasher.update(raw)
                if not holes:
                    yield raw
            if holes:
                yield length
        if hasher.hexdigest() != held.digest:
            raise Damage(
                "the blocks of this file do not add up to it",
                place=Place(held.entry.path),
                hint="run 'emberkeep verify'",
            )

    def short(self, held: FileRow) -> bytes | None:
        """A file's contents where they are one stretch of one block, as those of most files are; None where not."""
        place = held.place
        if place is None or place.depth or place.block == HOLE:
            return None
        raw = self.block(place.block)
        if place.length != len(raw):
            raw = raw[place.offset : place.offset + place.length]
        elif place.block.hex() == held.digest:
            return raw  # a block is checked when it is read
        if blake3(raw).hexdigest() != held.digest:
            raise Damage(
                "the block of this file does not hold it", place=Place(held.entry.path), hint="run 'emberkeep verify'"
            )
        return raw

    # --- writing -------------------------------------------------------------

    @contextlib.contextmanager
    def writing(self) -> Iterator[None]:
        """Hold the store's one writer's place; Refused, naming the holder, when somebody else has it. Who holds it
        by this very object may ask again."""
        if self._holding:
            yield
            return
        self._check_still()
        with self._may_be_written():
            for folder in (self.folder, self.packs, self.own.parent, self.own, *self._own_folders):
                files.make_folder(folder, private=True)
            if not (self.folder / "format").exists():
                files.write_whole(self.folder / "format", [FORMAT])
        with private.exclusive_lock(self.folder / "lock", self._is_held, self.patience, self._wait):
            self._check_still()
            with self._may_be_written():
                if self.format_damaged:
                    files.write_whole(self.folder / "format", [FORMAT])
                    self.format_damaged, self.format_mended = False, True
                who = f" for {self.member}" if self.member else ""
                files.write_whole(self.folder / HOLDER, [f"process {os.getpid()}{who}\n".encode()])
                self._sweep()
            self._holding = True
            try:
                yield
            finally:
                self._holding = False

    @property
    def _own_folders(self) -> tuple[Path, Path]:
        return self.own / "snapshots", self.own / "defaults"

    def _check_still(self) -> None:
        """Refused where the snapshots were moved to another store since this one was opened."""
        if not self.still():
            raise Refused("the snapshots of this keep were moved just now; nothing was written", hint="run it again")

    @contextlib.contextmanager
    def _may_be_written(self) -> Iterator[None]:
        """Refused where the store is only to be read."""
        try:
            yield
        except OSError as error:
            if error.errno not in (errno.EROFS, errno.EACCES, errno.EPERM):
                raise
            raise Refused(
                f"the keep cannot be written to: {reason(error)}",
                place=Place(str(error.filename or self.folder)),
                hint="what only reads works all the same: history, verify, diff, restore --into, export",
            ) from None

    def _is_held(self) -> Refused:
        what = "the store that this keep shares" if self.member else "this keep"
        return Refused(
            f"another Ember Keep is writing to {what} ({self.holder or 'unknown process'})",
            hint="wait until it has finished; the lock goes away with it",
        )

    @property
    def holder(self) -> str:
        """Who is writing, or wrote last, in words; "" where nobody knows."""
        try:
            return (self.folder / HOLDER).read_text(errors="replace").strip()
        except OSError:
            return ""

    def _wait(self) -> None:
        self.on_wait(f"waiting for {self.holder or 'another process'}, which writes to the shared store")

    def _sweep(self) -> None:
        for folder in {self.folder, self.own, *self._own_folders}:
            files.sweep(folder)
        for part in self.packs.glob("*.part"):
            system.io.unlink(part)


def _size_of(path: Path) -> int:
    """Bytes of a file; none of what is no file, or was deleted just now by another program."""
    try:
        facts = path.stat()
    except OSError:
        return 0
    return facts.st_size if stat.S_ISREG(facts.st_mode) else 0


def _within(folder: Path, path: Path) -> str:
    return path.relative_to(folder).as_posix()
