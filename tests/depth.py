"""How hard the tests look: quickly by default, as hard as they can with ``pytest --long``, which CI runs.

``conftest`` sets :data:`long` before any test module is imported, so modules may use it in their parameters.
"""

from __future__ import annotations

import os
from collections.abc import Sequence
from typing import TypeVar

T = TypeVar("T")

long = False
"""Whether this is the long form."""


def choose(quick: T, thorough: T) -> T:
    """The first by default, the second in the long form."""
    return thorough if long else quick


def number(name: str, quick: int, thorough: int) -> int:
    """The same for a number that the environment may set: ``EMBERKEEP_`` and ``name``."""
    return int(os.environ.get(f"EMBERKEEP_{name}", choose(quick, thorough)))


def some(items: Sequence[T], quick: int) -> list[T]:
    """All of ``items`` in the long form; by default ``quick`` of them, evenly spread, the first and the last always."""
    return list(items) if long else spread(items, quick)


def spread(items: Sequence[T], most: int) -> list[T]:
    """So many of ``items`` in any form, evenly spread, the first and the last always."""
    if len(items) <= most:
        return list(items)
    return [items[round(at * (len(items) - 1) / (most - 1))] for at in range(most)] if most > 1 else [items[0]]
