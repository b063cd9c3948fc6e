"""What keep.toml says of wipes: what each scope clears, what survives on purpose, and which values change.

::

    [scopes.NAME]   files (roles, globs, tiles:…), stays (of those, what is not cleared),
                    records = [{ file (a glob), at, where }],
                    rows = [{ database (a glob of SQLite files, or what [[database]] calls one of a server), table,
                    where }],
                    set = { "FILE" = { KEY = "text" } },
                    definitions (globs: the admin's own definitions that this scope may clear)
    [[survives]]    name, files, records, rows as in a scope, of (a list of people: only what belongs to them)
    [wipe]          seed ("random", "list" or "same"), seeds (those of the list), seed-range = [least, most],
                    unused-for (wipes that a seed rests), size (one, or several to be taken in turn), name,
                    set as in a scope, where a text may be { env } or { file } for a secret,
                    unsorted = { "GLOB" = "clear" or "keep" }, earlier (dates of wipes before this keep)

``at`` names records by the names on the way to them, joined by ``/``, ``*`` for any: ``*`` is every record of the
file, ``balances/*`` every one in ``balances``. ``where`` is FIELD=VALUE, FIELD!=VALUE, FIELD<NUMBER or FIELD>NUMBER,
``value`` being that of a record which is nothing but one; for rows it is SQL. Texts may hold
 ``{number} {date} {seed} {size} {scopes} {server}``.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from datetime import date

from emberkeep.keep.toml_reader import Reader

SEEDS = ("random", "list", "same")
PLACEHOLDERS = ("number", "date", "seed", "size", "scopes", "server")
CLEAR, STAYS = "clear", "keep"


@dataclass(frozen=True)
class RecordPick:
    """Records of files: ``file`` a glob, ``at`` names joined by ``/``, ``where`` a condition on a field or ""."""

    file: str
    at: str
    where: str = ""


@dataclass(frozen=True)
class RowPick:
    """Rows of a table: ``database`` a glob, ``where`` SQL or "" for all of them."""

    database: str
    table: str
    where: str = ""


@dataclass(frozen=True)
class Picked:
    """Part of a server folder: files (selections), records and rows."""

    files: tuple[str, ...] = ()
    records: tuple[RecordPick, ...] = ()
    rows: tuple[RowPick, ...] = ()


@dataclass(frozen=True)
class SetText:
    """A value that a wipe sets: a template, or the name of a variable or file that holds a secret."""

    file: str
    key: str
    text: str = ""
    secret_env: str = ""
    secret_file: str = ""

    @property
    def secret(self) -> bool:
        """Whether its value must not be shown or kept."""
        return bool(self.secret_env or self.secret_file)


@dataclass(frozen=True)
class Scope:
    """What a wipe of this scope clears."""

    name: str
    picked: Picked = field(default_factory=Picked)
    stays: tuple[str, ...] = ()
    sets: tuple[SetText, ...] = ()
    definitions: tuple[str, ...] = ()


@dataclass(frozen=True)
class Survivor:
    """What survives a wipe on purpose. ``of``: the file with the people to whom it must belong, "" for everybody."""

    name: str
    picked: Picked
    of: str = ""


@dataclass(frozen=True)
class Wiping:
    """All of it. ``range``: least and most that the engine takes as a seed, None where it is not told."""

    scopes: tuple[Scope, ...] = ()
    survivors: tuple[Survivor, ...] = ()
    seed: str = ""
    seeds: tuple[str, ...] = ()
    range: tuple[int, int] | None = None
    unused_for: int = 6
    sizes: tuple[str, ...] = ()
    name: str = ""
    sets: tuple[SetText, ...] = ()
    unsorted: Mapping[str, str] = field(default_factory=dict)
    earlier: tuple[date, ...] = ()


def read(reader: Reader, roles: Mapping[str, tuple[str, ...]], player_bound: tuple[str, ...]) -> Wiping:
    """The tables of keep.toml, checked. Scopes that are not told are those that the roles make."""
    wipe = reader.sub("wipe")
    scopes = tuple(_scope(name, table) for name, table in reader.sub("scopes").items())
    found = Wiping(
        (*scopes, *from_roles(roles, player_bound, {scope.name for scope in scopes})),
        tuple(_survivor(item) for item in reader.subs("survives")),
        _seed(wipe),
        wipe.strings("seeds"),
        _range(wipe),
        wipe.get("unused-for", int, "a number of wipes", Wiping.unused_for),
        _sizes(wipe),
        wipe.template("name", PLACEHOLDERS),
        read_sets(wipe.sub("set")),
        _unsorted(wipe.sub("unsorted")),
        _dates(wipe, "earlier"),
    )
    if found.seed == "list" and not found.seeds:
        wipe.fault("seeds", "a list of seeds is wanted, and this one is empty", 'as seeds = ["770421", "18"]')
    _check_seeds(wipe, found)
    wipe.no_others()
    return found


def from_roles(
    roles: Mapping[str, tuple[str, ...]], player_bound: tuple[str, ...], but: Collection[str] = ()
) -> tuple[Scope, ...]:
    """The scopes that the roles make: ``map players progress extension-data``."""
    made = {"map": ("world",), "players": ("players",), "progress": ("progress",)}
    found = [Scope(name, Picked(files)) for name, files in made.items() if files[0] in roles and name not in but]
    if player_bound and "extension-data" not in but:
        found.append(Scope("extension-data", Picked(player_bound)))
    return tuple(found)


def _scope(name: str, reader: Reader) -> Scope:
    found = Scope(
        name,
        _picked(reader),
        _selections(reader, "stays"),
        read_sets(reader.sub("set")),
        _selections(reader, "definitions"),
    )
    if not (found.picked.files or found.picked.records or found.picked.rows or found.sets):
        reader.fault("", "clears nothing", 'files, records, rows or set are wanted, as files = ["world"]')
    if re.fullmatch(r"[\w-]+", name) is None:
        reader.fault("", "a scope's name is of letters, digits and dashes")
    reader.no_others()
    return found


def _survivor(reader: Reader) -> Survivor:
    found = Survivor(reader.required("name"), _picked(reader), reader.string("of"))
    if found.picked == Picked():
        reader.fault("", "nothing survives by this", 'files, records or rows are wanted, as files = ["tiles:0,0..1,1"]')
    reader.no_others()
    return found


def _picked(reader: Reader) -> Picked:
    records = [
        RecordPick(item.required("file"), item.required("at"), item.string("where")) for item in reader.subs("records")
    ]
    rows = [
        RowPick(item.required("database"), item.required("table"), item.string("where")) for item in reader.subs("rows")
    ]
    for item in (*reader.subs("records"), *reader.subs("rows")):
        item.no_others("file", "at", "where") if "file" in item.table else item.no_others("database", "table", "where")
    for pattern in (*(pick.file for pick in records), *(pick.database for pick in rows)):
        reader.check_glob("records", pattern)
    for pick in records:
        if pick.where and not re.match(r"@?[\w.-]+(?:!=|=|<|>)", pick.where):
            reader.fault("records", f"'{pick.where}' is no condition", 'as where = "rank=paid" or "days<30"')
    return Picked(_selections(reader, "files"), tuple(records), tuple(rows))


def _selections(reader: Reader, key: str) -> tuple[str, ...]:
    found = reader.strings(key)
    for pattern in found:
        reader.check_glob(key, pattern)
    return found


def read_sets(reader: Reader) -> tuple[SetText, ...]:
    """``{ "FILE" = { KEY = "text" } }``: values that a wipe sets."""
    found = []
    for path, table in reader.items():
        reader.check_glob(path, path)
        for key in table.names():
            if isinstance(table.table[key], dict):
                secret = table.sub(key)
                found.append(SetText(path, key, "", secret.string("env"), secret.string("file")))
                if bool(found[-1].secret_env) == bool(found[-1].secret_file):
                    secret.fault("", "a text is wanted, or { env = NAME } or { file = PATH } for a secret")
                secret.no_others()
            else:
                found.append(SetText(path, key, table.template(key, PLACEHOLDERS)))
    return tuple(found)


def _seed(wipe: Reader) -> str:
    return wipe.choice("seed", SEEDS, "", f"one of {', '.join(SEEDS)}; or say --seed on the call")


def _range(wipe: Reader) -> tuple[int, int] | None:
    limits = wipe.get("seed-range", list, "two numbers", None)
    if limits is None:
        return None
    if len(limits) != 2 or not all(type(number) is int for number in limits) or limits[0] > limits[1]:
        wipe.fault("seed-range", "should be the least and the most", "as [1, 999999]")
        return None
    return limits[0], limits[1]


def _check_seeds(wipe: Reader, found: Wiping) -> None:
    for seed in found.seeds:
        wrong = out_of_range(seed, found.range)
        if wrong:
            wipe.fault("seeds", wrong)


def out_of_range(seed: str, limits: tuple[int, int] | None) -> str:
    """What is wrong with a seed; "" when nothing is. Where a range is known, it must be a whole number in it."""
    if limits is None:
        return ""
    if re.fullmatch(r"-?\d{1,30}", seed) is None:
        return f"the seed '{seed}' is no whole number"
    least, most = limits
    return "" if least <= int(seed) <= most else f"the seed {seed} is out of the engine's range, {least} to {most}"


def _sizes(wipe: Reader) -> tuple[str, ...]:
    value = wipe.table.get("size")
    if isinstance(value, list):
        return wipe.strings("size")
    size = wipe.string("size")
    return (size,) if size else ()


def _unsorted(reader: Reader) -> dict[str, str]:
    found = {}
    for pattern in reader.names():
        reader.check_glob(pattern, pattern)
        found[pattern] = reader.choice(pattern, (CLEAR, STAYS), "")
    return found


def _dates(reader: Reader, key: str) -> tuple[date, ...]:
    value = reader.get(key, list, "a list of dates", [])
    found = [day for item in value if (day := day_of(item)) is not None]
    if len(found) != len(value):
        reader.fault(key, "should hold dates", "as [2026-06-05, 2026-07-03]")
    return tuple(sorted(found))


def day_of(value: object) -> date | None:
    """A date of keep.toml, written as one or as text; None for what is none."""
    if type(value) is date:
        return value
    try:
        return date.fromisoformat(value) if isinstance(value, str) else None
    except ValueError:
        return None
