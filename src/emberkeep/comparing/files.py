"""Differences of two trees, file by file, and of each file in its own terms."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from emberkeep.comparing.picking import TextFound, records_with
from emberkeep.comparing.records import Condition, Kind, meets_any
from emberkeep.comparing.terms import LARGEST_DETAIL, SMALL, Asked, Terms, in_own_terms
from emberkeep.documents import registry
from emberkeep.documents.encoding import Text, decode
from emberkeep.documents.formats.lines import split
from emberkeep.documents.identity import Rule
from emberkeep.errors import EmberKeepError, Fault, Place
from emberkeep.fs.trees import Entry, Tree, hides, read, unread
from emberkeep.fs.trees import Kind as EntryKind

if TYPE_CHECKING:
    from emberkeep.comparing.tiles import TileMap
    from emberkeep.inventory.tiles import TileNames

OTHER_TIME = "other modification time"
ALIKE = Terms("")
"""The terms of a file whose contents do not differ, or that stands on one side only."""
TILE = Terms("tile")
"""The terms of a tile file: it is told by the map."""


@dataclass(frozen=True)
class FileDifference:
    """One path that differs. ``left``/``right``: its entry there, None where it is missing.

    ``contents``: whether the bytes differ; ``facts``: what else does (mode, time, target, what stands there).
    ``renamed_from``: the path on the left, for a file that was moved or renamed. ``role``: of the path; ``who``: whose
    file it is, for a player's.
    """

    path: str
    kind: Kind
    left: Entry | None
    right: Entry | None
    contents: bool
    facts: tuple[str, ...] = ()
    terms: Terms = ALIKE
    renamed_from: str = ""
    role: str = ""
    who: str = ""


@dataclass(frozen=True)
class RoleCount:
    """How many files of a role differ, by how."""

    role: str
    changed: int
    added: int
    removed: int
    moved: int


@dataclass(frozen=True)
class TreeDifference:
    """All differences of two trees, sorted by path; ``same``: files that are alike; ``maps``: where tiles differ."""

    left: str
    right: str
    files: tuple[FileDifference, ...]
    same: int
    maps: tuple[TileMap, ...] = ()
    unread: tuple[Fault, ...] = ()
    """What either side could not list or read; nothing below is compared."""

    @property
    def faults(self) -> tuple[Fault, ...]:
        """Files that could not be read in their own terms, or not at all."""
        return (*(item.terms.fault for item in self.files if item.terms.fault), *self.unread)

    @property
    def by_role(self) -> tuple[RoleCount, ...]:
        """Counts of differing files, links included and folders not, by role in the order of their first path."""
        counts: dict[str, Counter[Kind]] = defaultdict(Counter)
        for item in self.files:
            entry = item.right or item.left
            if entry is not None and entry.kind is not EntryKind.FOLDER:
                counts[item.role][item.kind] += 1
        return tuple(
            RoleCount(role, found[Kind.CHANGED], found[Kind.ADDED], found[Kind.REMOVED], found[Kind.MOVED])
            for role, found in counts.items()
        )


Rules = Callable[[str], Mapping[str, Rule]]
RoleOf = Callable[[str], str]


@dataclass(frozen=True)
class Comparison:
    """How trees are compared. ``wanted``: which paths, None for all; ``rules``: how records are told apart, by path;
    ``times``: whether a different modification time or mode alone counts; ``details``: whether files are compared in
    their own terms; ``where``: only records that meet all of these, and files that have such; ``role_of`` and
    ``who_is``: of a path, in words; ``tiles``: how tiles are named; ``summed``: bytes up to which a file's numbers are
    added up."""

    wanted: Callable[[str], bool] | None = None
    rules: Rules = lambda path: {}
    times: bool = True
    details: bool = True
    where: Sequence[Condition] = ()
    role_of: RoleOf = lambda path: ""
    who_is: RoleOf = lambda path: ""
    tiles: TileNames | None = None
    summed: int = SMALL


ALL = Comparison()


def compare_trees(left: Tree, right: Tree, how: Comparison = ALL) -> TreeDifference:
    """How two trees differ, file by file."""
    paths = left.entries().keys() | right.entries().keys()
    chosen = sorted(path for path in paths if how.wanted is None or how.wanted(path))
    chosen, left_out = _looked_into(chosen, left, right)
    found = [item for path in chosen if (item := _compare_path(path, left, right, how.times)) is not None]
    same = _files(chosen, left, right) - _files([item.path for item in found], left, right)
    found = _renames(found, left, right)
    changed = {path for item in found if item.contents for path in (item.path, item.renamed_from) if path}
    maps: Sequence[TileMap] = ()
    if how.tiles and how.details and not how.where:
        from emberkeep.comparing.tiles import tile_maps  # only where tiles are compared

        maps = tile_maps(left, right, chosen, changed, how.tiles)
    mapped = {tile.path for each in maps for tile in each.tiles}
    shown = []
    for item in found:
        terms = TILE if item.path in mapped else ALIKE
        if how.details and item.path not in mapped and _both_are_files(item):
            terms = in_own_terms(item.path, left, right, Asked(how.rules(item.path), how.where, how.summed))
        if not how.where or terms.details or terms.fault:
            shown.append(replace(item, terms=terms, role=how.role_of(item.path), who=how.who_is(item.path)))
    return TreeDifference(left.label, right.label, tuple(shown), same, tuple(maps), left_out)


def _looked_into(chosen: list[str], left: Tree, right: Tree) -> tuple[list[str], tuple[Fault, ...]]:
    """The paths of which both sides know whether they have them, and what hides the others."""
    hidden = {
        one.path: Fault(one.why, Place(f"{tree.label}: {one.path}")) for tree in (left, right) for one in unread(tree)
    }
    if not hidden:
        return chosen, ()
    away = [path for path in chosen if hides(hidden, path)]
    faults = tuple(fault for one, fault in hidden.items() if any(hides([one], path) for path in away))
    return [path for path in chosen if not hides(hidden, path)], faults


def _files(paths: Iterable[str], left: Tree, right: Tree) -> int:
    lefts, rights = left.entries(), right.entries()
    entries = (rights.get(path) or lefts[path] for path in paths)
    return sum(entry.kind is not EntryKind.FOLDER for entry in entries)


def _compare_path(path: str, left: Tree, right: Tree, times: bool) -> FileDifference | None:
    first, second = left.entries().get(path), right.entries().get(path)
    if first is None or second is None:
        kind = Kind.ADDED if first is None else Kind.REMOVED
        return FileDifference(path, kind, first, second, True)
    facts = _facts(first, second, times)
    contents = _contents_differ(path, first, second, left, right)
    if not facts and not contents:
        return None
    return FileDifference(path, Kind.CHANGED, first, second, contents, facts)


def _facts(left: Entry, right: Entry, times: bool) -> tuple[str, ...]:
    if left.kind is not right.kind:
        return (f"{left.kind.value} became {right.kind.value}",)
    facts = []
    if left.points_at != right.points_at:
        facts.append(f"points at {right.points_at} instead of {left.points_at}")
    if times and left.kind is not EntryKind.LINK and left.mode != right.mode:
        facts.append(f"mode {left.mode:o} became {right.mode:o}")
    if times and left.mtime_ns != right.mtime_ns:
        facts.append(OTHER_TIME)
    return tuple(facts)


def _contents_differ(path: str, first: Entry, second: Entry, left: Tree, right: Tree) -> bool:
    if first.kind is not EntryKind.FILE or second.kind is not EntryKind.FILE:
        return False
    return first.size != second.size or left.digest(path) != right.digest(path)


def _both_are_files(item: FileDifference) -> bool:
    sides = (item.left, item.right)
    return item.contents and item.kind is Kind.CHANGED and all(side and side.kind is EntryKind.FILE for side in sides)


def _renames(found: Sequence[FileDifference], left: Tree, right: Tree) -> list[FileDifference]:
    """A file gone and one come with the same contents are one file that was moved. Only sizes that meet are read."""
    gone: dict[int, list[FileDifference]] = defaultdict(list)
    for item in found:
        if item.kind is Kind.REMOVED and item.left and item.left.kind is EntryKind.FILE and item.left.size:
            gone[item.left.size].append(item)
    used: set[str] = set()
    result: dict[str, FileDifference] = {item.path: item for item in found}
    for item in found:
        if item.kind is not Kind.ADDED or item.right is None or item.right.kind is not EntryKind.FILE:
            continue
        source = _source(item, [one for one in gone[item.right.size] if one.path not in used], left, right)
        if source is not None:
            used.add(source.path)
            del result[source.path]
            moved = replace(item, kind=Kind.MOVED, left=source.left, contents=False, renamed_from=source.path)
            result[item.path] = moved
    return list(result.values())


def _source(item: FileDifference, gone: Sequence[FileDifference], left: Tree, right: Tree) -> FileDifference | None:
    """Which of the files gone this one was; the one whose name is most like it where there are several."""
    if not gone:
        return None
    digest = right.digest(item.path)
    alike = [one for one in gone if left.digest(one.path) == digest]
    name = item.path.rsplit("/", 1)[-1]
    return min(alike, key=lambda one: (one.path.rsplit("/", 1)[-1] != name, one.path), default=None)


@dataclass(frozen=True)
class FoundFile:
    """Where a text stands in one file on both sides."""

    path: str
    left: tuple[TextFound, ...]
    right: tuple[TextFound, ...]


def find_text(
    text: str, left: Tree, right: Tree, *, wanted: Callable[[str], bool], rules: Rules = lambda path: {}
) -> tuple[list[FoundFile], list[Fault]]:
    """Records, lines and file names that hold ``text`` on either side; and what could not be searched."""
    found, faults = [], []
    for path in sorted(path for path in left.entries().keys() | right.entries().keys() if wanted(path)):
        sides = []
        for tree in (left, right):
            try:
                sides.append(tuple(_seen_in(tree, path, text, rules)))
            except EmberKeepError as error:
                faults.append(error.faults[0])
                sides.append(())
        if any(sides):
            found.append(FoundFile(path, *sides))
    return found, faults


def holds_records(tree: Tree, path: str, where: Sequence[Condition], rules: Rules = lambda path: {}) -> bool:
    """Whether a file has records that meet all conditions."""
    entry = tree.entries()[path]
    if entry.kind is not EntryKind.FILE or entry.size > LARGEST_DETAIL:
        return False
    try:
        document = registry.parse(path, read(tree, path))
    except EmberKeepError:
        return False  # what cannot be read is told elsewhere
    return document is not None and meets_any(document, rules(path), where)


def _seen_in(tree: Tree, path: str, text: str, rules: Rules) -> Iterable[TextFound]:
    entry = tree.entries().get(path)
    if entry is None:
        return []
    named = [TextFound("(file name)", 0)] if text.lower() in path.rsplit("/", 1)[-1].lower() else []
    if entry.kind is not EntryKind.FILE or entry.size > LARGEST_DETAIL:
        return named
    data = read(tree, path)
    source = decode(data)
    if source is None or text.lower() not in source.text.lower():
        return named
    try:
        document = registry.parse(path, data)
    except EmberKeepError:
        document = None
    return named + (records_with(document, text, rules(path)) if document else _lines_with(source, text))


def _lines_with(source: Text, text: str) -> list[TextFound]:
    lines = enumerate(split(source.text), 1)
    return [TextFound(line.strip()[:80], number) for number, line in lines if text.lower() in line.lower()]
