"""What always holds in the vendor's releases, learned from them, and where merged files break it.

Learned for each list of records of a file, each with its support (records it was seen to hold in): a field is always
there; is always a number, a whole one, or never below zero; one number never exceeds another; a field knows few
words; a record's identity is unique; what a field names stands in another list. A rule counts only while it holds in
every release that has the list. Where the admin's values or the vendor's own break none of them, nothing is said.
"""

from __future__ import annotations

import itertools
import re
from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from fnmatch import fnmatchcase

from emberkeep.documents import formats
from emberkeep.documents.align import walk
from emberkeep.documents.identity import Identities, Rule
from emberkeep.documents.model import Document, plain_fields
from emberkeep.documents.values import is_whole, number
from emberkeep.errors import EmberKeepError
from emberkeep.merging.orders import list_of, name_of
from emberkeep.merging.results import MERGED, VENDORS, YOURS, Breach, Check, FileMerge, Merge, Outcome
from emberkeep.trees import Kind, Tree, read

SUPPORT = 12
"""Records that a rule about one field must have been seen to hold in."""
WIDE = 30
"""The same for rules that hold by chance more easily."""
_MOST_WORDS = 12
_PAIRED = re.compile(r"min|max|least|most|low|high|from|to|start|end|lower|upper|first|last|floor|cap", re.IGNORECASE)


@dataclass(frozen=True)
class Record:
    """A record's plain values, its name in reports and among its siblings, and the name of what it stands in."""

    record: str
    name: str
    parent: str
    values: Mapping[str, str]
    start: int


Table = dict[str, list[Record]]
"""The records of one file by the list they stand in."""
Held = Callable[[Record], str]
"""What is wrong with a record, in words; "" when nothing is."""


def table_of(document: Document, identities: Identities) -> Table:
    """The identified records of a document that hold values of their own."""
    found: Table = defaultdict(list)
    for placed in walk(document, identities):
        if not placed.item.identity and not (placed.node.named and placed.node.items):
            continue
        values = {name: plain.value.strip() for name, plain in plain_fields(placed.node).items()}
        if values:
            parent = placed.record.rpartition("/")[0]
            found[list_of(placed)].append(Record(placed.record, name_of(placed), parent, values, placed.node.start))
    return dict(found)


@dataclass
class Learned:
    """The checks learned from some releases."""

    checks: list[tuple[Check, Held]] = field(default_factory=list)
    unique: list[Check] = field(default_factory=list)
    references: list[tuple[Check, str, str, str]] = field(default_factory=list)
    """Check, field, and the file and list that the field's values stand in."""


def learn(releases: Sequence[Mapping[str, Table]]) -> Learned:
    """What always holds in ``releases``: tables by file, each release with those it ships."""
    found = Learned()
    for path in dict.fromkeys(itertools.chain.from_iterable(releases)):
        tables = [release[path] for release in releases if path in release]
        for name in dict.fromkeys(itertools.chain.from_iterable(tables)):
            groups = [table[name] for table in tables if name in table]
            if len(groups[-1]) < SUPPORT:
                continue
            about = _About(path, name, len(groups[-1]))
            found.checks += _of_list(about, groups)
            if not any(_repeated(group) for group in groups):
                found.unique.append(about.check("is unique"))
    found.references = list(_references(releases))
    return found


@dataclass(frozen=True)
class _About:
    """The list that checks are about, and how many records the newest release has there."""

    file: str
    list: str
    support: int

    def check(self, words: str) -> Check:
        return Check(f"{self.file}: {self.list.rpartition('/')[2]} {words}", self.file, self.list, self.support)


def _of_list(about: _About, groups: Sequence[Sequence[Record]]) -> Iterator[tuple[Check, Held]]:
    """Rules about single records that hold in every group."""
    every = [record for group in groups for record in group]
    present = Counter(itertools.chain.from_iterable(record.values for record in every))
    for each, count in present.items():
        if count == len(every):
            yield about.check(f"has {each}"), _required(each)
        values = [record.values[each] for record in every if each in record.values]
        if len(values) >= SUPPORT:
            yield from ((about.check(words), held) for words, held in _of_values(each, values))
    numeric = [
        each
        for each, count in present.items()
        if count >= WIDE and all(number(record.values[each]) is not None for record in every if each in record.values)
    ]
    for low, high in itertools.permutations(numeric, 2):
        if _ordered(every, low, high):
            yield about.check(f"{low} <= {high}"), _not_above(low, high)


def _required(name: str) -> Held:
    return lambda record: "" if name in record.values else f"lacks {name}"


def _of_values(name: str, values: Sequence[str]) -> Iterator[tuple[str, Held]]:
    numbers = [number(value) for value in values]
    if all(value is not None for value in numbers):
        if all(is_whole(value) for value in values):
            yield f"{name} is a whole number", _tested(name, _is_whole, "is no whole number")
        else:
            yield f"{name} is a number", _tested(name, lambda text: number(text) is not None, "is no number")
        if len(values) >= WIDE and all(value >= 0 for value in numbers if value is not None):
            yield f"{name} >= 0", _tested(name, _not_negative, "is below zero")
        return
    words = Counter(values)
    if len(values) >= WIDE and len(words) <= _MOST_WORDS and min(words.values()) >= 2:
        known = ", ".join(sorted(words))
        yield f"{name} is a known word", _tested(name, words.__contains__, f"is none of {known}")


def _is_whole(text: str) -> bool:
    return number(text) is not None and is_whole(text)


def _not_negative(text: str) -> bool:
    value = number(text)
    return value is None or value >= 0


def _tested(name: str, good: Callable[[str], bool], words: str) -> Held:
    def held(record: Record) -> str:
        value = record.values.get(name)
        return "" if value is None or good(value) else f"{name} is {value or 'empty'}, which {words}"

    return held


def _ordered(records: Sequence[Record], low: str, high: str) -> bool:
    """Whether one number never exceeds another, and that is hardly chance: their names say so, or they often meet."""
    pairs = [_both(record, low, high) for record in records]
    told = [pair for pair in pairs if pair is not None]
    if len(told) < WIDE or any(one > other for one, other in told) or all(one == other for one, other in told):
        return False
    meeting = sum(one == other for one, other in told)
    return bool(_PAIRED.search(low) or _PAIRED.search(high)) or meeting >= max(3, len(told) // 20)


def _both(record: Record, low: str, high: str) -> tuple[Decimal, Decimal] | None:
    one, other = number(record.values.get(low, "")), number(record.values.get(high, ""))
    return None if one is None or other is None else (one, other)


def _not_above(low: str, high: str) -> Held:
    def held(record: Record) -> str:
        pair = _both(record, low, high)
        return "" if pair is None or pair[0] <= pair[1] else f"{low} {pair[0]} is above {high} {pair[1]}"

    return held


def _repeated(records: Iterable[Record]) -> list[Record]:
    """Records that share their parent and name with one before."""
    seen: set[tuple[str, str]] = set()
    found = []
    for record in records:
        key = (record.parent, record.name)
        if key in seen:
            found.append(record)
        seen.add(key)
    return found


def _references(releases: Sequence[Mapping[str, Table]]) -> Iterator[tuple[Check, str, str, str]]:
    """Fields whose values always stand among the names of another list's records."""
    if not releases:
        return
    names = [
        {
            (path, name): {record.name for record in records}
            for path, table in release.items()
            for name, records in table.items()
        }
        for release in releases
    ]
    newest = releases[-1]
    for path, table in newest.items():
        for name, records in table.items():
            for each in dict.fromkeys(itertools.chain.from_iterable(record.values for record in records)):
                values = [_values_of(release, path, name, each) for release in releases]
                if not _may_refer(values[-1]):
                    continue
                suited = [
                    (len(names[-1][there]), there)
                    for there in names[-1]
                    if there != (path, name)
                    and all(set(told) <= known.get(there, set()) for told, known in zip(values, names, strict=True))
                ]
                if suited:
                    _, (file, where) = min(suited)
                    words = f"{path}: {each} of {name.rpartition('/')[2]} stands in {file}"
                    yield Check(words, path, name, len(values[-1])), each, file, where


def _values_of(release: Mapping[str, Table], path: str, name: str, each: str) -> list[str]:
    records = release.get(path, {}).get(name, [])
    return [record.values[each] for record in records if each in record.values]


def _may_refer(values: Sequence[str]) -> bool:
    return len(values) >= SUPPORT and len(set(values)) >= 3 and all(number(value) is None for value in set(values))


# --- looking at merged files -----------------------------------------------------


@dataclass(frozen=True)
class Sides:
    """The files that are looked at, by path, as they will be, as the admin has them, and as the vendor ships them."""

    merged: Mapping[str, Table]
    mine: Mapping[str, Table]
    new: Mapping[str, Table]
    lines: Callable[[str, int], int]
    """1-based line of an offset in a merged file."""


def breaches(learned: Learned, sides: Sides, silenced: Sequence[str] = ()) -> tuple[Breach, ...]:
    """Where the merged files break what was learned."""
    found = itertools.chain(_broken(learned, sides), _dangling(learned, sides))
    return tuple(breach for breach in found if not any(fnmatchcase(breach.check.name, glob) for glob in silenced))


def _broken(learned: Learned, sides: Sides) -> Iterator[Breach]:
    for check, held in learned.checks:
        for record in sides.merged.get(check.file, {}).get(check.list, []):
            if what := held(record):
                yield _breach(check, record, what, sides, held)
    for check in learned.unique:
        for record in _repeated(sides.merged.get(check.file, {}).get(check.list, [])):
            yield _breach(check, record, "stands there twice", sides)


def _dangling(learned: Learned, sides: Sides) -> Iterator[Breach]:
    for check, name, file, where in learned.references:
        if file not in sides.merged:
            continue
        known = {record.name for record in sides.merged[file].get(where, [])}
        for record in sides.merged.get(check.file, {}).get(check.list, []):
            value = record.values.get(name)
            if value is not None and value not in known:
                yield _breach(check, record, f"{name} is {value}, which does not stand in {file}", sides)


def _breach(check: Check, record: Record, what: str, sides: Sides, held: Held | None = None) -> Breach:
    """``held`` tells whether the record was as wrong on one side already; else the side with its values brought it."""
    here, theirs = (
        next((one for one in table.get(check.file, {}).get(check.list, []) if one.record == record.record), None)
        for table in (sides.mine, sides.new)
    )

    def has_it(side: Record | None) -> bool:
        return side is not None and (bool(held(side)) if held else side.values == record.values)

    side = MERGED
    if has_it(here) != has_it(theirs):
        side = YOURS if has_it(here) else VENDORS
    return Breach(check, record.record, what, side, sides.lines(check.file, record.start))


LARGEST = 32 << 20
"""Bytes; larger files are not looked at."""


def inspect(
    merge: Merge,
    releases: Sequence[Tree],
    mine: Tree,
    new: Tree,
    rules: Callable[[str], Mapping[str, Rule]],
    silenced: Sequence[str] = (),
) -> tuple[Breach, ...]:
    """Where the files of a merge will break what was learned from ``releases``, oldest first."""
    paths = [item.path for item in merge.files if item.fault is None and item.format not in ("", "text", "binary")]
    reader = _Tables(rules, releases)
    learned = learn([reader.of_tree(tree, paths) for tree in releases])
    merged = {
        item.path: table
        for item in merge.files
        if item.path in paths and (table := reader.merged(item, mine)) is not None
    }
    sides = Sides(merged, reader.of_tree(mine, paths), reader.of_tree(new, paths), reader.line)
    return breaches(learned, sides, silenced)


class _Tables:
    """Tables of files of trees, and the documents of the merged ones for their lines.

    Records are told apart by what the vendor's releases show: a name that stands twice among the admin's is then seen.
    """

    def __init__(self, rules: Callable[[str], Mapping[str, Rule]], releases: Sequence[Tree]) -> None:
        self.rules = rules
        self.releases = releases
        self.documents: dict[str, Document] = {}
        self._identities: dict[str, Identities] = {}

    def of_tree(self, tree: Tree, paths: Sequence[str]) -> dict[str, Table]:
        found = ((path, self._read(tree, path)) for path in paths)
        return {path: table_of(document, self._of(path, document)) for path, document in found if document is not None}

    def merged(self, item: FileMerge, mine: Tree) -> Table | None:
        if item.outcome is Outcome.REMOVED:
            return None
        path = item.path
        document = self._read(mine, path) if item.data is None else _document(path, item.data)
        if document is None:
            return None
        self.documents[path] = document
        return table_of(document, self._of(path, document))

    def _of(self, path: str, document: Document) -> Identities:
        if path not in self._identities:
            shipped = [found for tree in self.releases if (found := self._read(tree, path)) is not None]
            self._identities[path] = Identities(shipped or [document], [], self.rules(path))
        return self._identities[path]

    def _read(self, tree: Tree, path: str) -> Document | None:
        entry = tree.entries().get(path)
        if entry is None or entry.kind is not Kind.FILE or entry.size > LARGEST:
            return None
        return _document(path, read(tree, path))

    def line(self, path: str, offset: int) -> int:
        return self.documents[path].line(offset)


def _document(path: str, data: bytes) -> Document | None:
    try:
        return formats.parse(path, data)
    except (EmberKeepError, RecursionError):
        return None
