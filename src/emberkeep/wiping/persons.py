"""One player's state in a server folder, and how it is put from one tree into another: whole files that are theirs,
their records inside files that hold others beside them, their rows in SQLite tables.

A record or row is theirs that names them (by its key, its own value or a plain value in it) and nobody else who is
known. What cannot be taken apart, such as a binary save of everybody or a pact of two, is told and left alone.
"""

from __future__ import annotations

import sqlite3
from collections import Counter, defaultdict
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from emberkeep.databases import sqlite
from emberkeep.documents import layout, registry
from emberkeep.documents.encoding import decode
from emberkeep.documents.model import Document, Edit, Node, Role, content
from emberkeep.errors import EmberKeepError, Refused
from emberkeep.fs.overlay import Overlay
from emberkeep.fs.trees import FILE, FOLDER, Tree, parents, read
from emberkeep.inventory.roles import Roles
from emberkeep.wiping.identifiers import Known, known_people

OWN_ROLES = ("players", "progress", "extension-data", "databases")
"""Roles in which something of a player's may stand."""
LARGEST = 32 << 20
"""Bytes of a file that is taken apart."""


@dataclass(frozen=True)
class Person:
    """Whose state it is. ``known``: only they; ``others``: everybody else; ``words``: what they are called."""

    words: str
    known: Known
    others: Known


@dataclass(frozen=True)
class Put:
    """What was put into a tree. ``what``: of a whole file, in words; ``records``, ``rows``: how many of a file's."""

    path: str
    what: str = ""
    records: int = 0
    rows: int = 0

    @property
    def words(self) -> str:
        """A line for the admin: the file, and what was put there."""
        count, kind = (self.records, "record") if self.records else (self.rows, "row")
        if not count:
            return f"{self.path}: {self.what}"
        return f"{self.path}: {count} {kind}{'s as they were' if count > 1 else ' as it was'}"


@dataclass(frozen=True)
class Found:
    """What was put, and what cannot be: the file, and why."""

    put: tuple[Put, ...]
    cannot: tuple[tuple[str, str], ...]

    @property
    def staying(self) -> list[str]:
        """A line for the admin for each file of which something cannot be put back."""
        return [f"{path}: {why}" for path, why in self.cannot]


def person(text: str, everybody: Mapping[str, str], but: Collection[str] = ()) -> Person:
    """Who is meant by an id in any spelling, or a name. ``everybody``: canonical id -> name; ``but``: names that are
    words of the game as well, by which nobody is known. Refused where that is nobody, or several."""
    named = [one for one, name in everybody.items() if name == text]
    if len(named) > 1:
        raise Refused(f"{len(named)} players are called {text}", hint=f"say which: {', '.join(named[:4])}")
    ident = next(iter(named), "") or (text if text in everybody else known_people(everybody).whole(text))
    if not ident:
        raise Refused(
            f"nobody here is called {text}, or has that id",
            hint="players are known by the lists of who may come in, by their files and their tables",
        )
    rest = {one: called for one, called in everybody.items() if one != ident}
    theirs = {ident: everybody[ident]}
    return Person(everybody[ident] or ident, known_people(theirs, but), known_people(rest, but))


def put_back(folder: Overlay, then: Tree, roles: Roles, who: Person) -> Found:
    """Make a player's state in ``folder`` what it was in ``then``."""
    put: list[Put] = []
    cannot: list[tuple[str, str]] = []
    paths = sorted({*folder.entries(), *then.entries()})
    for path in paths:
        if roles.of(path) not in OWN_ROLES:
            continue
        sides = [tree.entries().get(path) for tree in (folder, then)]
        if any(entry is not None and entry.kind is FOLDER for entry in sides):
            continue
        if _is_theirs(path, who):
            put += _whole(folder, then, path)
        elif all(entry is None or entry.kind is FILE for entry in sides):
            try:
                done, shared = _inside(folder, then, path, who)
            except NotApart as found:
                cannot.append((path, f"is left as it is: {found}"))
                continue
            put += [done] if done else []
            if shared:
                cannot.append((path, shared))
    return Found(tuple(put), tuple(cannot))


def _is_theirs(path: str, who: Person) -> bool:
    return next(who.known.in_name(path), None) is not None and next(who.others.in_name(path), None) is None


def _whole(folder: Overlay, then: Tree, path: str) -> Iterator[Put]:
    now, was = folder.entries().get(path), then.entries().get(path)
    if was is None:
        folder.remove(path)
        yield Put(path, "taken out: it was not there then")
        return
    if now is not None and now.kind is FILE and was.kind is FILE and folder.digest(path) == then.digest(path):
        return
    for parent in reversed(list(parents(path))):
        if parent not in folder.entries() and parent in then.entries():
            folder.take(parent, then)
    folder.take(path, then)
    yield Put(path, "as it was" if now is not None else "there again")


class NotApart(Exception):
    """A file that cannot be taken apart."""


def _inside(folder: Overlay, then: Tree, path: str, who: Person) -> tuple[Put | None, str]:
    """What was put into a file; and a line for the admin on what in it differs and names others too, "" for nothing."""
    sides = [(tree, entry) for tree in (folder, then) if (entry := tree.entries().get(path)) is not None]
    if len(sides) == 2 and folder.digest(path) == then.digest(path):
        return None, ""
    if any(entry.size > LARGEST for _, entry in sides):
        raise NotApart(f"it is larger than {LARGEST >> 20} MiB, and nobody looked whether something of theirs is in it")
    if len(sides) == 1:
        if _mentions(read(sides[0][0], path), who.known):
            raise NotApart("something of theirs is in it, and it is there on one side only")
        return None, ""
    now, was = read(folder, path), read(then, path)
    if sqlite.is_sqlite(now[:16]) and sqlite.is_sqlite(was[:16]):
        return _rows(folder, then, path, who)
    if not any(_mentions(data, who.known) for data in (now, was)):
        return None, ""
    data, count, shared = with_records_of(path, now, was, who)
    if count:
        folder.write(path, data)
    return (Put(path, records=count) if count else None), _staying(shared, "record")


def _staying(count: int, kind: str) -> str:
    if not count:
        return ""
    what = f"1 {kind} names others too, and stays" if count == 1 else f"{count} {kind}s name others too, and stay"
    return f"{what} as now"


def _mentions(data: bytes, known: Known) -> bool:
    if next(known.in_text(data), None) is not None:
        return True
    return b"\0" in data[:8192] and next(known.in_binary(data), None) is not None


# --- records ------------------------------------------------------------------------------


def with_records_of(path: str, now: bytes, was: bytes, who: Person) -> tuple[bytes, int, int]:
    """A file with a player's records as another version of it has them, how many those are, and how many stay that
    differ and name others as well. Nobody else's change: that is looked for before it is believed."""
    live, then = (_document(path, data) for data in (now, was))
    if live is None or then is None:
        raise NotApart("it has no records that could be told apart")
    (mine, shared), (theirs, shared_then) = (_records_by_place(document, who) for document in (live, then))
    staying = _differing(map(content, shared), map(content, shared_then))
    edits: list[Edit] = []
    count = 0
    for place in {**mine, **theirs}:
        have, want = mine.get(place, []), theirs.get(place, [])
        if [content(node) for node in have] == [content(node) for node in want]:
            continue
        count += max(len(have), len(want))
        edits += _edits(live, then, place, have, want)
    if not edits:
        return now, 0, staying
    source = decode(now)
    assert source is not None
    data = source.encode(layout.finished(live, edits))
    done = _document(path, data)
    if done is None or _rest(done, done.root, who) != _rest(live, live.root, who):
        raise NotApart("others' records would change with theirs")
    found, _ = _records_by_place(done, who)
    got = {place: [content(node) for node in nodes] for place, nodes in found.items() if nodes}
    if got != {place: [content(node) for node in nodes] for place, nodes in theirs.items() if nodes}:
        raise NotApart("their records cannot be written as they were")
    return data, count, staying


def _differing(one: Iterable[object], other: Iterable[object]) -> int:
    """How many of two sides have no equal on the other: the larger of the two numbers."""
    mine, theirs = Counter(map(repr, one)), Counter(map(repr, other))
    return max((mine - theirs).total(), (theirs - mine).total())


def _document(path: str, data: bytes) -> Document | None:
    try:
        return registry.parse(path, data)
    except (EmberKeepError, RecursionError):
        return None


_Place = tuple[str, ...]


def _records_by_place(document: Document, who: Person) -> tuple[dict[_Place, list[Node]], list[Node]]:
    """A player's records, by the names on the way to what holds them; and those that name others as well."""
    found: dict[_Place, list[Node]] = defaultdict(list)
    shared: list[Node] = []

    def look(node: Node, place: _Place) -> None:
        for item in node.items:
            if item.role is not Role.RECORD:
                continue
            named = _names(item, who.known)
            if named and next(who.others.in_text(document.raw(item).encode()), None) is None:
                found[place].append(item)
                continue
            if named:
                shared.append(item)
            look(item, (*place, item.name))

    look(document.root, ())
    return dict(found), shared


def _names(node: Node, known: Known) -> bool:
    """Whether a record says whose it is: by its key, its own value, or a plain value in it."""
    texts = [node.name, *(field.value for field in node.fields.values())]
    texts += [item.own for item in node.items if item.role is Role.RECORD and item.own is not None and not item.items]
    return any(known.whole(text.strip("[]\"'")) for text in texts if text)


def _rest(document: Document, node: Node, who: Person) -> tuple[object, ...]:
    """What a document says but for a player's records; a container that holds nothing else says no more than an empty
    one."""
    kind = document.container(node)[:1]
    others = (item for item in node.items if item.role is Role.RECORD and not _names(item, who.known))
    return (
        node.name,
        kind,
        tuple(sorted((name, field.value) for name, field in node.fields.items() if not node.items and not kind)),
        tuple(_rest(document, item, who) for item in others),
    )


def _edits(live: Document, then: Document, place: _Place, have: Sequence[Node], want: Sequence[Node]) -> Iterator[Edit]:
    for mine, other in zip(have, want, strict=False):
        yield Edit(mine.start, mine.end, layout.with_newlines(then.raw(other), live.source.newline))
    if len(have) > len(want):
        yield from layout.removals(live, have[len(want) :])
    if len(want) > len(have):
        container = _container(live.root, place)
        if container is None:
            raise NotApart(f"there is no {'/'.join(place)} in it any more")
        new = list(want[len(have) :])
        behind = [item for item in container.items if not item.trailing]
        if behind:
            yield layout.insert_after(live, behind[-1], then, new)
        else:
            indent = layout.line_indent(live.text, container.start)
            block = layout.moved_block(live, then, new, live.inner_indent(container, indent))
            yield from live.open_empty(container, block, indent)


def _container(node: Node, place: _Place) -> Node | None:
    for name in place:
        found = next((item for item in node.items if item.role is Role.RECORD and item.name == name), None)
        if found is None:
            return None
        node = found
    return node


# --- rows ------------------------------------------------------------------------------------


def _rows(folder: Overlay, then: Tree, path: str, who: Person) -> tuple[Put | None, str]:
    """Rows in which a value is their id or name, and none is another's, table by table. NotApart where a table would
    not take them."""
    with sqlite.of_tree(then, path) as old:
        wanted = {table: _theirs(old, table, who) for table in sqlite.tables(old)}

    def act(database: sqlite3.Connection) -> tuple[int, int]:
        count = staying = 0
        for table in sqlite.tables(database):
            columns, now, shared = _theirs(database, table, who)
            before, want, shared_then = wanted.get(table, ([], [], []))
            staying += _differing(shared, shared_then)
            if not _differing(now, want):
                continue
            if before != columns:
                raise NotApart(f"the table {table} has other columns now")
            if _has_triggers(database, table):
                raise NotApart(f"the table {table} has triggers, which may change others' rows with theirs")
            count += max(len(now), len(want))
            _replace(database, table, columns, now, want)
        return count, staying

    try:
        data, (count, staying) = sqlite.rewritten(folder, path, act)
    except (sqlite3.Error, EmberKeepError) as error:
        raise NotApart(str(error)) from error
    if count:
        folder.write(path, data)
    return (Put(path, rows=count) if count else None), _staying(staying, "row")


def _has_triggers(database: sqlite3.Connection, table: str) -> bool:
    asked = "select 1 from sqlite_master where type = 'trigger' and lower(tbl_name) = lower(?)"
    return database.execute(asked, (table,)).fetchone() is not None


_Row = tuple[object, ...]


def _theirs(database: sqlite3.Connection, table: str, who: Person) -> tuple[list[str], list[_Row], list[_Row]]:
    """The columns of a table, a player's rows in it, and those that name them and others."""
    asked = database.execute(f"select * from {sqlite.quoted(table)}")
    columns = [column[0] for column in asked.description]
    mine: list[_Row] = []
    shared: list[_Row] = []
    for row in asked:
        if any(_is_one_of(value, who.known) for value in row):
            (shared if any(_is_one_of(value, who.others) for value in row) else mine).append(row)
    return columns, mine, shared


def _is_one_of(value: object, known: Known) -> bool:
    if isinstance(value, bytes):
        return next(known.in_binary(value), None) is not None
    return isinstance(value, str | int) and bool(known.whole(str(value)))


def _replace(
    database: sqlite3.Connection, table: str, columns: Sequence[str], now: Sequence[_Row], want: Sequence[_Row]
) -> None:
    where = " and ".join(f"{sqlite.quoted(name)} is ?" for name in columns)
    for row in now:
        database.execute(f"delete from {sqlite.quoted(table)} where {where}", row)
    marks = ", ".join("?" * len(columns))
    names = ", ".join(map(sqlite.quoted, columns))
    database.executemany(f"insert into {sqlite.quoted(table)} ({names}) values ({marks})", want)
