"""How a file's bytes are cut into blocks: fixed aligned blocks, so that sectors rewritten in place stay local."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

BLOCK = 64 * 1024
"""Bytes in a block; only a file's last one may be shorter."""


def cut(chunks: Iterable[bytes], size: int = BLOCK) -> Iterator[bytes]:
    """The bytes of ``chunks``, regrouped into blocks of ``size`` bytes. An empty file has no block."""
    held = bytearray()
    for chunk in chunks:
        held += chunk
        whole = len(held) - len(held) % size
        view = bytes(held[:whole])
        del held[:whole]
        for start in range(0, whole, size):
            yield view[start : start + size]
    if held:
        yield bytes(held)
