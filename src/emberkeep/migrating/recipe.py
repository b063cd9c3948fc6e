"""A recipe: the migration of saves for one version step, as data that can be shared.

::

    format = 1
    from = "4.2"
    to = "4.3"
    why = "saves of format 17 are ignored by 4.3"

    [[step]]                     # rename: every file that carries the number takes the new one, as a set
    renumber = { in = "outer-skerries", from = 17, to = 18, names = "anchorage.*.{number}.isle" }
    holds = ["seed", "size"]     # also: pointer; refused when these differ between settings, script and saves

    [[step]]
    move = { from = "old-name", to = "new-name" }        # also copy; a file or a folder
    [[step]]
    remove = ["cache/**"]

    [[step]]                     # one value of one file, in any format that has keys
    set = { file = "keeper.properties", key = "fog-horns", value = "on", unless-present = true }
    [[step]]                     # also: rename-key = { file, key, to }, remove-key = { file, key }
    scale = { file = "mission/harbour.toml", key = "harbour.fee", factor = 0.5 }

    [[step]]                     # records of files that fit a pattern; at: names down to them, "" the file itself
    records = { files = "outer-skerries/keepers/*.json", at = "", rename = { bag = "satchel" },
                values = { rank = { mate = "hand" } }, default = { salt = 0 }, scale = {}, drop = ["cold"] }

    [[step]]                     # SQL on a SQLite file: its own files in order, from the recipe's folder
    sql = { database = "outer-skerries/logbook.*.db", files = "structure/*.sql", when = "sample" }

    [[step]]                     # the vendor's own converter, run in the server folder
    program = { command = ["./convert"], limit = "2 hours", expects = "all done", changes = ["outer-skerries/**"] }
    [[step]]
    engine = { converts = true }    # the engine converts by itself at its next start

Every step may have ``why``, and ``changes-landmarks = ["players", …]``: what it says it changes of what is measured.
``when`` names a condition under ``[when]``: ``sample = { file = "keeper.properties", key = "began", is = "sample" }``.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import timedelta
from decimal import Decimal, InvalidOperation
from pathlib import Path
from typing import Any

from emberkeep.documents.reshape import Shape
from emberkeep.errors import Refused
from emberkeep.fs import globs
from emberkeep.inventory.versions import ordering
from emberkeep.keep.toml_reader import Reader, load

FORMAT = 1
HOLDS = ("seed", "size", "pointer")
MEASURES = ("players", "positions", "belongings", "tiles", "rows", "operators", "lists")


@dataclass(frozen=True)
class Renumber:
    """Files in ``folder`` whose names fit ``names`` (``{number}`` stands for the number) take another number."""

    folder: str
    old: int
    new: int
    names: str = ""


@dataclass(frozen=True)
class Move:
    """A file or folder that goes elsewhere, or is copied there."""

    source: str
    target: str
    copy: bool = False


@dataclass(frozen=True)
class Remove:
    """Files that go, as globs."""

    files: tuple[str, ...]


@dataclass(frozen=True)
class SetKey:
    """A value that is set. ``unless_present``: only where the key is missing."""

    file: str
    key: str
    value: str
    unless_present: bool = False


@dataclass(frozen=True)
class RenameKey:
    """A key that is called otherwise."""

    file: str
    key: str
    new: str


@dataclass(frozen=True)
class RemoveKey:
    """A key that goes."""

    file: str
    key: str


@dataclass(frozen=True)
class ScaleKey:
    """A number that is multiplied."""

    file: str
    key: str
    factor: Decimal


@dataclass(frozen=True)
class Records:
    """Records of files that are given another shape."""

    files: str
    at: str
    shape: Shape


@dataclass(frozen=True)
class Sql:
    """SQL files run on a SQLite database, in order."""

    database: str
    files: str


@dataclass(frozen=True)
class Program:
    """A converter of the vendor's. ``expects``: a pattern of its output; ``changes``: globs of what it may change."""

    command: tuple[str, ...]
    limit: timedelta
    expects: str
    changes: tuple[str, ...]


@dataclass(frozen=True)
class EngineConverts:
    """The engine converts the world by itself at its next start."""


Act = Renumber | Move | Remove | SetKey | RenameKey | RemoveKey | ScaleKey | Records | Sql | Program | EngineConverts


@dataclass(frozen=True)
class RecipeStep:
    """One step. ``when``: the condition under which it is done, "" always; ``line``: where it stands."""

    act: Act
    why: str = ""
    when: str = ""
    holds: tuple[str, ...] = ()
    changes: tuple[str, ...] = ()
    line: int | None = None


@dataclass(frozen=True)
class When:
    """A condition: a key of a file has a value, or (without ``key``) the file is there."""

    file: str
    key: str = ""
    value: str = ""


@dataclass(frozen=True)
class Recipe:
    """A whole recipe. ``path``: its file; what it names of its own lies beside it."""

    path: Path
    old: str
    new: str
    why: str
    steps: tuple[RecipeStep, ...]
    conditions: Mapping[str, When] = field(default_factory=dict)

    @property
    def name(self) -> str:
        """The version step, for messages."""
        return f"{self.old} → {self.new}"


def read(path: Path) -> Recipe:
    """A recipe, checked as a whole; UnreadableInput lists every fault with its line."""
    table, text = load(path)
    reader = Reader(str(path), text, table)
    number = reader.get("format", int, "a number", None)
    if number is None:
        reader.fault("", f"lacks the key 'format'; this Ember Keep reads format = {FORMAT}")
    elif number > FORMAT:
        raise Refused(f"{path} has format {number}; this Ember Keep reads up to {FORMAT}", hint="update Ember Keep")
    conditions = {name: _when(item) for name, item in reader.sub("when").items()}
    found = Recipe(
        path,
        reader.required("from"),
        reader.required("to"),
        reader.string("why"),
        tuple(_step(item, at, conditions) for at, item in enumerate(reader.subs("step"))),
        conditions,
    )
    if found.old and found.new and ordering(found.old) >= ordering(found.new):
        reader.fault("to", f"{found.new} does not come after {found.old}", "migration only goes forward")
    reader.no_others()
    reader.raise_if_faulty()
    return found


def read_all(folder: Path) -> list[Recipe]:
    """The recipes of a folder, in the order of their versions. UnreadableInput for the first one that is faulty."""
    found = [read(path) for path in sorted(folder.glob("*.toml"))]
    return sorted(found, key=lambda recipe: (ordering(recipe.old), ordering(recipe.new)))


def _when(reader: Reader) -> When:
    found = When(_path(reader, "file"), reader.string("key"), reader.string("is"))
    reader.no_others()
    return found


def _step(reader: Reader, at: int, conditions: Mapping[str, When]) -> RecipeStep:
    kinds = [kind for kind in _ACTS if kind in reader.table]
    line = _line_of_step(reader.text, at)
    reader.line = line
    if len(kinds) != 1:
        does = " and ".join(kinds) or "none of these"
        reader.fault("", f"a step does one of {', '.join(_ACTS)}; this one does {does}")
        return RecipeStep(EngineConverts(), line=line)
    act = _ACTS[kinds[0]](reader, kinds[0])
    holds, changes = reader.strings("holds"), reader.strings("changes-landmarks")
    for names, known, key in ((holds, HOLDS, "holds"), (changes, MEASURES, "changes-landmarks")):
        for name in names:
            if name not in known:
                reader.fault(key, f"'{name}' is nothing that is measured", f"one of {', '.join(known)}")
    when = reader.string("when")
    if when and when not in conditions:
        reader.fault("when", f"there is no condition '{when}'", "write it under [when]")
    found = RecipeStep(act, reader.string("why"), when, holds, changes, line)
    reader.no_others()
    return found


def _line_of_step(text: str, at: int) -> int | None:
    starts = [number for number, line in enumerate(text.splitlines(), 1) if re.match(r"\s*\[\[\s*step\s*\]\]", line)]
    return starts[at] if at < len(starts) else None


def _path(reader: Reader, key: str) -> str:
    """A path (or glob) below the server folder."""
    pattern = reader.required(key)
    if pattern.startswith("/") or "\\" in pattern or ".." in pattern.split("/") or re.match(r"[A-Za-z]:", pattern):
        reader.fault(key, f"'{pattern}' leads out of the folder")
        return ""
    try:
        globs.compiled(pattern)
    except re.error as error:
        reader.fault(key, f"'{pattern}' is no pattern: {error}")
    return pattern


def _renumber(reader: Reader, key: str) -> Act:
    table = reader.sub(key)
    folder = table.string("in")
    if folder:
        folder = _path(table, "in").strip("/")
    old, new = (table.get(name, int, "a number", None) for name in ("from", "to"))
    for name, value in (("from", old), ("to", new)):
        if value is None:
            table.fault("", f"lacks the key '{name}'")
    names = table.string("names")
    if names and "{number}" not in names:
        table.fault("names", "should hold {number}", 'as "anchorage.*.{number}.isle"')
    table.no_others()
    return Renumber(folder, old or 0, new or 0, names)


def _move(reader: Reader, key: str) -> Act:
    table = reader.sub(key)
    found = Move(_path(table, "from"), _path(table, "to"), key == "copy")
    table.no_others()
    return found


def _remove(reader: Reader, key: str) -> Act:
    found = reader.strings(key)
    for path in found:
        if path.startswith("/") or ".." in path.split("/"):
            reader.fault(key, f"'{path}' leads out of the folder")
    return Remove(found)


def _set(reader: Reader, key: str) -> Act:
    table = reader.sub(key)
    found = SetKey(
        _path(table, "file"),
        table.required("key"),
        _plain(table, "value"),
        table.get("unless-present", bool, "true or false", False),
    )
    table.no_others()
    return found


def _plain(table: Reader, key: str) -> str:
    """A value as text: texts, numbers and true or false are taken."""
    value = table.get(key, (str, int, float, bool), "a plain value", None)
    if value is None:
        table.fault("", f"lacks the key '{key}'")
        return ""
    return _text(value)


def _text(value: Any) -> str:
    return str(value).lower() if isinstance(value, bool) else str(value)


def _rename_key(reader: Reader, key: str) -> Act:
    table = reader.sub(key)
    found = RenameKey(_path(table, "file"), table.required("key"), table.required("to"))
    table.no_others()
    return found


def _remove_key(reader: Reader, key: str) -> Act:
    table = reader.sub(key)
    found = RemoveKey(_path(table, "file"), table.required("key"))
    table.no_others()
    return found


def _scale(reader: Reader, key: str) -> Act:
    table = reader.sub(key)
    found = ScaleKey(_path(table, "file"), table.required("key"), _factor(table, "factor", _plain(table, "factor")))
    table.no_others()
    return found


def _factor(table: Reader, key: str, text: str) -> Decimal:
    try:
        factor = Decimal(text)
    except InvalidOperation:
        factor = Decimal(0)
    if not factor.is_finite() or factor <= 0:
        table.fault(key, "should be a number above 0")
        return Decimal(1)
    return factor


def _records(reader: Reader, key: str) -> Act:
    table = reader.sub(key)
    rename, values, default, scale = (table.sub(name) for name in ("rename", "values", "default", "scale"))
    shape = Shape(
        {name: rename.string(name) for name in rename.table},
        {name: {old: _text(new) for old, new in values.sub(name).table.items()} for name in values.table},
        {name: _plain(default, name) for name in default.table},
        table.strings("drop"),
        {name: _factor(scale, name, _plain(scale, name)) for name in scale.table},
    )
    found = Records(_path(table, "files"), table.string("at"), shape)
    table.no_others()
    return found


def _sql(reader: Reader, key: str) -> Act:
    table = reader.sub(key)
    found = Sql(_path(table, "database"), _path(table, "files"))
    table.no_others()
    return found


def _program(reader: Reader, key: str) -> Act:
    table = reader.sub(key)
    command = table.strings("command")
    if not command:
        table.fault("command", "a list of arguments is wanted", 'as ["./convert", "--all"]')
    found = Program(
        command, table.time("limit", timedelta(hours=1)), table.pattern("expects"), table.strings("changes")
    )
    table.no_others()
    return found


def _engine(reader: Reader, key: str) -> Act:
    table = reader.sub(key)
    table.get("converts", bool, "true", True)
    table.no_others()
    return EngineConverts()


_ACTS = {
    "renumber": _renumber,
    "move": _move,
    "copy": _move,
    "remove": _remove,
    "set": _set,
    "rename-key": _rename_key,
    "remove-key": _remove_key,
    "scale": _scale,
    "records": _records,
    "sql": _sql,
    "program": _program,
    "engine": _engine,
}
