"""The snapshot store of one keep: its folder, its one writer, and reading from it.

::

    store/
      format                 b"emberkeep store 1\\n"
      packs/NNNNNNNN.pack    blocks, see ``packs``
      snapshots/NNNNNN.manifest
      defaults/VERSION.manifest
      index                  cache, see ``index``
      lock, holder           one writer at a time; readers never wait

A snapshot becomes visible by the rename of its manifest, after its pack is synced and renamed: a writer killed
at any instant leaves the earlier snapshots whole and nothing else that counts.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, replace
from pathlib import Path

from blake3 import blake3

from emberkeep import files
from emberkeep.errors import Damage, Place, Refused, UnreadableInput, UsageError
from emberkeep.store import index as indexes
from emberkeep.store import manifest as manifests
from emberkeep.store.cutting import cut
from emberkeep.store.manifest import About, Held, Manifest
from emberkeep.store.packs import (
    DATA,
    LIST,
    BlockId,
    PackReader,
    PackWriter,
    block_id,
    pack_numbers,
    parse_list,
    serialize_list,
)
from emberkeep.trees import Entry, Kind, Skipped, Tree

FORMAT = b"emberkeep store 1\n"
Progress = Callable[[int, int], None]
"""Called with bytes done and bytes in all."""


def silent(done: int, total: int) -> None:
    """A progress that shows nothing."""


class Store:
    """A store on disk. Opening one reads nothing but its format line; ``create`` makes the folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.packs = folder / "packs"
        self._reader = PackReader(self.packs)
        self._index: indexes.Index | None = None
        if folder.exists():
            self._check_format()

    def _check_format(self) -> None:
        try:
            found = (self.folder / "format").read_bytes()
        except FileNotFoundError:
            return
        if found != FORMAT:
            raise Refused(
                "this store was written by another version of Ember Keep",
                place=Place(str(self.folder / "format")),
                hint="update Ember Keep and try again",
            )

    def close(self) -> None:
        """Close open packs."""
        self._reader.close()

    # --- reading -------------------------------------------------------------

    @property
    def index(self) -> indexes.Index:
        """Where each block lies, loaded on first use."""
        if self._index is None:
            self._index = indexes.load(self.folder / "index", self.packs)
        return self._index

    def numbers(self) -> list[int]:
        """The snapshots' numbers, ascending."""
        return sorted(int(path.stem) for path in (self.folder / "snapshots").glob("*.manifest") if path.stem.isdigit())

    def versions(self) -> list[str]:
        """The versions whose defaults are recorded, in no particular order."""
        return [path.name.removesuffix(".manifest") for path in (self.folder / "defaults").glob("*.manifest")]

    def manifest_path(self, label: str, *, defaults: bool = False) -> Path:
        """The file that holds the manifest of a snapshot's number or of a version's defaults."""
        if defaults:
            return self.folder / "defaults" / f"{label}.manifest"
        return self.folder / "snapshots" / f"{int(label):06d}.manifest"

    def manifest(self, label: str, *, defaults: bool = False) -> Manifest:
        """A manifest, checked. UsageError when there is none, Damage when it is not what was written."""
        path = self.manifest_path(label, defaults=defaults)
        return manifests.parse(self._bytes_of(path), _within(self.folder, path))

    def about(self, label: str, *, defaults: bool = False) -> About:
        """The facts of a manifest alone."""
        path = self.manifest_path(label, defaults=defaults)
        return manifests.parse_about(self._bytes_of(path), _within(self.folder, path))

    def _bytes_of(self, path: Path) -> bytes:
        try:
            return path.read_bytes()
        except FileNotFoundError:
            raise UsageError(
                f"there is no {path.stem.lstrip('0')} in this keep",
                hint="'emberkeep history' and 'emberkeep defaults list' show what there is",
            ) from None

    def block(self, block: BlockId) -> bytes:
        """The raw bytes of a block, checked."""
        location = self.index.get(block)
        if location is None:  # another writer may have added packs since the index was read
            self._index = indexes.load(self.folder / "index", self.packs)
            location = self._index.get(block)
        if location is None:
            raise Damage(f"block {block.hex()[:12]} is missing from the store", hint="run 'emberkeep verify'")
        return self._reader.read(block, location)

    def blocks_of(self, held: Held) -> list[BlockId]:
        """The data blocks of a file, in order."""
        if not held.blocks:
            return []
        if not held.several:
            return [held.block]
        return [block for _, block in parse_list(self.block(held.block))]

    def contents(self, held: Held) -> Iterator[bytes]:
        """A file's contents, block by block; the whole is checked against its digest at the end."""
        hasher = blake3()
        for block in self.blocks_of(held):
            raw = self.block(block)
            hasher.update(raw)
            yield raw
        if hasher.hexdigest() != held.digest:
            raise Damage("the blocks of this file do not add up to it", place=Place(held.entry.path))

    # --- writing -------------------------------------------------------------

    @contextlib.contextmanager
    def writing(self) -> Iterator[None]:
        """Hold the store's one writer's place; Refused, naming the holder, when somebody else has it."""
        from filelock import FileLock, Timeout  # only where something is written

        for folder in (self.folder, self.packs, self.folder / "snapshots", self.folder / "defaults"):
            files.make_folder(folder)
        if not (self.folder / "format").exists():
            files.write_whole(self.folder / "format", [FORMAT])
        lock = FileLock(self.folder / "lock", timeout=0)
        try:
            lock.acquire()
        except Timeout:
            raise Refused(
                f"another Ember Keep is writing to this keep ({self._holder()})",
                hint="wait until it has finished; the lock goes away with it",
            ) from None
        try:
            files.write_whole(self.folder / "holder", [f"process {os.getpid()}\n".encode()])
            self._sweep()
            yield
        finally:
            lock.release()

    def _holder(self) -> str:
        try:
            return (self.folder / "holder").read_text().strip() or "unknown process"
        except OSError:
            return "unknown process"

    def _sweep(self) -> None:
        for folder in (self.folder, self.folder / "snapshots", self.folder / "defaults"):
            files.sweep(folder)
        for part in self.packs.glob("*.part"):
            files.io.unlink(part)

    def add(
        self,
        tree: Tree,
        about: About,
        *,
        wanted: Callable[[str], bool] | None = None,
        progress: Progress = silent,
    ) -> Manifest:
        """Take ``tree`` (or what ``wanted`` says of it) in as a snapshot, or as defaults where ``about.why`` says so.

        A snapshot's label is its new number; ``about`` tells the rest. All or nothing.
        """
        with self.writing():
            entries = {path: entry for path, entry in tree.entries().items() if wanted is None or wanted(path)}
            writer = PackWriter(self.packs, max(pack_numbers(self.packs), default=0) + 1)
            try:
                intake = _Intake(self, writer, tree)
                held = intake.take(entries, progress)
                grown = 0 if not intake.fresh else writer.size
                writer.finish()
            except BaseException:
                with contextlib.suppress(OSError):
                    writer.abandon()
                raise
            files.io.sync_folder(self.packs)
            self.index.update(intake.fresh)
            manifest = Manifest(
                replace(
                    about,
                    label=about.label if about.why == "defaults" else str(max(self.numbers(), default=0) + 1),
                    files=sum(row.entry.kind is Kind.FILE for row in held.values()),
                    bytes=sum(row.entry.size for row in held.values()),
                    new_bytes=grown,
                ),
                held,
                (*tree.skipped, *intake.unsettled),
                tree.top if wanted is None else None,
            )
            path = self.manifest_path(manifest.about.label, defaults=about.why == "defaults")
            files.write_whole(path, [manifests.serialize(manifest)])
            indexes.save(self.folder / "index", self.packs, self.index)
            return manifest

    def drop(self, label: str, *, defaults: bool = False) -> None:
        """Forget a manifest. Its blocks stay until the store is thinned."""
        with self.writing():
            path = self.manifest_path(label, defaults=defaults)
            self._bytes_of(path)
            files.io.unlink(path)
            files.io.sync_folder(path.parent)


def _within(folder: Path, path: Path) -> str:
    return path.relative_to(folder).as_posix()


@dataclass
class _Intake:
    """One pass of taking files in: what is new goes to the pack, what is known is only named."""

    store: Store
    writer: PackWriter
    tree: Tree

    def __post_init__(self) -> None:
        self.fresh: indexes.Index = {}
        self.unsettled: list[Skipped] = []

    def take(self, entries: Mapping[str, Entry], progress: Progress) -> dict[str, Held]:
        total = sum(entry.size for entry in entries.values())
        done = 0
        held: dict[str, Held] = {}
        for path, entry in entries.items():
            held[path] = self._file(entry) if entry.kind is Kind.FILE else Held(entry)
            done += entry.size
            progress(done, total)
        return {path: held[path] for path in sorted(held)}

    def _file(self, entry: Entry) -> Held:
        items: list[tuple[int, BlockId]] = []
        hasher = blake3()
        for raw in cut(self.tree.chunks(entry.path)):
            hasher.update(raw)
            items.append((len(raw), self._block(DATA, raw)))
        size = sum(length for length, _ in items)
        if size != entry.size:
            self.unsettled.append(Skipped(entry.path, "changed while it was being read"))
        entry = replace(entry, size=size)
        if len(items) > 1:
            return Held(entry, hasher.hexdigest(), self._block(LIST, serialize_list(items)).hex(), True)
        return Held(entry, hasher.hexdigest(), items[0][1].hex() if items else "")

    def _block(self, kind: int, raw: bytes) -> BlockId:
        block = block_id(raw)
        if block not in self.fresh and block not in self.store.index:
            self.fresh[block] = self.writer.add(kind, block, raw)
        return block


class SnapshotTree:
    """A snapshot, or recorded defaults, as a tree."""

    def __init__(self, store: Store, manifest: Manifest, label: str) -> None:
        self._store = store
        self.manifest = manifest
        self._label = label
        self._entries = {path: held.entry for path, held in manifest.held.items()}

    @property
    def label(self) -> str:
        return self._label

    @property
    def skipped(self) -> tuple[Skipped, ...]:
        return self.manifest.skipped

    @property
    def top(self) -> Entry | None:
        return self.manifest.top

    def entries(self) -> Mapping[str, Entry]:
        return self._entries

    def chunks(self, path: str) -> Iterator[bytes]:
        held = self.manifest.held.get(path)
        if held is None or held.entry.kind is not Kind.FILE:
            raise UnreadableInput(f"there is no file {path} in {self._label}")
        try:
            yield from self._store.contents(held)
        except Damage as error:
            raise Damage(
                f"{path} in {self._label} is damaged in the store",
                hint="run 'emberkeep verify' for all that is",
            ) from error

    def digest(self, path: str) -> str:
        return self.manifest.held[path].digest
