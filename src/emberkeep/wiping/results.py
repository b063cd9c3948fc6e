"""What a wipe clears, what it leaves, and why."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field


@dataclass(frozen=True)
class RecordsGone:
    """Records of a file that go; ``line``: of the first one, 1-based."""

    file: str
    at: str
    count: int
    line: int


@dataclass(frozen=True)
class RowsGone:
    """Rows of a table that go, of how many."""

    database: str
    table: str
    count: int
    of: int


@dataclass(frozen=True)
class Deletion:
    """Rows of a database server that go: those of ``table`` that meet ``where``; ``count``: how many there were."""

    database: str
    table: str
    where: str
    count: int


@dataclass(frozen=True)
class Exemption:
    """Something within a scope's reach that stays, and why."""

    path: str
    why: str
    count: int = 1


@dataclass(frozen=True)
class ScopeCleared:
    """What one scope clears. ``bytes``: of whole files; ``players``: how many players have something there."""

    scope: str
    files: tuple[str, ...] = ()
    bytes: int = 0
    records: tuple[RecordsGone, ...] = ()
    rows: tuple[RowsGone, ...] = ()
    players: int = 0
    stays: tuple[Exemption, ...] = ()

    @property
    def nothing(self) -> bool:
        """Whether there is nothing that it would clear."""
        return not (self.files or self.records or self.rows)


@dataclass(frozen=True)
class Kept:
    """Files of a role that a wipe leaves as they are, and why."""

    role: str
    files: int
    bytes: int
    why: str


@dataclass(frozen=True)
class WipeResult:
    """What a wipe clears and keeps. ``survives``: by the name of what survives, how many files, records and rows."""

    scopes: tuple[ScopeCleared, ...]
    survives: Mapping[str, int] = field(default_factory=dict)
    kept: tuple[Kept, ...] = ()
    players: frozenset[str] = frozenset()
    """Canonical identifiers of the players who lose something."""
    deletions: tuple[Deletion, ...] = ()
