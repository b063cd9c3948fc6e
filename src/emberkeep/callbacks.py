"""How the core tells whoever called it what it is at; what is shown of that is the caller's."""

from __future__ import annotations

from collections.abc import Callable

Progress = Callable[[int, int], None]
"""Hears how much is done, and of how much."""
Say = Callable[[str], None]
"""Hears a line for people."""


def no_op(*heard: object) -> None:
    """Hear anything and do nothing."""
