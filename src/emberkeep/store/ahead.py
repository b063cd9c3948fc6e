"""Reading ahead: another thread unpacks and checks the blocks that are wanted next, while this one writes."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator, Sequence
from types import TracebackType

from emberkeep.errors import EmberKeepError
from emberkeep.files import Chunk
from emberkeep.store.extents import HOLE, Extent, Fetch
from emberkeep.store.manifest import Held

AHEAD = 8 << 20
"""Bytes of contents that may be read before they are asked for; well below what the store keeps at hand."""


_STEP = 1 << 20
"""How far to come before the other thread is woken: it costs more than reading a small file does."""


class ReadAhead:
    """The contents of ``rows``, to be asked for in that order; a row may be left out. Use as a context manager.

    ``extents`` and ``fetch`` tell where contents lie and read blocks; ``contents`` gives a row's contents in pieces.
    """

    def __init__(
        self,
        rows: Sequence[Held],
        extents: Callable[[Held], list[Extent]],
        fetch: Fetch,
        contents: Callable[[Held], Iterator[Chunk]],
    ) -> None:
        self._rows = rows
        self._extents = extents
        self._fetch = fetch
        self._contents = contents
        self._starts = [0]
        for row in rows:
            self._starts.append(self._starts[-1] + row.entry.size)
        self._at = self._told = 0
        self._stopped = False
        self._moved = threading.Condition()
        self._thread = threading.Thread(target=self._feed, name="read-ahead", daemon=True)

    def __enter__(self) -> ReadAhead:
        self._thread.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        with self._moved:
            self._stopped = True
            self._moved.notify()
        self._thread.join()

    def contents(self, number: int) -> Iterator[Chunk]:
        """The contents of row ``number``, holes as their lengths; Damage when the store cannot give them whole."""
        self._move(self._starts[number])
        for chunk in self._contents(self._rows[number]):
            yield chunk
            self._move(self._at + (chunk if isinstance(chunk, int) else len(chunk)))

    def _move(self, at: int) -> None:
        self._at = at
        if abs(at - self._told) >= _STEP:
            with self._moved:
                self._told = at
                self._moved.notify()

    def _feed(self) -> None:
        for row, start in zip(self._rows, self._starts, strict=False):
            at = start
            try:
                for extent in self._extents(row):
                    if not self._may_read(at):
                        return
                    if extent.block != HOLE:
                        self._fetch(extent.block)
                    at += extent.length
            except (EmberKeepError, OSError):
                continue  # whoever asks for these contents meets the same, and tells

    def _may_read(self, at: int) -> bool:
        """Wait until what lies at ``at`` is wanted soon; False when nothing is wanted any more."""
        with self._moved:
            self._moved.wait_for(lambda: self._stopped or at < self._at + AHEAD)
            return not self._stopped
