"""What a wipe would forget: whatever mentions a player, an item or a place that is cleared, and is itself kept.

Found by the identifiers in what is cleared, not by the names of extensions. A player is one known from the lists of
people; an item is a UUID in a single cleared file that is no player's and that nothing of the vendor's or of the
admin's mentions; a place is such a UUID in the cleared world, or a cleared tile by the name of its file.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from typing import TYPE_CHECKING

from emberkeep.callbacks import Progress, no_op
from emberkeep.databases import sqlite
from emberkeep.databases.access import ROLE
from emberkeep.documents import registry
from emberkeep.documents.model import Document, Node, Role
from emberkeep.errors import EmberKeepError
from emberkeep.fs import globs
from emberkeep.fs.trees import FILE, Tree, read
from emberkeep.inventory.roles import Roles, selection
from emberkeep.inventory.tiles import TileNames
from emberkeep.keep.config import Config
from emberkeep.keep.tables.server import UNSORTED
from emberkeep.keep.tables.wiping import Scope
from emberkeep.wiping.identifiers import Known, identifiers, unpacked
from emberkeep.wiping.made_by_hand import cells
from emberkeep.wiping.results import WipeResult
from emberkeep.wiping.scopes import NONE

if TYPE_CHECKING:
    from emberkeep.databases.mariadb import Connection

NOT_LOOKED_AT = ("engine", "logs", "scratch", "access", "extensions")
"""Roles that are kept for what they are: programs, the past, and the lists of people themselves."""
MOST_PLACES = 8
"""Places that are told of one file."""
LARGEST = 256 << 20
"""Bytes of a file that is looked through."""


class What(StrEnum):
    """What is mentioned."""

    PLAYER = "player"
    ITEM = "item"
    PLACE = "place"


@dataclass(frozen=True)
class At:
    """Where something is mentioned: ``line`` (1-based) and record of a text, or where else it is, in words."""

    who: str
    where: str
    line: int | None = None


@dataclass(frozen=True)
class Leftover:
    """A kept file that mentions what is cleared. ``scope``: the scope that would clear it, "" where none does;
    ``ids``: how many different ones it mentions; ``unsorted``: whether no role covers it; ``of_extensions``: whether an
    extension keeps it."""

    path: str
    what: What
    ids: int
    mentions: int
    places: tuple[At, ...]
    scope: str = ""
    unsorted: bool = False
    of_extensions: bool = False


@dataclass(frozen=True)
class Audit:
    """What would be forgotten. ``unseen``: kept files that were not looked through, and their bytes."""

    leftovers: tuple[Leftover, ...] = ()
    unseen: int = 0
    unseen_bytes: int = 0

    @property
    def forgotten(self) -> tuple[Leftover, ...]:
        """Those that no scope would clear."""
        return tuple(item for item in self.leftovers if not item.scope)

    @property
    def left_out(self) -> tuple[Leftover, ...]:
        """Those of extensions that a scope would clear which was not asked for: backpacks, balances, homes."""
        return tuple(item for item in self.leftovers if item.scope and item.of_extensions)


@dataclass
class _Wanted:
    """What is looked for: players with names; items and places by their identifiers; tiles by name."""

    players: Known
    things: Mapping[str, What] = field(default_factory=dict)
    tiles: frozenset[str] = frozenset()
    tile: re.Pattern[bytes] = re.compile(rb"(?!)")

    def __post_init__(self) -> None:
        self.known_things = Known(frozenset(self.things))

    def tiles_in(self, data: bytes) -> Iterator[tuple[int, str]]:
        """Names of cleared tiles, as words of their own, with their offsets."""
        for found in self.tile.finditer(data) if self.tiles else ():
            name = found[0].decode("utf-8", "replace")
            if name in self.tiles:
                yield found.start(), name


def audit(
    before: Tree,
    after: Tree,
    config: Config,
    cleared: WipeResult,
    known: Known,
    *,
    deep: bool = False,
    served: Mapping[str, Connection] = NONE,
    progress: Progress = no_op,
) -> Audit:
    """Look through what ``after`` keeps for what of ``before`` was cleared. ``deep``: also through tiles that stay;
    ``served``: the databases of servers, whose rows that stay are looked through too."""
    return _Audit(before, after, config, cleared, known, deep, served, progress).run()


class _Audit:
    def __init__(
        self,
        before: Tree,
        after: Tree,
        config: Config,
        cleared: WipeResult,
        known: Known,
        deep: bool,
        served: Mapping[str, Connection],
        progress: Progress,
    ) -> None:
        self.served, self.deletions = served, cleared.deletions
        self.before, self.after, self.config = before, after, config
        self.roles = Roles(config.roles)
        self.deep, self.progress = deep, progress
        self.tiles = TileNames(config.world.tiles) if config.world.tiles else None
        names = {name: ident for name, ident in known.names.items() if ident in cleared.players}
        self.players = known if known.ids == cleared.players else Known(cleared.players, names)
        self.known = known
        self.scopes = [(scope.name, _reach(scope, config)) for scope in config.wiping.scopes]

    def run(self) -> Audit:
        kept, unseen = self._kept()
        gone = [
            path
            for path, entry in self.before.entries().items()
            if entry.kind is FILE and path not in self.after.entries()
        ]
        wanted = self._wanted(gone, kept)
        found: list[Leftover] = []
        total = sum(self.after.entries()[path].size for path in kept)
        done = 0
        for path in kept:
            found += self._leftovers(path, wanted)
            done += self.after.entries()[path].size
            self.progress(done, total)
        for name, connection in self.served.items():
            found += self._told(f"{ROLE}/{name}", self._served_cells(name, connection, wanted), "")
        size = sum(self.after.entries()[path].size for path in unseen)
        return Audit(tuple(found), len(unseen), size)

    def _kept(self) -> tuple[list[str], list[str]]:
        """The kept files that are looked through, and those that are not though they might tell."""
        looked: list[str] = []
        unseen: list[str] = []
        for path, entry in self.after.entries().items():
            if entry.kind is not FILE or self.roles.of(path) in NOT_LOOKED_AT:
                continue
            tile = self.tiles is not None and self.tiles.place(path) is not None
            (unseen if entry.size > LARGEST or (tile and not self.deep) else looked).append(path)
        return looked, unseen

    # --- what is looked for --------------------------------------------------------

    def _wanted(self, gone: Sequence[str], kept: Sequence[str]) -> _Wanted:
        counts: Counter[str] = Counter()
        what: dict[str, What] = {}
        tiles = []
        for path in gone:
            if self.tiles is not None and self.tiles.place(path) is not None:
                tiles.append(path.rpartition("/")[2].rpartition(".")[0])
                continue
            kind = What.PLACE if self.roles.of(path) == "world" else What.ITEM
            for ident in self._identifiers(self.before, path):
                counts[ident] += 1
                what[ident] = kind
        for path in kept:  # files of which only part is cleared
            if path in self.before.entries() and self.before.entries()[path] != self.after.entries()[path]:
                for ident in self._identifiers(self.before, path) - self._identifiers(self.after, path):
                    counts[ident] += 1
                    what[ident] = What.ITEM
        things = {ident: kind for ident, kind in what.items() if counts[ident] == 1 and ident not in self.known.ids}
        return _Wanted(self.players, things, frozenset(tiles), _tile_pattern(self.config.world.tiles))

    def _identifiers(self, tree: Tree, path: str) -> set[str]:
        if tree.entries()[path].size > LARGEST:
            return set()
        data = read(tree, path)
        name = path.encode("utf-8", "surrogateescape")
        if sqlite.is_sqlite(data[:16]):
            found_values = {value for _, _, values in cells(tree, path) for value in values}
            texts = (value for value in found_values if isinstance(value, str) and len(value) >= 32)
            raw = {value.hex() for value in found_values if isinstance(value, bytes) and len(value) == 16}
            return raw | identifiers(name) | identifiers("\n".join(texts).encode())
        return identifiers(b"\n".join((name, unpacked(data))))

    # --- where it is found -----------------------------------------------------------

    def _leftovers(self, path: str, wanted: _Wanted) -> Iterator[Leftover]:
        yield from self._told(path, self._places(path, wanted), self.roles.of(path))

    def _told(self, path: str, mentions: Iterable[tuple[What, str, At]], role: str) -> Iterator[Leftover]:
        """What is mentioned at a path, by kind. ``role``: "" for a database of a server."""
        places: dict[What, list[At]] = {}
        ids: dict[What, set[str]] = {}
        for what, ident, at in mentions:
            places.setdefault(what, []).append(at)
            ids.setdefault(what, set()).add(ident)
        for what, found in places.items():
            some = tuple(sorted(found, key=lambda at: (at.line or 0, at.where))[:MOST_PLACES])
            yield Leftover(
                path,
                what,
                len(ids[what]),
                len(found),
                self._recorded(path, some) if role else some,
                self._scope(path) if role else "",
                role == UNSORTED,
                role == "extension-data",
            )

    def _scope(self, path: str) -> str:
        """The scope that would clear a file, or records or rows of it, were it asked for."""
        return next((name for name, covers in self.scopes if covers(path)), "")

    def _places(self, path: str, wanted: _Wanted) -> Iterator[tuple[What, str, At]]:
        for ident, spelled in {(found.known, found.spelled) for found in wanted.players.in_name(path)}:
            yield What.PLAYER, ident, At(self._who(ident, spelled), "its name")
        for ident, spelled in {(found.known, found.spelled) for found in wanted.known_things.in_name(path)}:
            yield wanted.things[ident], ident, At(spelled, "its name")
        data = read(self.after, path)
        if sqlite.is_sqlite(data[:16]):
            yield from self._cells(path, wanted)
            return
        plain = unpacked(data)
        binary = b"\0" in plain[:8192]
        if binary:
            for mention in wanted.players.in_binary(plain):
                yield What.PLAYER, mention.known, At(self._who(mention.known, mention.known), f"byte {mention.at}")
        for mention in wanted.players.in_text(plain, names=not binary):
            at = self._at(self._who(mention.known, mention.spelled), plain, mention.at, binary)
            yield What.PLAYER, mention.known, at
        if wanted.things:
            for mention in wanted.known_things.in_text(plain):
                yield wanted.things[mention.known], mention.known, self._at(mention.spelled, plain, mention.at, binary)
        for start, name in wanted.tiles_in(plain):
            yield What.PLACE, name, self._at(name, plain, start, binary)

    def _who(self, ident: str, spelled: str) -> str:
        name = next((name for name, known in self.players.names.items() if known == ident), "")
        return f"{name} ({spelled})" if name and name != spelled else spelled

    def _at(self, who: str, data: bytes, at: int, binary: bool) -> At:
        return At(who, f"byte {at}") if binary else At(who, "", data.count(b"\n", 0, at) + 1)

    def _cells(self, path: str, wanted: _Wanted) -> Iterator[tuple[What, str, At]]:
        row_of: Counter[str] = Counter()
        for table, columns, values in cells(self.after, path):
            row_of[table] += 1
            for column, value in zip(columns, values, strict=True):
                where = f"table {table}, column {column}, row {row_of[table]}"
                for what, ident, spelled in self._in_value(value, wanted):
                    yield what, ident, At(self._who(ident, spelled) if what is What.PLAYER else spelled, where)

    def _served_cells(self, name: str, connection: Connection, wanted: _Wanted) -> Iterator[tuple[What, str, At]]:
        """Mentions in the rows of a database server that stay, in the columns that can hold an identifier."""
        for table in connection.tables():
            columns = [column for column in connection.columns(table.name) if column.may_name]
            if not columns:
                continue
            key = connection.key(table.name)
            gone = [one.where for one in self.deletions if (one.database, one.table) == (name, table.name)]
            where = " and ".join(f"not coalesce(({one}), 0)" for one in gone) or "1"
            selected = ", ".join(connection.quoted(one) for one in (*key, *(column.name for column in columns)))
            for row in connection.rows(f"select {selected} from {connection.quoted(table.name)} where {where}"):
                which = ", ".join(f"{one} {_short(value)}" for one, value in zip(key, row, strict=False))
                for column, value in zip(columns, row[len(key) :], strict=True):
                    at = f"table {table.name}, column {column.name}" + (f", {which}" if which else "")
                    for what, ident, spelled in self._in_value(value, wanted):
                        yield what, ident, At(self._who(ident, spelled) if what is What.PLAYER else spelled, at)

    def _in_value(self, value: object, wanted: _Wanted) -> Iterator[tuple[What, str, str]]:
        if isinstance(value, bytes):
            for mention in (*wanted.players.in_binary(value), *wanted.players.in_text(value)):
                yield What.PLAYER, mention.known, mention.known
            return
        text = str(value)
        if not isinstance(value, str | int) or len(text) < 3:
            return
        whole = wanted.players.whole(text)
        if whole:
            yield What.PLAYER, whole, text
        elif len(text) >= 12:
            for mention in wanted.players.in_text(text.encode()):
                yield What.PLAYER, mention.known, mention.spelled
            for mention in wanted.known_things.in_text(text.encode()) if wanted.things else ():
                yield wanted.things[mention.known], mention.known, mention.spelled
        for _, name in wanted.tiles_in(text.encode()) if isinstance(value, str) else ():
            yield What.PLACE, name, name

    def _recorded(self, path: str, places: tuple[At, ...]) -> tuple[At, ...]:
        """The places with the records they stand in, where the format has such."""
        if not any(at.line for at in places):
            return places
        try:
            document = registry.parse(path, unpacked(read(self.after, path)))
        except (EmberKeepError, RecursionError):
            document = None
        if document is None:
            return places
        return tuple(At(at.who, _record_at(document, at.line), at.line) if at.line else at for at in places)


def _short(value: object) -> str:
    text = value.hex() if isinstance(value, bytes) else str(value)
    return text if len(text) <= 40 else f"{text[:39]}…"


def _reach(scope: Scope, config: Config) -> Callable[[str], bool]:
    """Whether a scope clears a file or something in it."""
    files = selection(scope.picked.files, config.roles, config.world.tiles) if scope.picked.files else None
    parts = [*(pick.file for pick in scope.picked.records), *(pick.database for pick in scope.picked.rows)]
    within = globs.combined(parts) if parts else None
    return lambda path: (files is not None and files(path)) or (within is not None and bool(within.fullmatch(path)))


def _tile_pattern(names: str) -> re.Pattern[bytes]:
    """What the name of a tile's file looks like, without its suffix."""
    stem = names.rpartition("/")[2].rpartition(".")[0]
    parts = re.split(r"(\{x\}|\{y\}|\*)", stem)
    meaning = {"{x}": r"-?\d+", "{y}": r"-?\d+", "*": r"[\w-]*"}
    pattern = "".join(meaning.get(part) or re.escape(part) for part in parts)
    return re.compile(rb"(?<![\w.-])" + pattern.encode() + rb"(?![\w-]|\.\d)") if stem else re.compile(rb"(?!)")


def _record_at(document: Document, line: int) -> str:
    """The names on the way to the innermost record that begins on or holds a line."""
    names: list[str] = []
    node: Node | None = document.root
    while node is not None:
        inside: Sequence[Node] = [item for item in node.items if item.role is Role.RECORD]
        node = next((item for item in inside if _holds(document, item, line)), None)
        if node is not None:
            names.append(node.name.replace("\0", ""))
    return "/".join(name for name in names if name)


def _holds(document: Document, node: Node, line: int) -> bool:
    return document.line(node.start) <= line <= document.line(max(node.start, node.end - 1))
