"""Databases of servers within snapshots and runs: dumped along, compared with what was dumped, put back."""

from __future__ import annotations

import sqlite3
import tempfile
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, replace
from datetime import datetime

from emberkeep.callbacks import Progress, no_op
from emberkeep.comparing.dumps import Side, compare_dumps
from emberkeep.comparing.files import FileDifference
from emberkeep.comparing.records import Difference
from emberkeep.comparing.records import Kind as How
from emberkeep.comparing.terms import Terms
from emberkeep.databases import dump, load, sqlite
from emberkeep.databases.access import ROLE, access, meant, served
from emberkeep.databases.dump import Facts, Watch
from emberkeep.databases.mariadb import Access, Connection, quoted
from emberkeep.errors import Damage, EmberKeepError, Fault, Place, RunFailed, UnreadableInput, UsageError
from emberkeep.fs import globs
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import Entry, Kind, Tree, digest_of
from emberkeep.keep.keep import Keep
from emberkeep.keep.tables.databases import Database
from emberkeep.store.intake import Stream
from emberkeep.store.manifest import About, beside
from emberkeep.store.tree import SnapshotTree
from emberkeep.survey import drift

_PIECE = 1 << 20


def path_of(name: str) -> str:
    """Where the dump of a database lies within a snapshot."""
    return beside(name, ".sql")


def _facts_path(name: str) -> str:
    return beside(name, ".json")


# --- taken along -----------------------------------------------------------------


def streams(keep: Keep, chosen: Sequence[Database], now: datetime) -> list[Stream]:
    """The dumps of databases as a snapshot takes them in, each with what was dumped behind it."""
    found = []
    moment = int(now.timestamp()) * 1_000_000_000
    for one in chosen:
        way = access(keep, one)
        with Connection(way):  # what cannot be reached is told before anything is read
            pass
        watch = Watch()
        found.append(Stream(path_of(one.name), _dumping(way, watch), moment))
        found.append(Stream(_facts_path(one.name), _telling(way, watch), moment))
    return found


def _dumping(way: Access, watch: Watch) -> Callable[[], Iterator[bytes]]:
    return lambda: dump.dumped(way, watch)


def _telling(way: Access, watch: Watch) -> Callable[[], Iterator[bytes]]:
    return lambda: iter([dump.serialize(dump.facts_of(way, watch))])


# --- what a snapshot has of them -------------------------------------------------


def names_in(tree: SnapshotTree, only: Sequence[str] | None = None) -> list[str]:
    """The databases that a snapshot holds, or those of them that are named."""
    return [name for name in tree.manifest.about.databases if only is None or name in only]


def facts_in(tree: SnapshotTree, name: str) -> Facts:
    """What was dumped of a database; UsageError where the snapshot does not hold it."""
    if tree.beside(path_of(name)) is None:
        raise UsageError(f"{tree.label} holds no database '{name}'", hint="'emberkeep history' tells which do")
    return dump.parse(b"".join(tree.chunks(_facts_path(name))), f"{tree.label}, database {name}")


def size_in(tree: SnapshotTree, name: str) -> int:
    """Bytes of a dump."""
    entry = tree.beside(path_of(name))
    return entry.size if entry is not None else 0


# --- compared ----------------------------------------------------------------------


@contextmanager
def live_side(keep: Keep, name: str) -> Iterator[Side]:
    """A database as it is now, for comparing: a dump of it, compressed, that goes away again."""
    import zstandard  # only where databases are compared

    way = access(keep, served(keep, name))
    watch = Watch()
    with tempfile.TemporaryFile(prefix="emberkeep-") as room:
        with zstandard.ZstdCompressor(level=1).stream_writer(room, closefd=False) as packed:
            for chunk in dump.dumped(way, watch):
                packed.write(chunk)

        def read() -> Iterator[bytes]:
            room.seek(0)
            yield from zstandard.ZstdDecompressor().read_to_iter(room, read_size=_PIECE)

        yield Side("live", read, dict(watch.tables))


def snapshot_side(tree: SnapshotTree, name: str) -> Side:
    """A database as a snapshot has it, for comparing."""
    return Side(tree.label, lambda: tree.chunks(path_of(name)), facts_in(tree, name).tables)


def differences(keep: Keep, left: Tree, right: Tree, only: Sequence[str]) -> list[FileDifference]:
    """How the databases that two states both know of differ: live, or snapshots that hold them."""
    chosen = [one.name for one in meant(only, keep.config.databases)]
    found = []
    for name in chosen:
        if not all(_knows(tree, name) for tree in (left, right)):
            continue
        with ExitStack() as stack:
            sides = [
                snapshot_side(tree, name)
                if isinstance(tree, SnapshotTree)
                else stack.enter_context(live_side(keep, name))
                for tree in (left, right)
            ]
            details = compare_dumps(*sides)
        if details:
            found.append(_as_file(name, details, left, right))
    return found


def _knows(tree: Tree, name: str) -> bool:
    return not isinstance(tree, SnapshotTree) or tree.beside(path_of(name)) is not None


def _as_file(name: str, details: Sequence[Difference], left: Tree, right: Tree) -> FileDifference:
    first, second = (
        (tree.beside(path_of(name)) if isinstance(tree, SnapshotTree) else None) or Entry(name, Kind.FILE, 0, 0)
        for tree in (left, right)
    )
    terms = Terms("database", tuple(details))
    return FileDifference(f"database {name}", How.CHANGED, first, second, contents=True, terms=terms, role=ROLE)


# --- how they stand ----------------------------------------------------------------


@dataclass(frozen=True)
class Standing:
    """How a database stands. ``server``: what serves it, and its version; ``fault``: why it cannot be looked at;
    ``version``: what it tells of itself; ``engine``: the version it should agree with, where they differ; ``dumped``:
    the newest snapshot that holds it, "" for none. ``rows``: about."""

    name: str
    holds: str
    where: str
    server: str = ""
    tables: int = 0
    rows: int = 0
    bytes: int = 0
    version: str = ""
    engine: str = ""
    dumped: str = ""
    fault: Fault | None = None


def standings(keep: Keep, versions: Mapping[str, str], taken: Sequence[About]) -> list[Standing]:
    """How all databases of keep.toml stand. ``versions``: what the server folder tells, by name."""
    found = []
    for one in keep.config.databases.all:
        dumped = next((about.label for about in reversed(taken) if one.name in about.databases), "")
        try:
            stands = _served_standing(keep, one) if one.served else _file_standing(keep, one)
        except EmberKeepError as error:
            stands = Standing(one.name, one.holds, one.file or one.schema or one.name, fault=error.faults[0])
        wanted = versions.get(one.engine, "")
        apart = bool(stands.version and wanted) and not drift.same_line(stands.version, wanted)
        found.append(replace(stands, dumped=dumped, engine=wanted if apart else ""))
    return found


def _served_standing(keep: Keep, one: Database) -> Standing:
    way = access(keep, one)
    with Connection(way) as connection:
        tables = connection.tables()
        standing = Standing(
            one.name,
            one.holds,
            str(way),
            connection.version(),
            len(tables),
            sum(table.rows for table in tables),
            sum(table.bytes for table in tables),
        )
        if one.version is None:
            return standing
        column, table, where = (
            quoted(one.version.column),
            quoted(one.version.table),
            connection.condition(one.version.where),
        )
        version = connection.one(f"select {column} from {table} where {where}")
        return replace(standing, version=str(version) if version is not None else "")


def _file_standing(keep: Keep, one: Database) -> Standing:
    live = FolderTree(keep.require_server())
    paths = [path for path in live.entries() if globs.matches(path, [one.file])]
    if not paths:
        raise UnreadableInput("no SQLite file fits", place=Place(one.file))
    path = paths[-1]
    standing = Standing(one.name, one.holds, path, f"SQLite {sqlite3.sqlite_version}")
    with sqlite.opened(live.root / path, path) as database:
        tables = sqlite.tables(database)
        rows = sum(database.execute(f"select count(*) from {sqlite.quoted(name)}").fetchone()[0] for name in tables)
        standing = replace(standing, tables=len(tables), rows=rows, bytes=live.entries()[path].size)
        if one.version is None:
            return standing
        column, table = sqlite.quoted(one.version.column), sqlite.quoted(one.version.table)
        where = sqlite.condition(database, one.version.table, one.version.where)
        row = database.execute(f"select {column} from {table} where {where}").fetchone()
        return replace(standing, version=str(row[0]) if row and row[0] is not None else "")


# --- putting back ----------------------------------------------------------------


@dataclass(frozen=True)
class TableChange:
    """A table that would become otherwise. ``now`` and ``then``: its rows, None where it is not there."""

    table: str
    now: int | None
    then: int | None


@dataclass(frozen=True)
class DatabasePlan:
    """What putting a database back will do. ``schema``: its name on the server; ``there``: whether there is one;
    ``same``: whether it is byte for byte what was dumped; ``rows`` and ``bytes``: of the dump."""

    name: str
    schema: str
    there: bool
    same: bool
    tables: tuple[TableChange, ...]
    rows: int
    bytes: int


def plan(keep: Keep, tree: SnapshotTree, name: str, schema: str = "") -> DatabasePlan:
    """What putting a database of a snapshot back would do; ``schema``: into another one. Reads the live one whole."""
    dumped = facts_in(tree, name)
    way = _way(keep, name, schema)
    path = path_of(name)
    size = size_in(tree, name)
    with Connection(way, schema=None) as connection:
        there = connection.has_schema(way.schema)
    if not there:
        tables = tuple(TableChange(table, None, one.rows) for table, one in dumped.tables.items())
        return DatabasePlan(name, way.schema, False, False, tables, dumped.rows, size)
    watch = Watch()
    digest = digest_of(dump.dumped(way, watch))
    both = {**dumped.tables, **watch.tables}
    changed = [table for table in both if dumped.tables.get(table) != watch.tables.get(table)]
    rows = [
        TableChange(table, *(found[table].rows if table in found else None for found in (watch.tables, dumped.tables)))
        for table in sorted(changed)
    ]
    return DatabasePlan(name, way.schema, True, digest == tree.digest(path), tuple(rows), dumped.rows, size)


def put_back(keep: Keep, tree: SnapshotTree, name: str, *, schema: str = "", progress: Progress = no_op) -> None:
    """Make a database what a snapshot holds of it; the old one serves until the new one is whole.

    The dump is read and checked to its end first: a damaged one changes nothing.
    """
    dumped = facts_in(tree, name)
    path = path_of(name)
    _check_whole(tree, name)
    way = _way(keep, name, schema)
    with Connection(way, schema=None) as connection, connection.held():
        load.restore(way, lambda: tree.chunks(path), dumped, size_in(tree, name), progress)


def _check_whole(tree: SnapshotTree, name: str) -> None:
    if digest_of(tree.chunks(path_of(name))) != tree.digest(path_of(name)):
        raise Damage(f"the dump of {name} in {tree.label} is damaged", hint="run 'emberkeep verify'")


def put_back_all(keep: Keep, tree: SnapshotTree, names: Sequence[str], progress: Progress = no_op) -> None:
    """Put databases back that are not as a snapshot has them."""
    for name in names_in(tree, names):
        if not _is_same(keep, tree, name):
            put_back(keep, tree, name, progress=progress)


def _is_same(keep: Keep, tree: SnapshotTree, name: str) -> bool:
    """Whether a database is what a snapshot has; one that cannot be dumped, as a view is broken, is not."""
    try:
        return plan(keep, tree, name).same
    except RunFailed:
        return False


def _way(keep: Keep, name: str, schema: str = "") -> Access:
    way = access(keep, served(keep, name))
    return replace(way, schema=schema) if schema else way
