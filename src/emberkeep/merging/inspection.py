"""Looking at the files of a merge for broken checks: reading the vendor's releases and what the merge makes of them.

Of all but the smallest files only what is not spelled as the newest release spells it is read first: it alone can
break a rule about single records. A sample of the vendor's records, judged loosely, tells whether more must be read.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Container, Iterable, Iterator, Mapping, Sequence
from typing import NamedTuple

from emberkeep.documents import registry
from emberkeep.documents.encoding import decode
from emberkeep.documents.identity import KeyRules, Rule
from emberkeep.documents.model import Document, Node, is_value, plain_fields
from emberkeep.documents.values import number
from emberkeep.documents.walk import Placed, records_in, top_records, walk, walk_from
from emberkeep.errors import EmberKeepError
from emberkeep.fs.trees import Kind, Tree, read
from emberkeep.merging.checks import LOOSE, Record, Sides, Table, breaches, learn
from emberkeep.merging.orders import list_of
from emberkeep.merging.results import Breach, FileMerge, Merge, Outcome

Rows = list[tuple[str, Record]]
"""A record and those inside it, each with its list."""

LARGEST = 32 << 20
"""Bytes; larger files are not looked at."""


class Listed(NamedTuple):
    """A record of one of a file's lists. ``holds_others``: it is large, and those inside it are listed themselves."""

    placed: Placed
    holds_others: bool = False

    @property
    def node(self) -> Node:
        """The record itself."""
        return self.placed.node


def listed(document: Document, identities: KeyRules, opened: Container[str]) -> list[Listed]:
    """The records right below a document's root, and those in ``opened`` ones among them, however deep."""
    found: list[Listed] = []
    waiting = top_records(document, identities)[::-1]
    while waiting:
        placed = waiting.pop()
        holds_others = placed.record in opened
        found.append(Listed(placed, holds_others))
        if holds_others:
            waiting += records_in(placed, identities)[::-1]
    return found


def large_in(document: Document, identities: KeyRules) -> set[str]:
    """The records that hold others and are so large that they are better listed one by one."""
    found = set()
    waiting = top_records(document, identities)
    while waiting:
        placed = waiting.pop()
        if placed.node.end - placed.node.start > LARGE and not all(is_value(item) for item in placed.node.items):
            found.add(placed.record)
            waiting += records_in(placed, identities)
    return found


def table_of(
    document: Document,
    records: Iterable[Listed],
    identities: KeyRules,
    known: dict[tuple[str, str], Rows],
    *,
    new: bool = False,
) -> Table:
    """The identified ones among ``records`` of a document that hold values of their own, and those inside them.

    ``known``: rows by the parent and the text that they were read from, which are taken as they are; ``new``: those of
    this document are added to them.
    """
    found: Table = defaultdict(list)
    for one in records:
        key = _spelled(one, document)
        rows = known.get(key)
        if rows is None:
            rows = list(_rows(one, identities))
            if new:
                known[key] = rows
        for name, record in rows:
            found[name].append(record)
    return dict(found)


def _spelled(one: Listed, document: Document) -> tuple[str, str]:
    """Where a record stands, and its text: what is the same in both breaks the same rules."""
    return one.placed.above, document.raw(one.node)


def _rows(one: Listed, identities: KeyRules) -> Iterator[tuple[str, Record]]:
    for placed in [one.placed] if one.holds_others else walk_from(one.placed, identities, values=False):
        if not placed.item.identity and not (placed.node.named and placed.node.items):
            continue
        values = {name: plain.value.strip() for name, plain in plain_fields(placed.node).items()}
        if values:
            yield list_of(placed), Record(placed.record, placed.name, placed.above, values)


def inspect(
    merge: Merge,
    releases: Sequence[Tree],
    mine: Tree,
    new: Tree,
    rules: Callable[[str], Mapping[str, Rule]],
    silenced: Sequence[str] = (),
) -> tuple[Breach, ...]:
    """Where the files of a merge will break what was learned from ``releases``, oldest first."""
    items = [item for item in merge.files if item.fault is None and item.format not in ("", "text", "binary")]
    reader = _Tables(rules, releases)
    files = {item.path: reader.file(item, mine) for item in _worth_a_look(items, releases[-1:], mine)}
    gone = set().union(*(file.gone for file in files.values()))
    for path, file in files.items():
        if file.thin and any(name in reader.text(file.item, mine) for name in gone):
            files[path] = reader.file(file.item, mine, whole=True)
    shipped = [
        {path: table for path, file in files.items() if (table := file.shipped[at]) is not None}
        for at in range(len(releases))
    ]
    merged = {path: file.merged for path, file in files.items() if file.merged is not None}
    return breaches(learn(shipped), Sides(merged, reader.finder(mine), reader.finder(new), reader.line), silenced)


LARGE = 4 << 10
"""Characters; in larger files what is spelled as the vendor spells it is not read, as it can hardly break a rule."""
SAMPLE = 300
"""Records of a large file that are read to see whether any of the others may be wrong."""
BESIDE = 2 << 20
"""Bytes of files as the vendor ships them that are looked at too: what others name may stand in them."""


def _worth_a_look(items: Iterable[FileMerge], newest: Sequence[Tree], mine: Tree) -> Iterator[FileMerge]:
    """The files that will not be as the newest release ships them, and some of the others."""
    beside = 0
    for item in items:
        if not newest or not _as_shipped(item, newest[0], mine):
            yield item
        elif beside < BESIDE:
            beside += newest[0].entries()[item.path].size
            yield item


def _as_shipped(item: FileMerge, newest: Tree, mine: Tree) -> bool:
    if newest.entries().get(item.path) is None or item.outcome is Outcome.REMOVED:
        return False
    if item.data is None:
        return mine.digest(item.path) == newest.digest(item.path)
    return item.data == read(newest, item.path)


class _File(NamedTuple):
    """What is looked at of one file: its tables in each release and as merged, what its records were called that it
    lacks now, and whether its tables are thin, which hold names alone."""

    item: FileMerge
    shipped: list[Table | None]
    merged: Table | None
    gone: set[str]
    thin: bool


class _Tables:
    """Tables of files of trees.

    Records are told apart by what the vendor's releases show: a name that stands twice among the admin's is then seen.
    What is spelled as in the newest release is read only there.
    """

    def __init__(self, rules: Callable[[str], Mapping[str, Rule]], releases: Sequence[Tree]) -> None:
        self.rules = rules
        self.releases = releases
        self._merged: dict[str, Document] = {}
        self._read_before: dict[tuple[int, str], Document | None] = {}
        self._identities: dict[str, KeyRules] = {}
        self._known: dict[str, dict[tuple[str, str], Rows]] = {}
        self._lines: dict[str, dict[str, int]] = {}
        self._listed: dict[int, list[Listed]] = {}
        self._large: dict[str, set[str]] = {}
        self._items: dict[str, tuple[FileMerge, Tree]] = {}
        self._thin: set[str] = set()
        """Files of which only the names of the listed records are told."""

    def file(self, item: FileMerge, mine: Tree, *, whole: bool = False) -> _File:
        """One file; what was read of it is let go again. ``whole``: all its records, also those that nobody changed."""
        path = item.path
        self._items[path] = item, mine
        document, newest = self.merged_document(item, mine), self.newest(path)
        gone: set[str] = set()
        if document is not None:
            if newest is not None and newest is not document:
                gone = self.names(path, newest) - self.names(path, document)
            if not whole and len(document.text) > LARGE and not self.is_suspect(path, document):
                self._thin.add(path)
        shipped = [
            None if (found := self._read(tree, path)) is None else self._table(path, found) for tree in self.releases
        ]
        merged = None if document is None else self._table(path, document)
        thin = path in self._thin
        self._forget(path)
        return _File(item, shipped, merged, gone, thin)

    def text(self, item: FileMerge, mine: Tree) -> str:
        """A merged file's text."""
        source = decode(read(mine, item.path) if item.data is None else item.data)
        return "" if source is None else source.text

    def _forget(self, path: str) -> None:
        """Let go of what is large: most files have nothing wrong, and are not looked at again."""
        self._read_before.clear()
        self._listed.clear()
        self._merged.pop(path, None)
        self._identities.pop(path, None)
        self._known.pop(path, None)
        self._large.pop(path, None)
        self._thin.discard(path)

    def merged_document(self, item: FileMerge, mine: Tree) -> Document | None:
        """A file as it will be."""
        if item.path not in self._merged and item.outcome is not Outcome.REMOVED:
            found = self._read(mine, item.path) if item.data is None else _document(item.path, item.data)
            if found is not None:
                self._merged[item.path] = found
        return self._merged.get(item.path)

    def newest(self, path: str) -> Document | None:
        """A file as the newest release ships it."""
        return self._read(self.releases[-1], path) if self.releases else None

    def names(self, path: str, document: Document) -> set[str]:
        """What the listed records of a file go by."""
        return {one.placed.name for one in self.listed(path, document)}

    def listed(self, path: str, document: Document) -> list[Listed]:
        """The records right below a file's root, and those inside of what the newest release shows to be large."""
        if id(document) not in self._listed:
            identities = self._of(path, document)
            if path not in self._large:
                self._large[path] = large_in(self.newest(path) or document, identities)
            self._listed[id(document)] = listed(document, identities, self._large[path])
        return self._listed[id(document)]

    def is_suspect(self, path: str, document: Document) -> bool:
        """Whether a record that is not spelled as the vendor spells it may break a rule, by what a sample shows."""
        shipped = self.newest(path)
        if shipped is None or shipped is document:
            return shipped is None
        identities = self._of(path, document)
        theirs = self.listed(path, shipped)
        spelled = {_spelled(one, shipped) for one in theirs}
        records = self.listed(path, document)
        if len({(one.placed.above, one.node.name, one.placed.name) for one in records}) < len(records):
            return True
        other = [one for one in records if _spelled(one, document) not in spelled]
        if not other:
            return False
        fresh = [row for one in other for row in _rows(one, identities)]
        sample: Table = defaultdict(list)
        for one in theirs[:: len(theirs) // SAMPLE + 1]:
            for name, record in _rows(one, identities):
                sample[name].append(record)
        held = defaultdict(list)
        for check, test in learn([{path: sample}], LOOSE).checks:
            held[check.list].append(test)
        return any(
            any(test(record) for test in held[name]) or _has_new_words(record, shipped.text) for name, record in fresh
        )

    def finder(self, tree: Tree) -> Callable[[str, str], Record | None]:
        """Finds a record of a file of ``tree`` by its name; the files are read when one is looked for."""
        found: dict[str, dict[str, Record]] = {}

        def find(path: str, record: str) -> Record | None:
            if path not in found:
                document = self._read(tree, path)
                table = {} if document is None else self._table(path, document)
                found[path] = {one.record: one for records in table.values() for one in records}
                self._forget(path)
            return found[path].get(record)

        return find

    def line(self, path: str, record: str) -> int:
        """In which line of the merged file a record stands."""
        if path not in self._lines:
            document = self.merged_document(*self._items[path])
            every = [] if document is None else walk(document, self._of(path, document))
            self._lines[path] = {placed.record: document.line(placed.node.start) for placed in every if document}
            self._forget(path)
        return self._lines[path][record]

    def _table(self, path: str, document: Document) -> Table:
        identities = self._of(path, document)
        records = self.listed(path, document)
        if path in self._thin:
            return _thin(records)
        known = self._known.get(path)
        if known is None:
            known = self._known[path] = {}
            shipped = [found for tree in self.releases[-1:] if (found := self._read(tree, path)) is not None]
            first = shipped[0] if shipped else document
            table_of(first, self.listed(path, first), identities, known, new=True)
        return table_of(document, records, identities, known)

    def _of(self, path: str, document: Document) -> KeyRules:
        if path not in self._identities:
            shipped = [found for tree in self.releases if (found := self._read(tree, path)) is not None]
            self._identities[path] = KeyRules(shipped or [document], [], self.rules(path))
        return self._identities[path]

    def _read(self, tree: Tree, path: str) -> Document | None:
        key = (id(tree), path)
        if key not in self._read_before:
            entry = tree.entries().get(path)
            fit = entry is not None and entry.kind is Kind.FILE and entry.size <= LARGEST
            self._read_before[key] = _document(path, read(tree, path)) if fit else None
        return self._read_before[key]


def _thin(records: Iterable[Listed]) -> Table:
    found: Table = defaultdict(list)
    for one in records:
        found[list_of(one.placed)].append(Record(one.placed.record, one.placed.name, one.placed.above, {}))
    return dict(found)


def _has_new_words(record: Record, text: str) -> bool:
    """Whether a record says a word, its name aside, that stands nowhere in a text: it may mean what is not there."""
    return any(value != record.name and number(value) is None and value not in text for value in record.values.values())


def _document(path: str, data: bytes) -> Document | None:
    try:
        return registry.parse(path, data)
    except (EmberKeepError, RecursionError):
        return None
