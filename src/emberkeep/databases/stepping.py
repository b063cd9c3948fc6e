"""Running SQL files on a database, each once: what was run is told by a small table of ours in the database itself.

::

    ember_keep_applied (step, file, digest, applied)
        step     version step and part, as "4.2 > 4.3 structure"
        file     its path below the vendor's folder
        digest   BLAKE3 of its bytes, in hex
        applied  when, in UTC

So neither a second run nor another machine repeats a file; one whose bytes changed since is told of and not run again.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Protocol

import pymysql
from blake3 import blake3

from emberkeep.databases.mariadb import Connection, worded
from emberkeep.databases.sqlite import statements as sqlite_statements
from emberkeep.databases.statements import Statement, refuse_elsewhere, statements
from emberkeep.errors import EmberKeepError, Place, UnreadableInput

TABLE = "ember_keep_applied"
_MAKE = (
    f"create table if not exists {TABLE} (step varchar(64) not null, file varchar(255) not null,"
    " digest char(64) not null, applied varchar(32) not null, primary key (step, file))"
)
_ALL = f"select step, file, digest from {TABLE}"
_NOTE = f"insert into {TABLE} (step, file, digest, applied) values "
_KEPT = "nothing of it is kept"


@dataclass(frozen=True)
class Script:
    """A SQL file. ``step``: which version step and part it belongs to; ``place``: where it is, for messages."""

    step: str
    file: str
    data: bytes
    place: str

    @property
    def digest(self) -> str:
        """BLAKE3 of its bytes."""
        return str(blake3(self.data).hexdigest())


Applied = Mapping[tuple[str, str], str]
"""Digests of what was run, by step and file."""


class Target(Protocol):
    """A database that SQL files are run on."""

    def applied(self) -> Applied:
        """What was run on it already."""
        ...

    def run(self, script: Script, now: datetime) -> None:
        """Run a file and note it. UnreadableInput, with file and line, at the first statement that fails."""
        ...


@dataclass(frozen=True)
class Standing:
    """Which files of a step are yet to be run, and which were run with other bytes."""

    to_run: tuple[Script, ...]
    changed: tuple[Script, ...]


def standing(applied: Applied, scripts: Sequence[Script]) -> Standing:
    """What of ``scripts`` is yet to be done."""
    to_run = tuple(one for one in scripts if (one.step, one.file) not in applied)
    changed = tuple(one for one in scripts if applied.get((one.step, one.file), one.digest) != one.digest)
    return Standing(to_run, changed)


@dataclass(frozen=True)
class Served:
    """A database of a server."""

    connection: Connection

    def applied(self) -> Applied:
        """What the table of ours on the server tells; nothing where there is none."""
        there = self.connection.all(
            "select 1 from information_schema.tables where table_schema = %s and table_name = %s",
            [self.connection.schema, TABLE],
        )
        rows = self.connection.all(_ALL) if there else []
        return {(str(step), str(file)): str(digest) for step, file, digest in rows}

    def run(self, script: Script, now: datetime) -> None:
        """Each statement over the connection; refused, where one leads out of the schema. Then the note."""
        self.connection.execute(_MAKE)
        for statement in statements(iter([script.data.removeprefix(b"\xef\xbb\xbf")])):
            refuse_elsewhere(statement, script.place, self.connection.schema or "")
            try:
                self.connection.run(statement.text)
            except pymysql.Error as error:
                raise _at(worded(error, Place(script.place, statement.line)), script, statement) from error
        values = [script.step, script.file, script.digest, now.isoformat(timespec="seconds")]
        self.connection.execute(f"{_NOTE}(%s, %s, %s, %s)", values)


def _at(error: EmberKeepError, script: Script, statement: Statement) -> EmberKeepError:
    hint = error.faults[0].hint or _KEPT
    return type(error)(error.faults[0].what, place=Place(script.place, statement.line), hint=hint)


@dataclass(frozen=True)
class InFile:
    """A SQLite database, open within one transaction."""

    database: sqlite3.Connection

    def applied(self) -> Applied:
        """What the table of ours in the file tells; nothing where there is none."""
        there = self.database.execute("select 1 from sqlite_master where name = ?", [TABLE]).fetchone()
        rows = self.database.execute(_ALL).fetchall() if there else []
        return {(step, file): digest for step, file, digest in rows}

    def run(self, script: Script, now: datetime) -> None:
        """Each statement in the file, then the note."""
        self.database.execute(_MAKE)
        for line, statement in sqlite_statements(script.data.decode("utf-8-sig", "surrogateescape")):
            try:
                self.database.execute(statement)
            except (sqlite3.Error, sqlite3.Warning) as error:
                raise UnreadableInput(str(error), place=Place(script.place, line), hint=_KEPT) from error
        values = [script.step, script.file, script.digest, now.isoformat(timespec="seconds")]
        self.database.execute(f"{_NOTE}(?, ?, ?, ?)", values)
