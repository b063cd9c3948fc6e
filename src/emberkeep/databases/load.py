"""Putting a dump back: loaded beside under another name, checked against what was recorded, then swapped in.

Until the swap the old database serves on and nothing of it is changed. The swap is one ``rename table`` of all tables;
views, triggers, routines and events follow, and when one of them cannot be made, the old ones are put back.

While this goes on there are two more databases on the server, ``NAME_ember_new`` and ``NAME_ember_old``; what an
interrupted run left of them is dropped at the next.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass, field

import pymysql

from emberkeep.callbacks import Progress, no_op
from emberkeep.databases.dump import COMPLETE, Facts, TableDump, Watch, dumped
from emberkeep.databases.mariadb import Access, Connection, quoted, said, worded
from emberkeep.databases.statements import Splitter, Statement, lines
from emberkeep.errors import Damage, EmberKeepError, Place, RunFailed

Chunks = Callable[[], Iterator[bytes]]
NEW, OLD = "_ember_new", "_ember_old"
_BATCH = 1 << 20
"""Bytes of rows that are sent as one statement."""
_INSERT, _VALUES, _MANY = b"INSERT INTO ", b" VALUES (", b" VALUES\n"
_TABLE = re.compile(rb"-- (?:Table|Sequence) structure for ")
_SECTIONS = {
    b"-- Temporary table structure for view ": "stubs",
    b"-- Temporary view structure for view ": "stubs",
    b"-- Dumping events for ": "events",
    b"-- Dumping routines for ": "routines",
    b"-- Final view structure for ": "views",
}
_DROPS = {"trigger": "triggers", "event": "events"}


@dataclass
class _Frame:
    """What stands around a database's tables, as the statements that make it. ``stubs``: of views, so that views may
    name one another."""

    stubs: list[Statement] = field(default_factory=list)
    routines: list[Statement] = field(default_factory=list)
    views: list[Statement] = field(default_factory=list)
    triggers: list[Statement] = field(default_factory=list)
    events: list[Statement] = field(default_factory=list)

    def in_order(self, *, events: bool = True) -> list[Statement]:
        """As they are made: what others may use comes first; events last, since they may fire at once."""
        return [*self.routines, *self.stubs, *self.views, *self.triggers, *(self.events if events else [])]


def restore(access: Access, dump: Chunks, facts: Facts, size: int, progress: Progress = no_op) -> None:
    """Make the database at ``access`` what ``dump`` (``size`` bytes) says.

    RunFailed, with the old one serving as before, when it cannot be loaded, or what was loaded is not what ``facts``
    says.
    """
    new = access.schema + NEW
    with Connection(access, schema=None) as connection:
        _drop(connection, new)
        _make(connection, new, facts)
        try:
            frame = _loaded(connection, access, new, dump, size, progress)
            _check(access, new, facts)
            _make_frame(connection, new, frame, but_events=True)  # what cannot be made is found before the swap
            _unframe(connection, new)
            _swap(connection, access, new, facts, frame)
        finally:
            with suppress(EmberKeepError):
                _drop(connection, new)


def _drop(connection: Connection, schema: str) -> None:
    connection.execute(f"drop database if exists {quoted(schema)}")


def _make(connection: Connection, schema: str, facts: Facts) -> None:
    charset, collation = (re.sub(r"[^\w]", "", text) for text in (facts.charset, facts.collation))
    connection.execute(f"create database {quoted(schema)} character set {charset} collate {collation}")


def _spell(connection: Connection, schema: str, facts: Facts) -> None:
    """Give a database the character set that tables are made with where they do not tell one."""
    wanted = tuple(re.sub(r"[^\w]", "", text) for text in (facts.charset, facts.collation))
    now = connection.all(
        "select default_character_set_name, default_collation_name from information_schema.schemata"
        " where schema_name = %s",
        [schema],
    )
    if wanted not in now:
        connection.execute(f"alter database {quoted(schema)} character set {wanted[0]} collate {wanted[1]}")


# --- loading ---------------------------------------------------------------------


def _loaded(connection: Connection, access: Access, schema: str, dump: Chunks, size: int, progress: Progress) -> _Frame:
    """Load tables and rows into an empty schema; what stands around them."""
    connection.use(schema)
    frame, rows = _Frame(), _Rows(connection, access)
    section, done, complete = "table", 0, False
    splitter = Splitter()
    for line in lines(dump()):
        done += len(line)
        if splitter.between and rows.take(line):
            splitter.line += 1
            progress(done, size)
            continue
        rows.flush()
        if line.startswith(b"-- ") and splitter.between:
            section = _section(line, section)
        for statement in splitter.feed(line):
            if section != "table":
                getattr(frame, section).append(statement)
            elif statement.text == b"UNLOCK TABLES":
                section = "triggers"
            elif not statement.text.startswith(b"LOCK TABLES "):  # nobody else is there, and it would hold up the check
                _run(connection, access, statement)
        complete = complete or line.startswith(COMPLETE)
    rows.flush()
    if not complete:
        raise RunFailed(
            "this dump ends early",
            place=Place(f"dump of {access.name}", splitter.line),
            hint="take a new snapshot; restore another one",
        )
    return frame


def _section(line: bytes, section: str) -> str:
    if _TABLE.match(line):
        return "table"
    return next((name for start, name in _SECTIONS.items() if line.startswith(start)), section)


@dataclass
class _Rows:
    """Rows that are sent as they stand, or, where each is a statement of its own, together."""

    connection: Connection
    access: Access
    _head: bytes = b""
    _held: list[bytes] = field(default_factory=list)
    _size: int = 0

    def take(self, line: bytes) -> bool:
        """Take a line that belongs to rows; False when it is anything else."""
        if self._head.endswith(b"\n"):  # within a statement of many rows
            self._held.append(line)
            if line.endswith(b");\n"):
                self.flush()
            return True
        if not line.startswith(_INSERT):
            return False
        if line.endswith(_MANY):
            self.flush()
            self._head = line
            return True
        if not line.endswith(b");\n"):
            return False
        if not self._head or not line.startswith(self._head):
            self.flush()
            end = line.find(_VALUES)
            if end < 0:
                return False
            self._head = line[: end + len(_VALUES) - 1]
        self._held += [b"," if self._held else b"", line[len(self._head) : -2]]
        self._size += len(line)
        if self._size >= _BATCH:
            self.flush()
        return True

    def flush(self) -> None:
        """Send what is held."""
        if self._held:
            with said(self.access):
                self.connection.run(self._head + b"".join(self._held).removesuffix(b";\n"))
        self._head, self._held, self._size = b"", [], 0


def _run(connection: Connection, access: Access, statement: Statement) -> None:
    try:
        connection.run(statement.text)
    except pymysql.Error as error:
        raise worded(error, Place(f"dump of {access.name}", statement.line)) from error


def _check(access: Access, schema: str, facts: Facts) -> None:
    """What was loaded is dumped again: row by row it must be what was recorded."""
    watch = Watch()
    for _ in dumped(access, watch, "--skip-triggers", "--skip-routines", "--skip-events", schema=schema):
        pass
    wrong = [name for name in {**facts.tables, **watch.tables} if facts.tables.get(name) != watch.tables.get(name)]
    if wrong:
        rows = [_rows(found.tables.get(wrong[0])) for found in (facts, watch)]
        more = f" (and {len(wrong) - 1} more tables)" if len(wrong) > 1 else ""
        raise RunFailed(
            f"what was loaded is not what was dumped: table {wrong[0]} has {rows[1]}, {rows[0]} were recorded{more}",
            place=Place(f"{access.name} ({access})"),
            hint="the old database serves on",
        )


def _rows(table: TableDump | None) -> str:
    return f"{table.rows} rows" if table is not None else "no rows"


# --- what stands around the tables -----------------------------------------------


def _make_frame(connection: Connection, schema: str, frame: _Frame, *, but_events: bool = False) -> None:
    connection.use(schema)
    connection.execute("set foreign_key_checks = 0")
    for statement in frame.in_order(events=not but_events):
        _run(connection, connection.access, statement)


def _unframe(connection: Connection, schema: str) -> None:
    """Take away views, triggers, routines and events: tables with triggers cannot be moved."""
    at = quoted(schema)
    for kind, catalogue in _DROPS.items():
        names = connection.all(
            f"select {kind}_name from information_schema.{catalogue} where {kind}_schema = %s", [schema]
        )
        for (name,) in names:
            connection.execute(f"drop {kind} {at}.{quoted(str(name))}")
    for routine, name in connection.all(
        "select routine_type, routine_name from information_schema.routines where routine_schema = %s"
        " and routine_type in ('FUNCTION', 'PROCEDURE')",
        [schema],
    ):
        connection.execute(f"drop {routine!s} {at}.{quoted(str(name))}")
    for (view,) in connection.all("select table_name from information_schema.views where table_schema = %s", [schema]):
        connection.execute(f"drop view {at}.{quoted(str(view))}")


def _frame_of(access: Access, schema: str) -> _Frame:
    """What stands around the tables of a database now, as the statements that would make it again."""
    frame, section, splitter = _Frame(), "table", Splitter()
    for line in lines(dumped(access, Watch(), "--no-data", schema=schema)):
        if line.startswith(b"-- ") and splitter.between:
            section = _section(line, section)
        elif section == "table" and line.startswith(b"/*!50003 SET @saved_cs_client") and splitter.between:
            section = "triggers"  # without rows there is no UNLOCK TABLES before them
        for statement in splitter.feed(line):
            if section != "table":
                getattr(frame, section).append(statement)
    return frame


# --- the swap --------------------------------------------------------------------


def _movable(connection: Connection, schema: str) -> list[str]:
    rows = connection.all(
        "select table_name from information_schema.tables where table_schema = %s and table_type in"
        " ('BASE TABLE', 'SYSTEM VERSIONED', 'SEQUENCE')",
        [schema],
    )
    return [str(row[0]) for row in rows]


def _swap(connection: Connection, access: Access, new: str, facts: Facts, frame: _Frame) -> None:
    live, old = access.schema, access.schema + OLD
    if not connection.has_schema(live):
        _make(connection, live, facts)
    try:
        before = _frame_of(access, live)
    except EmberKeepError:  # a view that names what is not there any more cannot be dumped, nor put back
        before = _Frame()
    _drop(connection, old)
    _make(connection, old, facts)
    _spell(connection, live, facts)
    olds, news = _movable(connection, live), _movable(connection, new)
    connection.execute("set foreign_key_checks = 0")
    try:
        _unframe(connection, live)
        _rename(connection, [*_moves(olds, live, old), *_moves(news, new, live)])
    except EmberKeepError as error:
        raise _back(connection, access, error, before, []) from error
    try:
        _make_frame(connection, live, frame)
    except EmberKeepError as error:
        raise _back(connection, access, error, before, [*_moves(news, live, new), *_moves(olds, old, live)]) from error
    _drop(connection, old)


def _moves(names: list[str], source: str, target: str) -> list[str]:
    return [f"{quoted(source)}.{quoted(name)} to {quoted(target)}.{quoted(name)}" for name in names]


def _rename(connection: Connection, moves: list[str]) -> None:
    if moves:
        connection.execute(f"rename table {', '.join(moves)}")


def _back(
    connection: Connection, access: Access, error: EmberKeepError, before: _Frame, moves: list[str]
) -> EmberKeepError:
    """Put the old tables and what stood around them back; what that came to."""
    what = error.faults[0].what
    place = error.faults[0].place or Place(f"{access.name} ({access})")
    try:
        _unframe(connection, access.schema)
        _rename(connection, moves)
        _make_frame(connection, access.schema, before)
    except EmberKeepError as second:
        return Damage(
            f"the database could not be put in place ({what}), nor the old one back ({second.faults[0].what})",
            place=place,
            hint=f"its tables are in {access.schema}{OLD}; 'emberkeep undo --go' goes on once the server can",
        )
    with suppress(EmberKeepError):
        _drop(connection, access.schema + OLD)
    return RunFailed(
        f"the database could not be put in place: {what}; the old one serves",
        place=place,
        hint="mend that on the database server, and run the same again",
    )
