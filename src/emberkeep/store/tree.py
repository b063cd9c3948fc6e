"""A snapshot, or recorded defaults, as a tree."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Mapping

from emberkeep.errors import Damage, UnreadableInput, UsageError
from emberkeep.fs import writing
from emberkeep.fs.trees import FILE, Entry, Skipped, Still
from emberkeep.store.manifest import BESIDE, DEFAULTS, Manifest
from emberkeep.store.store import Store
from emberkeep.store.table import FileRow, entries_of


class SnapshotTree(Still):
    """A snapshot, or recorded defaults, as a tree. ``lanes``: how many threads may read from it at a time."""

    lanes = 2

    def __init__(self, store: Store, manifest: Manifest, label: str) -> None:
        self._store = store
        self.manifest = manifest
        self._label = label
        self._entries = entries_of(manifest.held, BESIDE)

    @property
    def label(self) -> str:
        """What it is called in messages."""
        return self._label

    @property
    def skipped(self) -> tuple[Skipped, ...]:
        """What the snapshot had to leave out."""
        return self.manifest.skipped

    @property
    def top(self) -> Entry | None:
        """The server folder itself, as it was."""
        return self.manifest.top

    def entries(self) -> Mapping[str, Entry]:
        """What the snapshot holds of the server folder, by path."""
        return self._entries

    def beside(self, path: str) -> Entry | None:
        """What was taken along under a path that is none of the server folder's; None where nothing was."""
        held = self.manifest.held.get(path)
        return held.entry if held is not None and path.startswith(BESIDE) else None

    def chunks(self, path: str) -> Iterator[bytes]:
        """The contents of a file, or of what was taken along."""
        held = self.manifest.held.get(path)
        if held is None or held.entry.kind is not FILE:
            raise UnreadableInput(f"there is no file {path} in {self._label}")
        for chunk in self._contents(held, holes=False):
            assert isinstance(chunk, bytes)
            yield chunk

    def pieces(self, path: str) -> Iterator[writing.Chunk]:
        """The contents of a file; its holes as their lengths. Several threads may ask at once."""
        return self._contents(self.manifest.held[path], holes=True)

    def _contents(self, held: FileRow, holes: bool) -> Iterator[writing.Chunk]:
        short = None
        with contextlib.suppress(Damage):  # its block may have been moved; if it is damaged, that is told below
            short = self._store.short(held)
        if short is not None:
            yield short
            return
        try:
            yield from self._store.contents(self._now(held), holes=holes)
        except Damage as error:
            raise Damage(
                f"{held.entry.path} in {self._label} is damaged in the store",
                hint="run 'emberkeep verify' for all that is",
            ) from error

    def _now(self, held: FileRow) -> FileRow:
        """Where a file lies now: another program may have moved it since the manifest was read."""
        if self._store.holds(held):
            return held
        about = self.manifest.about
        with contextlib.suppress(Damage, UsageError):
            self.manifest = self._store.manifest(about.label, defaults=about.why == DEFAULTS)
        now = self.manifest.held.get(held.entry.path)
        return now if now is not None and now.digest == held.digest else held

    def digest(self, path: str) -> str:
        """BLAKE3 of a file, as the manifest has it."""
        return self.manifest.held[path].digest


def snapshot_tree(store: Store, label: str) -> SnapshotTree:
    """The snapshot of a number, as a tree. UsageError where there is none, Damage where it cannot be read."""
    return SnapshotTree(store, store.manifest(label), f"snapshot {label}")
