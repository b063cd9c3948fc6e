"""What keep.toml says of the server folder: versions, roles, world, records, launch script, log.

::

    [versions.NAME]   pattern (a regular expression with one group), in (list of globs)
    [roles]           ROLE = [globs], first match wins in the order written
    [world]           pointer = { file, key }, tiles = { names, sector }, dimensions (further folders), numbered =
                      { names, engine-file, engine-pattern }: saves with a number, and where the engine tells its own
    [launch]          script, program, and the names of its variables or arguments for seed, size, name, port
    [log]             in (globs), and patterns of the lines version, ready, loaded, failed, error,
                      seed (one group), joined and left (a group "name")
    [player-bound]    files: globs of extension data that belongs to single players
    [records."GLOB"]  "tag/tag" = ["@attribute" or "child", …], [] for records without identity
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from emberkeep.keep.toml_reader import Reader

ROLES = (
    "engine",
    "world",
    "players",
    "progress",
    "access",
    "settings",
    "economy",
    "scripts",
    "extensions",
    "extension-data",
    "databases",
    "logs",
    "scratch",
)


UNSORTED = "unsorted"


@dataclass(frozen=True)
class VersionSource:
    """How one version number is found: a pattern with one group, looked for in files (names and first lines)."""

    name: str
    pattern: str
    within: tuple[str, ...]


@dataclass(frozen=True)
class WorldPointer:
    """The settings key whose value is the world's folder name."""

    file: str
    key: str


@dataclass(frozen=True)
class World:
    """What is known of the world's files. ``tiles``: name with {x} and {y}; ``sector``: bytes; ``numbered``: name
    with {number}; ``number_in`` and ``number_pattern``: the engine's own file that tells which number it reads."""

    pointer: WorldPointer | None = None
    tiles: str = ""
    sector: int = 0
    numbered: str = ""
    dimensions: tuple[str, ...] = ()
    number_in: str = ""
    number_pattern: str = ""


@dataclass(frozen=True)
class Launch:
    """The launch script, the program that it starts, and what its variables or arguments are called, by purpose
    (``seed size name port``)."""

    script: str = ""
    program: str = ""
    keys: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Log:
    """Where the server's log is, and the pattern of each kind of line (``version ready loaded failed
    error seed joined left``)."""

    within: tuple[str, ...] = ()
    patterns: Mapping[str, str] = field(default_factory=dict)


PURPOSES = ("seed", "size", "name", "port")


LOG_LINES = ("version", "ready", "loaded", "failed", "error", "seed", "joined", "left")


RecordRules = Mapping[str, tuple[str, ...]]
"""Path of tags below the root -> the fields that identify such a record among its siblings."""


def read_versions(reader: Reader) -> tuple[VersionSource, ...]:
    """The tables [versions.NAME]."""
    found = []
    for name, table in reader.items():
        table.required("pattern")
        found.append(VersionSource(name, table.pattern("pattern", 1), table.strings("in")))
        table.no_others()
    return tuple(found)


def read_roles(reader: Reader) -> tuple[tuple[str, tuple[str, ...]], ...]:
    """The table [roles], in the order written."""
    roles = tuple((role, reader.strings(role)) for role in reader.table if role in ROLES)
    for role, patterns in roles:
        for pattern in patterns:
            reader.check_glob(role, pattern)
    reader.no_others(*ROLES)
    return roles


def read_world(reader: Reader) -> World:
    """The table [world]."""
    pointer, tiles, numbered = reader.sub("pointer"), reader.sub("tiles"), reader.sub("numbered")
    world = World(
        WorldPointer(pointer.required("file"), pointer.required("key")) if pointer.table else None,
        tiles.string("names"),
        tiles.get("sector", int, "a number of bytes", 0),
        numbered.string("names"),
        reader.strings("dimensions"),
        numbered.string("engine-file"),
        numbered.pattern("engine-pattern", 1),
    )
    for part in (reader, pointer, tiles, numbered):
        part.no_others()
    return world


def read_records(reader: Reader) -> tuple[tuple[str, RecordRules], ...]:
    """The tables [records."GLOB"]."""
    return tuple((pattern, {path: table.strings(path) for path in table.names()}) for pattern, table in reader.items())


def read_launch(reader: Reader) -> Launch:
    """The table [launch]."""
    keys = {purpose: value for purpose in PURPOSES if (value := reader.string(purpose))}
    launch = Launch(reader.string("script"), reader.string("program"), keys)
    reader.no_others()
    return launch


def read_log(reader: Reader) -> Log:
    """The table [log]."""
    patterns = {kind: value for kind in LOG_LINES if (value := reader.pattern(kind))}
    log = Log(reader.strings("in"), patterns)
    reader.no_others()
    return log


def read_player_bound(reader: Reader) -> tuple[str, ...]:
    """The globs of [player-bound]."""
    found = reader.strings("files")
    reader.no_others()
    return found
