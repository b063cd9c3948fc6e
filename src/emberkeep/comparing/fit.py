"""Which recorded release the live files come from: by what they say, not by a label."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from functools import cached_property

from emberkeep.comparing.records import facts
from emberkeep.documents import registry
from emberkeep.documents.encoding import decode
from emberkeep.documents.formats.lines import body, split
from emberkeep.documents.identity import Rule
from emberkeep.errors import EmberKeepError
from emberkeep.fs.trees import Kind, Tree, hides, read, unread

LEAST_SHARE = 0.3
"""A release that shares less with the live files is of another server, or too far from it to merge by."""


@dataclass(frozen=True)
class Fit:
    """How well a release fits: share of its facts (fields, lines) that stand in the live files, 0 to 1."""

    version: str
    share: float
    files: int


def fits(
    releases: Mapping[str, Tree],
    live: Tree,
    paths: Iterable[str],
    rules: Callable[[str], Mapping[str, Rule]],
) -> list[Fit]:
    """Measure each release over the files among ``paths`` that it ships. Facts on either side count alike."""
    shared, total, files = Counter[str](), Counter[str](), Counter[str]()
    unseen = {one.path for one in unread(live)}
    for path in paths:
        entry = live.entries().get(path)
        if (entry is not None and entry.kind is not Kind.FILE) or (unseen and hides(unseen, path)):
            continue  # it says nothing either way
        mine = _of_file(live, path, rules)
        by_version = {version: file for version, tree in releases.items() if (file := _of_file(tree, path, rules))}
        alike = len({file.data for file in by_version.values()}) == 1
        for version, theirs in by_version.items():
            common, either = _counted(mine, theirs, alike=alike)
            shared[version] += common
            total[version] += either
            files[version] += 1
    return [Fit(name, shared[name] / total[name] if total[name] else 0.0, files[name]) for name in releases]


Fact = tuple[str, str, str]
_NOTHING: frozenset[Fact] = frozenset()


@dataclass(frozen=True)
class _File:
    """What a file says, by record and field and by line."""

    path: str
    data: bytes
    rules: Mapping[str, Rule]

    @cached_property
    def fields(self) -> frozenset[Fact] | None:
        """Its fields by record; None where it has none that can be read."""
        try:
            document = registry.parse(self.path, self.data)
        except EmberKeepError:
            return None
        if document is None:
            return None
        found = facts(document, self.rules)
        return frozenset((self.path, f"{record}/{field}", value) for record, field, value in found)

    @cached_property
    def lines(self) -> frozenset[Fact]:
        """Its lines; a binary one is a single line."""
        source = decode(self.data)
        if source is None:
            return frozenset({(self.path, "", str(hash(self.data)))})
        return frozenset((self.path, "", body(line)) for line in split(source.text) if line.strip())


def _of_file(tree: Tree, path: str, rules: Callable[[str], Mapping[str, Rule]]) -> _File | None:
    entry = tree.entries().get(path)
    if entry is None or entry.kind is not Kind.FILE:
        return None
    return _File(path, read(tree, path), rules(path))


MOSTLY = 0.5
"""Share of lines in common from which a file that is the same in every release need not be read field by field."""


def _counted(mine: _File | None, theirs: _File, *, alike: bool) -> tuple[int, int]:
    """How many facts two files share, and how many there are in either."""
    if alike and mine is not None and mine.data == theirs.data:
        lines = 1 if b"\0" in mine.data else mine.data.count(b"\n") + 1  # most files are so
        return lines, lines
    here, there = _facts(mine, theirs, alike=alike)
    return len(there & here), len(there | here)


def _facts(mine: _File | None, theirs: _File, *, alike: bool) -> tuple[frozenset[Fact], frozenset[Fact]]:
    """Two files in the same terms: by field where both have records. ``alike``: whether every release has this file, so
    that it tells none from another; lines will then do, where they are mostly the same."""
    if mine is None:
        return _NOTHING, theirs.fields or theirs.lines
    if alike and len(mine.lines & theirs.lines) >= MOSTLY * len(mine.lines | theirs.lines):
        return mine.lines, theirs.lines
    if mine.fields is not None and theirs.fields is not None:
        return mine.fields, theirs.fields
    return mine.lines, theirs.lines
