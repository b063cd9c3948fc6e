"""Opening SQLite files for reading only, without leaving a trace beside them.

A database in write-ahead mode is read from a copy, with its log: opened in place, SQLite would make files beside it.
One that another program holds locked is said to be so.
"""

from __future__ import annotations

import re
import shutil
import sqlite3
import tempfile
from collections.abc import Callable, Iterable, Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from typing import TypeVar

from emberkeep.errors import Place, Refused, UnreadableInput
from emberkeep.fs.private import has_log
from emberkeep.fs.trees import Tree, read

MAGIC = b"SQLite format 3\0"
_T = TypeVar("_T")
_TEXT = re.compile(r"'(?:[^']|'')*'")
_NAME = re.compile(r'"((?:[^"]|"")+)"')
FEW_ROWS = 2
"""Rows of a table of the engine's own in a database of players: its format, when it was made."""
LARGE = 64 << 20
"""Bytes of a database that is not copied to be read."""


def is_sqlite(head: bytes) -> bool:
    """Whether a file that begins so is a SQLite database."""
    return head.startswith(MAGIC)


@contextmanager
def opened(path: Path, name: str = "") -> Iterator[sqlite3.Connection]:
    """The database in ``path``, read-only. ``name``: what messages call it. UnreadableInput when it is locked, torn or
    none, also for what goes wrong while it is read."""
    with tempfile.TemporaryDirectory(prefix="emberkeep-") as room:
        try:
            source = _quiet_copy(path, Path(room)) if has_log(path) else path
            with closing(sqlite3.connect(source.resolve().as_uri() + "?mode=ro", uri=True, timeout=0)) as database:
                database.text_factory = _text
                database.execute("pragma trusted_schema = off")
                database.execute("select count(*) from sqlite_master").fetchone()
                yield database
        except (sqlite3.Error, OSError) as error:
            raise UnreadableInput(f"this database cannot be read: {error}", place=Place(name or str(path))) from error


def _quiet_copy(path: Path, room: Path) -> Path:
    copy = room / "copy.db"
    shutil.copyfile(path, copy)
    log = path.with_name(path.name + "-wal")
    if log.exists():
        shutil.copyfile(log, copy.with_name(copy.name + "-wal"))
    return copy


def _text(raw: bytes) -> str:
    return raw.decode("utf-8", "backslashreplace")


def quoted(name: str) -> str:
    """A table or column name as SQL spells it. Not in double quotes: what stands in these and is no column SQLite takes
    for a text, and a misspelled column would be compared as such."""
    return "`" + name.replace("`", "``") + "`"


def columns(database: sqlite3.Connection, table: str) -> list[str]:
    """Names of a table's columns, in order."""
    return [row[1] for row in database.execute(f"pragma table_info({quoted(table)})")]


def condition(database: sqlite3.Connection, table: str, where: str) -> str:
    """An admin's condition for rows of a table, in brackets; one that holds for all where there is none.

    sqlite3.OperationalError for a name in double quotes that is no column: SQLite would take it for a text, and compare
    that instead.
    """
    if not where:
        return "1"
    known = {name.lower() for name in columns(database, table)} | {table.lower(), "rowid"}
    for name in _NAME.findall(_TEXT.sub(" ", where)):
        if name.replace('""', '"').lower() not in known:
            raise sqlite3.OperationalError(f"no such column: {name}; a text stands in single quotes")
    return f"({where})"


def tables(database: sqlite3.Connection) -> list[str]:
    """Names of the tables, SQLite's own and virtual ones left out, sorted."""
    rows = database.execute(
        "select name from sqlite_master where type = 'table' and name not like 'sqlite\\_%' escape '\\' "
        "and sql not like 'create virtual%' order by name"
    )
    return [row[0] for row in rows]


def with_referring(database: sqlite3.Connection, owned: Iterable[str]) -> frozenset[str]:
    """Tables and those whose rows belong to theirs, as their foreign keys declare it."""
    referred = {
        name: {row[2] for row in database.execute(f"pragma foreign_key_list({quoted(name)})")}
        for name in tables(database)
    }
    found = set(owned)
    while more := {name for name, to in referred.items() if to & found} - found:
        found |= more
    return frozenset(found)


@contextmanager
def of_tree(tree: Tree, path: str) -> Iterator[sqlite3.Connection]:
    """A database of a tree, with its write-ahead log, read-only, from a copy; a large one that nobody holds locked
    where it lies."""
    place = tree.on_disk(path) if tree.entries()[path].size > LARGE else None
    if place is not None and not has_log(place) and _is_free(place):
        with opened(place, path) as database:
            yield database
        return
    with tempfile.TemporaryDirectory(prefix="emberkeep-") as room:
        copy = Path(room) / "copy.db"
        for end in ("", "-wal"):
            if path + end in tree.entries():
                with copy.with_name(copy.name + end).open("wb") as handle:
                    handle.writelines(tree.chunks(path + end))
        with opened(copy, path) as database:
            yield database


def _is_free(path: Path) -> bool:
    """Whether nobody holds a database locked."""
    try:
        with opened(path):
            return True
    except UnreadableInput:
        return False


def rewritten(
    tree: Tree, path: str, act: Callable[[sqlite3.Connection], _T], *, in_use: bool = False
) -> tuple[bytes, _T]:
    """A database of a tree as ``act``, within one transaction on a copy, leaves it, and what ``act`` returns.

    SQL of strangers opens no other files. Refused when a log of a server that crashed lies beside it; ``in_use``: a
    server may be using it, so a log is read along.
    """
    beside = [path + end for end in ("-wal", "-journal") if path + end in tree.entries()]
    if not in_use and any(tree.entries()[name].size for name in beside):
        raise Refused(f"{beside[0]} is left of a server that crashed", place=Place(path), hint="start and stop it once")
    data = read(tree, path)
    if not is_sqlite(data[:16]):
        raise UnreadableInput("this is no SQLite database", place=Place(path))
    with tempfile.TemporaryDirectory(prefix="emberkeep-") as room:
        copy = Path(room) / "copy.db"
        copy.write_bytes(data)
        for name in beside if in_use else ():
            copy.with_name(copy.name + name.removeprefix(path)).write_bytes(read(tree, name))
        with closing(sqlite3.connect(copy, isolation_level=None)) as database:
            database.set_authorizer(no_files)
            database.execute("begin")
            result = act(database)
            database.execute("commit")
        return copy.read_bytes(), result


def no_files(action: int, *_details: object) -> int:
    """No other files."""
    return sqlite3.SQLITE_DENY if action in (sqlite3.SQLITE_ATTACH, sqlite3.SQLITE_DETACH) else sqlite3.SQLITE_OK


def statements(text: str) -> Iterator[tuple[int, str]]:
    """Each statement of a SQL file, with the 1-based line that it begins on."""
    waiting, begun = "", 1
    for number, line in enumerate(text.splitlines(keepends=True), 1):
        if not waiting.strip():
            waiting, begun = "", number
        for part in re.split(r"(?<=;)", line):
            waiting += part
            if sqlite3.complete_statement(waiting):
                if waiting.strip().rstrip(";").strip() and not _ends_transaction(waiting):
                    yield begun, waiting
                waiting, begun = "", number
    if waiting.strip() and not all(part.strip().startswith("--") for part in waiting.splitlines() if part.strip()):
        yield begun, waiting


def _ends_transaction(statement: str) -> bool:
    """Whether a statement begins or ends a transaction: the whole step is one."""
    bare = re.sub(r"--[^\n]*|/\*.*?\*/", " ", statement, flags=re.DOTALL).strip().rstrip(";").strip().lower()
    return (
        re.fullmatch(r"(?:begin|commit|end|rollback)(?: transaction| immediate| exclusive| deferred)?", bare)
        is not None
    )
