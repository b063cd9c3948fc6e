"""A database on a MariaDB or MySQL server: reaching it, asking it, and what it says when it refuses, in our words.

Values come as the server spells them: text as ``str``, what is binary as ``bytes``, numbers and times as ``str`` too,
so that nothing is rounded on the way.
"""

from __future__ import annotations

import re
import ssl
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from typing import Any

import pymysql
from pymysql.constants import CLIENT
from pymysql.converters import encoders
from pymysql.cursors import SSCursor

from emberkeep.errors import EmberKeepError, Place, Refused, RunFailed, UnreadableInput

LARGEST = 1 << 30
"""Bytes of the longest statement that servers can be told to take."""
WAITS = 60
"""Seconds that a statement waits for who holds a table."""
CONNECTS = 10
"""Seconds that connecting may take."""
_DENIED, _NO_SCHEMA, _NO_RIGHT = (1045, 1698), (1049,), (1044, 1142, 1227, 1370)
_LONGEST = 300
_SAID = re.compile(r"'(?:[^'\\]|''|\\.)*'|`(?:[^`]|``)*`", re.DOTALL)
"""A text, or a name in backticks."""
"""Letters of a server's message that are told."""
_HELD = (1205, 1213)
_LOST = (2006, 2013, 2055)
_UNREACHABLE = (2002, 2003, 2005)
_FULL = (1021, 1114)

Value = str | bytes | None


@dataclass(frozen=True)
class Access:
    """The way to a database. ``name``: what the keep calls it; ``client``: its dump client, "" to look for one."""

    name: str
    schema: str
    user: str
    password: str = field(default="", repr=False)
    host: str = ""
    port: int = 3306
    socket: str = ""
    certificate: str = ""
    client: str = ""
    plain: bool = False
    """Whether the way to a server elsewhere may be one that others can read."""

    @property
    def guarded(self) -> bool:
        """Whether the way must be sealed, to a server that proves who it is."""
        return bool(self.certificate) or not (self.is_here or self.plain)

    @property
    def is_here(self) -> bool:
        """Whether the server is on this machine."""
        return bool(self.socket) or self.host in ("localhost", "127.0.0.1", "::1")

    def __str__(self) -> str:
        return f"{self.user}@{self.socket or f'{self.host}:{self.port}'}/{self.schema}"


@dataclass(frozen=True)
class TableFacts:
    """A table as the server's catalogue knows it. ``rows`` and ``bytes`` are its guess."""

    name: str
    rows: int
    bytes: int


@dataclass(frozen=True)
class Column:
    """A column. ``binary``: whether its values are bytes; ``made``: whether the server computes it."""

    name: str
    type: str
    binary: bool
    text: bool
    made: bool

    @property
    def may_name(self) -> bool:
        """Whether it can hold an identifier of a player."""
        return self.text or self.binary or self.type.startswith(("bigint", "decimal", "uuid"))


def quoted(name: str) -> str:
    """A name as SQL spells it."""
    return "`" + name.replace("`", "``") + "`"


class _NeverInClear:
    """Answers a server that asks for the password itself, on a way that is not sealed."""

    def __init__(self, connection: object) -> None:
        """PyMySQL hands its connection over."""

    def authenticate(self, packet: object) -> object:
        raise pymysql.err.OperationalError(1045, "the server asks for the password in clear, which it is not given")


def _sealed(access: Access) -> ssl.SSLContext | None:
    """What the server's certificate is checked by; with one, PyMySQL goes on with no server that has none."""
    if not access.guarded:
        return None
    try:
        return ssl.create_default_context(cafile=access.certificate or None)
    except (OSError, ssl.SSLError) as error:
        raise UnreadableInput(f"no certificate can be read: {error}", place=Place(access.certificate)) from None


class Connection:
    """An open connection. ``schema``: what it works in."""

    def __init__(self, access: Access, *, schema: str | None = "") -> None:
        self.access = access
        self.schema = access.schema if schema == "" else schema
        with said(access):
            self._raw = pymysql.connect(
                host=access.host or None,
                port=access.port,
                unix_socket=access.socket or None,
                user=access.user,
                password=access.password,
                database=self.schema,
                charset="utf8mb4",
                conv={kind: act for kind, act in encoders.items() if not isinstance(kind, int)},
                connect_timeout=CONNECTS,
                max_allowed_packet=LARGEST,
                autocommit=True,
                client_flag=CLIENT.FOUND_ROWS,
                init_command=f"set session lock_wait_timeout = {WAITS}, innodb_lock_wait_timeout = {WAITS}",
                ssl=_sealed(access),
                ssl_disabled=not access.guarded,
                auth_plugin_map={} if access.guarded else {"mysql_clear_password": _NeverInClear},
            )

    def __enter__(self) -> Connection:
        return self

    def __exit__(self, *exception: object) -> None:
        self.close()

    def close(self) -> None:
        """Close it; one that was lost is closed already."""
        with suppress(pymysql.Error):
            self._raw.close()

    def execute(self, sql: str | bytes, values: Sequence[object] = ()) -> int:
        """Run a statement; how many rows it found. UnreadableInput as the server says it."""
        with said(self.access):
            return self.run(sql, values)

    def run(self, sql: str | bytes, values: Sequence[object] = ()) -> int:
        """The same, with the server's own errors, for callers that know where the statement stands."""
        with self._raw.cursor() as cursor:
            if values:
                assert isinstance(sql, str)
                sql = cursor.mogrify(sql, list(values))
            count: int = self._raw.query(sql)  # a file's bytes go as they are
            return count

    def rows(self, sql: str, values: Sequence[object] = ()) -> Iterator[tuple[Value, ...]]:
        """The rows of a query, as they come: memory stays small."""
        with said(self.access), self._raw.cursor(SSCursor) as cursor:
            cursor.execute(sql, list(values) or None)
            yield from cursor

    def all(self, sql: str, values: Sequence[object] = ()) -> list[tuple[Value, ...]]:
        """The rows of a short answer."""
        return list(self.rows(sql, values))

    def one(self, sql: str, values: Sequence[object] = ()) -> Value:
        """The first value of the first row; None where there is none."""
        found = self.all(sql, values)
        return found[0][0] if found else None

    @contextmanager
    def transaction(self) -> Iterator[None]:
        """All of the block, or nothing."""
        self.execute("start transaction")
        try:
            yield
        except BaseException:
            with suppress(pymysql.Error, OSError):
                self._raw.rollback()
            raise
        self.execute("commit")

    @contextmanager
    def held(self) -> Iterator[None]:
        """Hold the one place of who changes this database; Refused where another Ember Keep has it."""
        name = f"emberkeep {self.access.schema}"[:64]
        if str(self.one("select get_lock(%s, 0)", [name])) != "1":
            raise Refused(
                "another Ember Keep is changing this database",
                place=Place(f"{self.access.name} ({self.access})"),
                hint="wait until it has finished",
            )
        try:
            yield
        finally:
            with suppress(EmberKeepError):
                self.execute("do release_lock(%s)", [name])

    def use(self, schema: str) -> None:
        """Work in another schema."""
        self.execute(f"use {quoted(schema)}")
        self.schema = schema

    # --- what there is -----------------------------------------------------------

    def version(self) -> str:
        """The server's version, as it tells it."""
        return str(self.one("select version()"))

    def has_schema(self, schema: str) -> bool:
        """Whether there is a database of this name, as far as the user may see it."""
        return bool(self.all("select 1 from information_schema.schemata where schema_name = %s", [schema]))

    def tables(self, schema: str = "") -> list[TableFacts]:
        """The tables, without views, by name."""
        rows = self.all(
            "select table_name, coalesce(table_rows, 0), coalesce(data_length + index_length, 0)"
            " from information_schema.tables where table_schema = %s and table_type in"
            " ('BASE TABLE', 'SYSTEM VERSIONED') order by table_name",
            [schema or self.schema],
        )
        return [TableFacts(str(name), int(str(count)), int(str(size))) for name, count, size in rows]

    def columns(self, table: str) -> list[Column]:
        """The columns of a table, in order; UnreadableInput where there is no such table."""
        rows = self.all(
            "select column_name, column_type, data_type, character_set_name, extra from information_schema.columns"
            " where table_schema = %s and table_name = %s order by ordinal_position",
            [self.schema, table],
        )
        if not rows:
            raise UnreadableInput(f"there is no table {table}", place=Place(f"{self.access.name} ({self.access})"))
        return [
            Column(
                str(name),
                str(kind),
                charset is None and str(plain) in _BINARY,
                charset is not None,
                "generated" in str(extra).lower(),
            )
            for name, kind, plain, charset, extra in rows
        ]

    def key(self, table: str) -> list[str]:
        """The columns of a table's primary key, in order; none where it has none."""
        rows = self.all(
            "select column_name from information_schema.key_column_usage where table_schema = %s and table_name = %s"
            " and constraint_name = 'PRIMARY' order by ordinal_position",
            [self.schema, table],
        )
        return [str(row[0]) for row in rows]

    @staticmethod
    def quoted(name: str) -> str:
        """A name as SQL spells it."""
        return quoted(name)

    def literal(self, value: str) -> str:
        """A text as SQL spells it."""
        escaped: str = self._raw.escape(value)
        return escaped

    def condition(self, where: str) -> str:
        """An admin's condition for rows, in brackets; one that holds for all where there is none.

        UnreadableInput for double quotes: by the server's settings a text stands in them or a column, and a text that
        is compared instead of a column may hold for every row.
        """
        if '"' in _SAID.sub(" ", where):
            raise UnreadableInput(
                f"in the condition {where}, double quotes may mean a text or a column",
                place=Place(f"{self.access.name} ({self.access})"),
                hint="put texts in single quotes, and columns bare or in backticks",
            )
        return f"({where})" if where else "1"

    def count(self, table: str, where: str = "", values: Sequence[object] = ()) -> int:
        """How many rows of a table meet a condition."""
        clause = f" where {where}" if where else ""
        return int(str(self.one(f"select count(*) from {quoted(table)}{clause}", values)))


_BINARY = ("binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob", "bit", "geometry", "point", "polygon")


@contextmanager
def said(access: Access) -> Iterator[None]:
    """What the server or the line to it says, as an error of ours."""
    place = Place(f"{access.name} ({access})")
    try:
        yield
    except pymysql.Error as error:
        raise worded(error, place) from error
    except OSError as error:
        raise UnreadableInput(f"this database cannot be reached: {error}", place=place) from error


def worded(error: pymysql.Error, place: Place) -> UnreadableInput | RunFailed:
    """A server's error in our words, with what to do."""
    number, text = _code_and_text(error)
    text = " ".join(text.split())
    text = text if len(text) <= _LONGEST else f"{text[:_LONGEST]}…"
    if number in _UNREACHABLE:
        hint = "is the database server running, and are host, port or socket in keep.toml right?"
        return UnreadableInput(f"this database cannot be reached: {text}", place=place, hint=hint)
    if number in _DENIED:
        return UnreadableInput(
            f"the database server refuses user and password: {text}", place=place, hint="see user and secret there"
        )
    if number in _NO_SCHEMA:
        return UnreadableInput(f"there is no such database: {text}", place=place, hint="see schema in keep.toml")
    if number in _NO_RIGHT:
        return UnreadableInput(f"the user may not do this: {text}", place=place, hint="grant it to the user there")
    if number in _HELD:
        hint = "is the server stopped, and whatever else uses the database?"
        return UnreadableInput(f"somebody else holds what is to be changed: {text}", place=place, hint=hint)
    if number in _LOST:
        return RunFailed(f"the line to the database server was lost: {text}", place=place, hint="try again")
    if number in _FULL or "error 28" in text.lower() or "errno: 28" in text.lower():
        return RunFailed(f"the database server's disk is full: {text}", place=place, hint="make room there first")
    return UnreadableInput(f"{text} (error {number})" if number else text, place=place)


def _code_and_text(error: pymysql.Error) -> tuple[int, str]:
    args: tuple[Any, ...] = error.args
    if len(args) >= 2 and isinstance(args[0], int):
        return args[0], str(args[1])
    return 0, str(args[0] if args else error)
