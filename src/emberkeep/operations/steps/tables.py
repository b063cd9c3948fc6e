"""Contents of tables that the vendor ships as SQL: merged with the live ones by primary key, as files are by record.

The vendor's old and new SQL is each run in a database of its own (``NAME_ember_new`` on the server, dropped again; in
memory for SQLite), and read from there: so it may be anything that makes rows. Each table is then three XML files, and
merging, questions, answers, rules and standing orders are those of files. What was merged is one transaction.
"""

from __future__ import annotations

import re
import sqlite3
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import closing, contextmanager, suppress
from dataclasses import dataclass, replace

import pymysql
from blake3 import blake3

from emberkeep.databases import mariadb, sqlite, tables
from emberkeep.databases.access import ROLE, access
from emberkeep.databases.load import NEW
from emberkeep.databases.mariadb import Connection, worded
from emberkeep.databases.rows import unquoted
from emberkeep.databases.statements import Statement, refuse_elsewhere, statements
from emberkeep.databases.tables import InFile, Row, Served, Shape, Source
from emberkeep.errors import EmberKeepError, Fault, Place, Refused, UnreadableInput
from emberkeep.fs import globs
from emberkeep.fs.trees import Kind, Tree, read
from emberkeep.keep.keep import Keep
from emberkeep.keep.tables.databases import Database
from emberkeep.merging.merge import merge_file
from emberkeep.merging.orders import Order
from emberkeep.merging.results import FileMerge, Merge, Outcome, Resolver
from emberkeep.migrating.vendor import natural
from emberkeep.operations.engine.step import FileStep, Notes, Plan, RunContext
from emberkeep.store.manifest import beside

_MAKES = re.compile(rb"\s*create\s+table\s+(?:if\s+not\s+exists\s+)?(`(?:``|[^`])+`|\"[^\"]+\"|[\w$]+)", re.IGNORECASE)


@dataclass(frozen=True)
class Ways:
    """How tables are merged: what settles questions, and the standing orders."""

    resolve: Resolver
    orders: Sequence[Order]


def path_of(name: str, table: str) -> str:
    """What a table is called where files are."""
    return f"{ROLE}/{name}/{table}.xml"


def mergeable(keep: Keep, only: Sequence[str] = ()) -> list[Database]:
    """The databases of which the vendor ships contents, or those of them that are selected."""
    with_defaults = [one for one in keep.config.databases.all if one.defaults]
    return [one for one in with_defaults if not only or ROLE in only or f"{ROLE}/{one.name}" in only]


def merge_tables(keep: Keep, old: Tree, new: Tree, live: Tree, ways: Ways, only: Sequence[str] = ()) -> list[FileMerge]:
    """The merges of all tables that the new release ships. ``live``: the server folder, where SQLite files are."""
    return [item for one in mergeable(keep, only) for item in _merged(keep, one, old, new, live, ways)]


def _merged(keep: Keep, one: Database, old: Tree, new: Tree, live: Tree, ways: Ways) -> list[FileMerge]:
    found = []
    with _live(keep, one, live) as mine:
        shapes, faults = _shapes(keep, one, new, live, mine)
        shipped = _contents(keep, one, new, live, shapes)
        before = _contents(keep, one, old, live, {name: shapes[name] for name in shipped}, mine)
        for name, data in shipped.items():
            here = tables.to_xml(mine, shapes[name])
            rules = {f"{tables.xml_name(name)}/row": tuple(f"@{tables.xml_name(key)}" for key in shapes[name].key)}
            path = path_of(one.name, name)
            item = merge_file(path, before.get(name), here, data, rules=rules, resolve=ways.resolve, orders=ways.orders)
            digest = blake3(here).hexdigest()
            found.append(replace(item, based_on=digest, database=one.name, columns=shapes[name].columns))
    return [*found, *(_left_out(one, fault) for fault in faults)]


def _left_out(one: Database, fault: Fault) -> FileMerge:
    path = fault.place.file if fault.place else one.name
    return FileMerge(path, Outcome.SAME, "xml", warnings=(fault,), database=one.name)


def _shapes(keep: Keep, one: Database, new: Tree, live: Tree, mine: Source) -> tuple[dict[str, Shape], list[Fault]]:
    """The tables that are merged, with the columns that both the live ones and those shipped have; and why others are
    not."""
    found, faults = {}, []
    there = set(mine.names())
    with _shipped(keep, one, new, live) as source:
        for name in source.names() if source else ():
            place = Place(path_of(one.name, name))
            if name not in there:
                faults.append(Fault("this table is not there yet", place, "the vendor's SQL makes it: migrate --sql"))
                continue
            shape, shipped = mine.shape(name), source.shape(name) if source else mine.shape(name)
            shared = tuple(column for column in shape.columns if column in shipped.columns)
            if not shape.key or not set(shape.key) <= set(shared):
                faults.append(Fault("this table has no primary key to tell its rows by, and is not merged", place))
                continue
            found[name] = replace(shape, columns=shared)
    return found, faults


def _contents(
    keep: Keep, one: Database, tree: Tree, live: Tree, shapes: Mapping[str, Shape], mine: Source | None = None
) -> dict[str, bytes]:
    """The tables of a release as XML. ``mine``: where columns that the release does not know yet are taken from."""
    found = {}
    with _shipped(keep, one, tree, live) as source:
        for name in source.names() if source else ():
            if source is None or name not in shapes:
                continue
            known = source.shape(name).columns
            lacking = [column for column in shapes[name].columns if column not in known]
            if not set(shapes[name].key) <= set(known):
                continue
            further = _by_key(mine, shapes[name], lacking) if mine and lacking else {}
            columns = tuple(column for column in shapes[name].columns if column in known)
            found[name] = tables.to_xml(source, replace(shapes[name], columns=columns), further)
    return found


def _by_key(source: Source, shape: Shape, columns: Sequence[str]) -> dict[tuple[object, ...], Row]:
    rows = source.rows(replace(shape, columns=(*shape.key, *(name for name in columns if name not in shape.key))))
    return {tuple(row[name] for name in shape.key): {name: row[name] for name in columns} for row in rows}


# --- the live tables ---------------------------------------------------------------


@contextmanager
def _live(keep: Keep, one: Database, live: Tree) -> Iterator[Source]:
    if one.served:
        with Connection(access(keep, one)) as connection:
            yield Served(connection)
        return
    with sqlite.of_tree(live, _file_of(one, live)) as database:
        yield InFile(database)


def _file_of(one: Database, live: Tree) -> str:
    fitting = [path for path in live.entries() if globs.matches(path, [one.file])]
    if not fitting:
        raise Refused(
            f"no database fits {one.file}",
            place=Place(one.name),
            hint="see the glob in this step; [[database]] in keep.toml names those of a server",
        )
    return fitting[-1]


# --- what the vendor ships ---------------------------------------------------------


@contextmanager
def _shipped(keep: Keep, one: Database, tree: Tree, live: Tree) -> Iterator[Source | None]:
    """What a release ships for a database, while it is looked at; None where that is nothing."""
    there = [path for path, entry in tree.entries().items() if entry.kind is Kind.FILE]
    paths = sorted((path for path in there if globs.matches(path, list(one.defaults))), key=natural)
    if not paths:
        yield None
        return
    with _on_the_server(keep, one, tree, paths) if one.served else _in_memory(one, tree, paths, live) as source:
        yield source


@contextmanager
def _on_the_server(keep: Keep, one: Database, tree: Tree, paths: Sequence[str]) -> Iterator[Source]:
    way = access(keep, one)
    context = way.schema + NEW
    at = mariadb.quoted(context)
    scripts = {path: list(statements(iter([_bare(tree, path)]))) for path in paths}
    made = {_made(statement.text) for script in scripts.values() for statement in script} - {""}
    with Connection(way) as connection, connection.held():
        live = [table.name for table in connection.tables() if table.name not in made]
        connection.execute(f"drop database if exists {at}")
        connection.execute(f"create database {at}")
        try:
            for name in live:
                connection.execute(f"create table {at}.{mariadb.quoted(name)} like {mariadb.quoted(name)}")
            connection.use(context)
            connection.execute("set foreign_key_checks = 0")
            for path, script in scripts.items():
                _run(connection, script, f"{tree.label}/{path}")
            yield Served(connection, only=_shipped_tables(one, connection))
        finally:
            with suppress(EmberKeepError):
                connection.execute(f"drop database if exists {at}")


def _run(connection: Connection, script: Sequence[Statement], place: str) -> None:
    for statement in script:
        refuse_elsewhere(statement, place, connection.schema or "")
        try:
            connection.run(statement.text)
        except pymysql.Error as error:
            raise worded(error, Place(place, statement.line)) from error


def _shipped_tables(one: Database, connection: Connection) -> frozenset[str]:
    """The tables whose contents a release ships: those that hold rows, of those that keep.toml names."""
    names = [table.name for table in connection.tables() if not one.tables or table.name in one.tables]
    return frozenset(name for name in names if connection.all(f"select 1 from {mariadb.quoted(name)} limit 1"))


@contextmanager
def _in_memory(one: Database, tree: Tree, paths: Sequence[str], live: Tree) -> Iterator[Source]:
    texts = {path: _bare(tree, path).decode("utf-8", "surrogateescape") for path in paths}
    scripts = {path: list(sqlite.statements(text)) for path, text in texts.items()}
    made = {_made(text.encode()) for script in scripts.values() for _, text in script} - {""}
    with closing(sqlite3.connect(":memory:", isolation_level=None)) as database:
        database.set_authorizer(sqlite.no_files)
        with sqlite.of_tree(live, _file_of(one, live)) as there:
            for name, text in there.execute("select name, sql from sqlite_master where type = 'table'").fetchall():
                if name not in made and not name.startswith("sqlite_"):
                    database.execute(text)
        for path, script in scripts.items():
            for line, text in script:
                try:
                    database.execute(text)
                except (sqlite3.Error, sqlite3.Warning) as error:
                    raise UnreadableInput(str(error), place=Place(f"{tree.label}/{path}", line)) from error
        names = [name for name in sqlite.tables(database) if not one.tables or name in one.tables]
        only = [name for name in names if database.execute(f"select 1 from {sqlite.quoted(name)} limit 1").fetchone()]
        yield InFile(database, only=frozenset(only))


def _bare(tree: Tree, path: str) -> bytes:
    return read(tree, path).removeprefix(b"\xef\xbb\xbf")


def _made(text: bytes) -> str:
    """The table that a statement makes; "" for none."""
    found = _MAKES.match(text)
    return unquoted(found[1]).strip('"') if found else ""


# --- writing -----------------------------------------------------------------------


def write(source: Source, one: Database, items: Sequence[FileMerge]) -> int:
    """Make the live tables what was merged, within a transaction of the caller's; how many rows were changed.

    Refused where a table is not what it was when the merge was worked out.
    """
    count = 0
    for item in items:
        name = _table_of(one, item)
        root = item.data or b""
        columns = item.columns
        shape = replace(source.shape(name), columns=columns)
        here = tables.to_xml(source, shape)
        if blake3(here).hexdigest() != item.based_on:
            raise Refused(
                "this table changed while the merge was worked out", place=Place(item.path), hint="merge again"
            )
        mine, merged = (tables.from_xml(data, shape, item.path) for data in (here, root))
        for writing in tables.statements(source, shape, mine, merged):
            source.write(writing.sql, writing.values)
            count += 1
    return count


def _table_of(one: Database, item: FileMerge) -> str:
    return item.path.removeprefix(path_of(one.name, "").removesuffix(".xml")).removesuffix(".xml")


class TablesStep(FileStep):
    """Merge the contents of tables. ``known``: the merge, where it was worked out; else it is worked out when its turn
    comes, after the vendor's SQL has given the tables their new structure."""

    def __init__(
        self,
        new: str,
        only: Sequence[str],
        merge: Callable[[RunContext], Merge],
        known: Merge | None = None,
    ) -> None:
        self.only, self.merge, self.known = tuple(only), merge, known
        self.found: Merge | None = None
        super().__init__("tables", f"merge the contents of tables that {new} ships", self._change)

    def _change(self, context: RunContext) -> Notes:
        self.found = found = self.known or self.merge(context)
        if found.faults:
            raise UnreadableInput.gathered(found.faults)
        notes = Notes()
        for one in mergeable(context.keep, self.only):
            items = [item for item in found.tables_to_write if item.database == one.name]
            if items and not one.served:
                path = _file_of(one, context.folder)

                def act(database: sqlite3.Connection, one: Database = one, items: list[FileMerge] = items) -> int:
                    return write(InFile(database), one, items)

                context.folder.write(path, sqlite.rewritten(context.folder, path, act)[0])
            names = ", ".join(_table_of(one, item) for item in items) or "no table changes"
            notes.lines.append(f"{one.name}: {names}")
        waits = [question for item in found.of_tables for question in item.open]
        if waits:
            notes.warnings.append(f"{len(waits)} questions wait for you; until then yours stay")
        return notes

    def plan(self, context: RunContext) -> Plan:
        """The tables that change; served databases count as touched whole."""
        plan = super().plan(context)
        served = [one for one in mergeable(context.keep, self.only) if one.served]
        return replace(plan, touched=plan.touched | {beside(one.name) for one in served})

    def act(self, context: RunContext, plan: Plan) -> None:
        """Write the merged rows: into SQLite files as planned, into served databases in one transaction each."""
        super().act(context, plan)
        assert self.found is not None
        for one in mergeable(context.keep, self.only):
            items = [item for item in self.found.tables_to_write if item.database == one.name]
            if items and one.served:
                with Connection(access(context.keep, one)) as connection, connection.held(), connection.transaction():
                    connection.execute("set foreign_key_checks = 0")
                    write(Served(connection), one, items)
                    _check_references(connection, [_table_of(one, item) for item in items])
        context.findings.tables = self.found


def _check_references(connection: Connection, names: Sequence[str]) -> None:
    """Refused where a row of these tables, or one that refers to them, refers to a row that is not there."""
    rows = connection.all(
        "select constraint_name, table_name, column_name, referenced_table_name, referenced_column_name"
        " from information_schema.key_column_usage where table_schema = %s and referenced_table_schema = %s"
        " order by constraint_name, ordinal_position",
        [connection.schema, connection.schema],
    )
    keys: dict[tuple[str, str, str], list[tuple[str, str]]] = {}
    for name, table, column, other, there in rows:
        if str(table) in names or str(other) in names:
            keys.setdefault((str(name), str(table), str(other)), []).append((str(column), str(there)))
    q = mariadb.quoted
    for (name, table, other), pairs in keys.items():
        joined = " and ".join(f"a.{q(one)} = b.{q(two)}" for one, two in pairs)
        present = " and ".join(f"a.{q(one)} is not null" for one, _ in pairs)
        missing = f"b.{q(pairs[0][1])} is null"
        count = connection.one(
            f"select count(*) from {q(table)} a left join {q(other)} b on {joined} where {present} and {missing}"
        )
        if count != "0":
            raise Refused(
                f"{count!s} rows of {table} would refer to rows of {other} that are not there ({name})",
                place=Place(connection.access.name),
                hint="answer the questions about these rows otherwise",
            )
