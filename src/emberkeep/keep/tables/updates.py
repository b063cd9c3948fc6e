"""What keep.toml says of updates and merges: wanted versions, landmarks, rules, what is done besides.

::

    [wanted]          NAME = the version wanted, or { file, pattern } or { address, pattern } where it is published
    [[landmark]]      name, and file (its bytes), file with record and field, tiles (X1,Y1..X2,Y2) or row ({ database,
                      table, where }): what must hold after an update as before
    [update]          overlay: glob of the archive that a framework is laid over the engine from; command: the admin's
                      own updater; remember: what is done with extensions without a new build (keep, remove, stop)
    [rehearse]        set = { "FILE" = { KEY = "value" } }: what differs in a copy that is only rehearsed with
    [[rule]]          files (a glob), field (a glob), record (a glob over names in reports), take: settles questions
    [news]            text, and words = { FIELD = [when it rises, when it falls] }: the paragraph for players
    [checks]          silence: learned checks that are not to be reported, by the names that reports give them
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field

from emberkeep.keep.toml_reader import Reader


@dataclass(frozen=True)
class Wanted:
    """Which version of something is wanted: told, or to be read from a file or an HTTP address by a pattern with one
    group."""

    name: str
    version: str = ""
    file: str = ""
    address: str = ""
    pattern: str = ""


@dataclass(frozen=True)
class ResolutionRule:
    """A rule that settles questions of merges: those about ``field`` (a glob) in ``files`` (a glob), of the records
    whose name in reports fits ``record``, where that is told."""

    files: str
    field: str
    take: str
    record: str = ""


TAKES = ("mine", "new", "old", "larger", "smaller", "ratio", "mean")


@dataclass(frozen=True)
class Landmark:
    """Something that must hold after an update as before; exactly one of ``file`` alone, ``file`` with ``record`` and
    ``field``, ``tiles``, or ``database`` with ``table`` and ``where``."""

    name: str
    file: str = ""
    record: str = ""
    field: str = ""
    tiles: str = ""
    database: str = ""
    table: str = ""
    where: str = ""


@dataclass(frozen=True)
class Updating:
    """What an update needs to know. ``set_for_rehearsal``: file, key, value."""

    overlay: str = ""
    command: tuple[str, ...] = ()
    remember: Mapping[str, str] = field(default_factory=dict)
    set_for_rehearsal: tuple[tuple[str, str, str], ...] = ()


NEWS = "{news} {orders} {ours} {open}"


@dataclass(frozen=True)
class News:
    """How players are told of a merge. ``text``: a template; ``words``: by field, what it means to them when it rises
    and when it falls."""

    text: str = NEWS
    words: Mapping[str, tuple[str, str]] = field(default_factory=dict)


NEWS_PARTS = ("server", "news", "orders", "ours", "open")


def read_news(reader: Reader) -> News:
    """The table [news]."""
    text = reader.template("text", NEWS_PARTS) or NEWS
    table = reader.sub("words")
    words = {}
    for name in table.names():
        said = table.strings(name)
        if len(said) == 2:
            words[name] = (said[0], said[1])
        else:
            table.fault(name, "should be two texts: when it rises, and when it falls", 'as ["easier to find", "rarer"]')
    for part in (table, reader):
        part.no_others()
    return News(text, words)


EXTENSION_CHOICES = ("keep", "remove", "stop")


def read_wanted(reader: Reader) -> tuple[Wanted, ...]:
    """The table [wanted]."""
    table = reader.sub("wanted")
    found = []
    for name in table.names():
        if isinstance(table.table[name], str):
            found.append(Wanted(name, table.string(name)))
            continue
        source = table.sub(name)
        source.required("pattern")
        wanted = Wanted(name, "", source.string("file"), source.string("address"), source.pattern("pattern", 1))
        if bool(wanted.file) == bool(wanted.address):
            source.fault("", "should have a file or an address", "as { address = \"http://…\", pattern = '…' }")
        elif wanted.address and not wanted.address.startswith(("http://", "https://")):
            source.fault("address", "should begin with http:// or https://")
        source.no_others()
        found.append(wanted)
    return tuple(found)


def read_rule(reader: Reader) -> ResolutionRule:
    """One [[rule]]."""
    reader.required("take")
    found = ResolutionRule(
        reader.required("files"),
        reader.required("field").removeprefix("@"),
        reader.choice("take", TAKES, ""),
        reader.string("record"),
    )
    reader.no_others()
    return found


def read_landmark(reader: Reader) -> Landmark:
    """One [[landmark]]."""
    row = reader.sub("row")
    found = Landmark(
        reader.required("name"),
        reader.string("file"),
        reader.string("record"),
        reader.string("field"),
        reader.string("tiles"),
        row.string("database"),
        row.string("table"),
        row.string("where"),
    )
    kinds = [bool(found.file), bool(found.tiles), bool(found.database and found.table)]
    if sum(kinds) != 1 or (found.field and not found.file):
        reader.fault("", "should tell one of: file, file with record and field, tiles, row", 'as tiles = "3,-1..4,0"')
    if found.tiles and not re.fullmatch(r"-?\d+,-?\d+\.\.-?\d+,-?\d+", found.tiles):
        reader.fault("tiles", "should be X1,Y1..X2,Y2", 'as "3,-1..4,0"')
    for part in (row, reader):
        part.no_others()
    return found


def read_update(reader: Reader, rehearse: Reader) -> Updating:
    """The tables [update] and [rehearse]."""
    remember = reader.sub("remember")
    choices = {name: remember.choice(name, EXTENSION_CHOICES, "") for name in remember.names()}
    sets = rehearse.sub("set")
    settings = [(path, key, table.string(key)) for path, table in sets.items() for key in table.names()]
    found = Updating(reader.string("overlay"), reader.strings("command"), choices, tuple(settings))
    for part in (reader, rehearse):
        part.no_others()
    return found


def read_silenced(reader: Reader) -> tuple[str, ...]:
    """What [checks] silences."""
    found = reader.strings("silence")
    reader.no_others()
    return found
