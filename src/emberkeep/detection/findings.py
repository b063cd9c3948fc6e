"""What adopt finds in a server folder, each with what speaks for it and how sure it is."""

from __future__ import annotations

import re
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path

from emberkeep.errors import Fault
from emberkeep.fs import globs
from emberkeep.fs.trees import Skipped
from emberkeep.inventory.extensions import Extension

ORDER = (
    "logs",
    "scratch",
    "players",
    "progress",
    "databases",
    "access",
    "scripts",
    "settings",
    "extensions",
    "extension-data",
    "economy",
    "engine",
    "world",
)
"""The roles in the order in which they stand in a drafted keep.toml: the narrower ones first."""


class Sure(StrEnum):
    """How sure an inference is."""

    SURE = "sure"
    LIKELY = "likely"
    GUESS = "guess"


@dataclass(frozen=True)
class Finding:
    """A pattern of files that has a role, with what speaks for it."""

    role: str
    glob: str
    evidence: str
    sure: Sure


@dataclass(frozen=True)
class VersionFinding:
    """A version number, the pattern that finds it, and where."""

    name: str
    pattern: str
    within: tuple[str, ...]
    version: str
    evidence: str
    sure: Sure


@dataclass(frozen=True)
class WorldCandidate:
    """A folder or file that may be the world. ``files``, ``bytes``, ``newest_ns``: of what is saved in it; ``pointer``:
    the file and key that lead there; ``reasons``: what speaks for and against it."""

    at: str
    is_file: bool
    files: int
    bytes: int
    newest_ns: int
    reasons: str
    pointer: tuple[str, str] | None = None


@dataclass(frozen=True)
class WorldFinding:
    """The world: what points at it, tile names, numbered save. Empty texts where nothing was found.

    ``number_in``, ``number_pattern``: where the engine tells the number of the saves it reads; ``dimensions``: further
    folders of the same world; ``pointer_evidence``: what speaks for the pointer; ``others``: worlds beside it
    that are not played; ``pointer_kept``: whether the
    pointer is found again by its key, as survey does; ``candidates``: all that may be the world, the likeliest first.
    """

    folder: str = ""
    pointer_file: str = ""
    pointer_key: str = ""
    pointer_evidence: str = ""
    tiles: str = ""
    sector: int = 0
    numbered: str = ""
    dimensions: tuple[str, ...] = ()
    evidence: str = ""
    sure: Sure = Sure.SURE
    number_in: str = ""
    number_pattern: str = ""
    pointer_sure: Sure = Sure.SURE
    pointer_kept: bool = True
    others: tuple[str, ...] = ()
    is_file: bool = False
    tables: tuple[str, ...] = ()
    """Of a database that holds others' tables, too, those that are the world's."""
    candidates: tuple[WorldCandidate, ...] = ()

    @property
    def base(self) -> str:
        """The folder of its files: the world's own, or the one in which a lone save lies."""
        return self.folder.rpartition("/")[0] if self.is_file else self.folder


@dataclass(frozen=True)
class RecordFinding:
    """How repeated records of a file are recognised. An empty rule: by what they hold."""

    file: str
    path: str
    rule: tuple[str, ...]
    count: int
    sure: Sure = Sure.SURE


@dataclass(frozen=True)
class Argument:
    """What a variable or argument of the launch script is for: ``seed``, ``size``, ``name`` or ``port``."""

    purpose: str
    key: str
    value: str
    evidence: str
    sure: Sure


@dataclass(frozen=True)
class LaunchFinding:
    """The script that starts the server, the program that it names, and its arguments that matter."""

    script: str
    program: str
    arguments: tuple[Argument, ...]
    evidence: str
    sure: Sure


def log_glob(path: str) -> str:
    """The pattern that matches a log, and those that later starts will write, where moments stand in its name."""
    folder, _, name = path.rpartition("/")
    open_name = re.sub(r"\d{4,}(?:[-_T.]?\d{2,})*", "*", globs.escape(name))
    return f"{globs.escape(folder)}/{open_name}" if folder else open_name


@dataclass(frozen=True)
class LogLine:
    """What a kind of log line looks like. ``kind``: one of ``keep.keep.LOG_LINES``."""

    kind: str
    pattern: str
    example: str
    evidence: str
    sure: Sure


@dataclass(frozen=True)
class LogFinding:
    """The server's own log, and its lines."""

    file: str
    lines: tuple[LogLine, ...]

    @property
    def glob(self) -> str:
        """The pattern that matches it, and those that later starts will write, where moments stand in its name."""
        return log_glob(self.file)


@dataclass(frozen=True)
class PlayerBound:
    """Extension data that belongs to single players. ``ids``: those of known players in it or in its files' names;
    ``records``: where in it they stand, of a file that holds other things beside."""

    glob: str
    files: int
    ids: tuple[str, ...]
    evidence: str
    sure: Sure
    records: tuple[str, ...] = ()


@dataclass(frozen=True)
class TableFinding:
    """A table of a SQLite file that belongs to players; ``others``: the tables beside it that do not; ``of_world``:
    those of them that hold what only an engine writes."""

    database: str
    table: str
    others: tuple[str, ...]
    evidence: str
    sure: Sure
    of_world: tuple[str, ...] = ()


@dataclass(frozen=True)
class Adoption:
    """All that adopt inferred. ``roles``: in the order of keep.toml; ``unsorted``: files that no role covers;
    ``questions``: what was only guessed, in words; ``players``: how many are known by their ids."""

    server: Path
    name: str
    name_evidence: str
    roles: tuple[Finding, ...]
    versions: tuple[VersionFinding, ...]
    world: WorldFinding
    records: tuple[RecordFinding, ...]
    launch: LaunchFinding | None
    log: LogFinding | None
    player_bound: tuple[PlayerBound, ...]
    tables: tuple[TableFinding, ...]
    extensions: tuple[Extension, ...]
    players: int
    questions: tuple[str, ...]
    unsorted: tuple[str, ...]
    skipped: tuple[Skipped, ...]
    faults: tuple[Fault, ...]
    files: int
    bytes: int
