"""Whose a file is, and what in it was made by hand: records and tables in which no player is named."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator

from emberkeep.databases import sqlite
from emberkeep.documents import registry
from emberkeep.documents.model import Node, Role
from emberkeep.errors import EmberKeepError
from emberkeep.fs.trees import FILE, Tree, read
from emberkeep.inventory.roles import Roles
from emberkeep.wiping.identifiers import Known, canonical, identifiers, unpacked

LARGEST_PARSED = 32 << 20


class Looked:
    """Files looked through for players, each once."""

    def __init__(self, tree: Tree, known: Known, roles: Roles) -> None:
        self.tree, self.known, self.roles = tree, known, roles
        self._found: dict[str, frozenset[str]] = {}

    def people(self, path: str) -> frozenset[str]:
        """The players that a file belongs to: by its name, else by what it holds. The world is nobody's."""
        if path not in self._found:
            owner = self.known.owner(path)
            named = frozenset([owner] if owner else (mention.known for mention in self.known.in_name(path)))
            self._found[path] = named if named or self.roles.of(path) == "world" else self._inside(path)
        return self._found[path]

    def _inside(self, path: str) -> frozenset[str]:
        entry = self.tree.entries()[path]
        if entry.kind is not FILE or entry.size > LARGEST_PARSED:
            return frozenset()
        data = read(self.tree, path)
        if sqlite.is_sqlite(data[:16]):
            found = {value for _, _, values in cells(self.tree, path) for value in values}
            return frozenset(filter(None, map(self.value, found)))
        plain = unpacked(data)
        return frozenset(mention.known for mention in self.known.in_text(plain, names=b"\0" not in plain[:8192]))

    def value(self, value: object) -> str:
        """The player that a database's value is, or names in it; "" for none."""
        if isinstance(value, str):
            found = self.known.whole(value)
            if found or len(value) < 12:
                return found
            return next((mention.known for mention in self.known.in_text(value.encode())), "")
        if isinstance(value, bytes):
            inside = next(self.known.in_binary(value), None) or next(self.known.in_text(value), None)
            return inside.known if inside else ""
        return self.known.whole(str(value)) if isinstance(value, int) and value >= 10**11 else ""


def cells(tree: Tree, path: str) -> Iterator[tuple[str, list[str], tuple[object, ...]]]:
    """Every row of a SQLite database: its table, the names of its columns, its values. Nothing for one that cannot be
    read."""
    try:
        with sqlite.of_tree(tree, path) as database:
            for table in sqlite.tables(database):
                rows = database.execute(f"select * from {sqlite.quoted(table)}")
                columns = [column[0] for column in rows.description]
                for row in rows:
                    yield table, columns, row
    except EmberKeepError:
        return


def definitions_in(tree: Tree, path: str, places: Looked) -> str:
    """Why a file of an extension is, or holds, what the admin defined; "" when all of it belongs to players.

    What belongs to players has an identifier of theirs in its name or in it. Of a file that holds both, the records
    beside those that do are the admin's.
    """
    if next(places.known.in_name(path), None) is not None or _named_by_an_identifier(path):
        return ""
    data = read(tree, path) if tree.entries()[path].size <= LARGEST_PARSED else b""
    if sqlite.is_sqlite(data[:16]):
        return _tables_without(tree, path, places)
    if not places.people(path):
        return "" if not data.strip() else "no player's identifier in it"
    try:
        document = registry.parse(path, data)
    except (EmberKeepError, RecursionError):
        return ""
    if document is None:
        return ""
    own = list(_records_without(document.root, document.raw, places.known))
    return f"in it without players: {', '.join(own[:4])}" if own else ""


def _named_by_an_identifier(path: str) -> bool:
    stem = path.rpartition("/")[2].partition(".")[0]
    return bool(canonical(stem)) or bool(identifiers(stem.encode("utf-8", "surrogateescape")))


def _records_without(node: Node, raw: Callable[[Node], str], known: Known) -> Iterator[str]:
    """Records that hold others and name no player, beside such as do; the outermost ones."""
    records = [item for item in node.items if item.role is Role.RECORD]
    with_players = [item for item in records if next(known.in_text(raw(item).encode()), None) is not None]
    if not with_players:
        return
    for item in records:
        if item in with_players:
            yield from _records_without(item, raw, known)
        elif any(inner.role is Role.RECORD for inner in item.items):
            yield item.name.replace("\0", "")


def _tables_without(tree: Tree, path: str, places: Looked) -> str:
    _, own = tables_of(tree, path, places)
    return f"tables in it without players: {', '.join(own[:4])}" if own else ""


def tables_of(tree: Tree, path: str, places: Looked, *, more_than: int = 0) -> tuple[list[str], list[str]]:
    """The tables of a database that are players', by their rows or by what they refer to, and those of others with
    more than so many rows."""
    rows: Counter[str] = Counter()
    owned: set[str] = set()
    for table, _, values in cells(tree, path):
        rows[table] += 1
        if table not in owned and any(places.value(value) for value in values):
            owned.add(table)
    with sqlite.of_tree(tree, path) as database:
        owned = set(sqlite.with_referring(database, owned))
    return sorted(owned), [table for table in rows if table not in owned and rows[table] > more_than]
