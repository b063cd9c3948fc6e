"""Two or three sides of the same files beside each other, record by record: what each calls old, mine and new."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

from emberkeep.comparing.files import FileDifference, TreeDifference
from emberkeep.comparing.records import COMMENT, LINES, RECORD, Difference, Kind
from emberkeep.documents.values import same_value
from emberkeep.fs.trees import Entry

WHOLE = "(file)"
"""Stands in ``field`` where only the file as a whole is known to differ."""


@dataclass(frozen=True)
class Row:
    """One field of one record on all sides; None where it is not there. ``mine``/``new`` is what it is there, changed
    or not; ``how``: how each of the two differs from ``old``, None where it does not; ``line``: on the side that
    differs, mine before new."""

    record: str
    field: str
    old: str | None
    mine: str | None
    new: str | None
    how_mine: Kind | None = None
    how_new: Kind | None = None
    line: int | None = None
    clashes: bool = False
    """Whether one side removed the record, and the other changed something of it."""

    @property
    def needs_me(self) -> bool:
        """Whether both sides changed it, each otherwise. Comments that both added may stand beside each other."""
        if self.clashes:
            return True
        if self.how_mine is None or self.how_new is None:
            return False
        if self.field == WHOLE:
            return True  # nobody knows whether both hold the same
        if self.field == COMMENT and self.how_mine is self.how_new is Kind.ADDED:
            return False
        return (self.how_mine, self.mine) != (self.how_new, self.new) and not same_value(self.mine, self.new)

    @property
    def sort(self) -> str:
        """What sort of record it is of: the last name on the way to it, without its key; "" for none."""
        return "" if self.field in (LINES, WHOLE) else self.record.rpartition("/")[2].partition("[")[0]


@dataclass(frozen=True)
class BesideFile:
    """A file that differs on any side, with its rows in the order of the file."""

    path: str
    rows: tuple[Row, ...]


def beside(mine: TreeDifference, new: TreeDifference | None = None) -> tuple[BesideFile, ...]:
    """What differs, joined by file, record and field. ``mine``: from old to mine; ``new``: from old to new, where a
    third side is wanted."""
    firsts = {item.path: item for item in mine.files}
    seconds = {item.path: item for item in new.files} if new is not None else {}
    paths = sorted(firsts.keys() | seconds.keys())
    return tuple(BesideFile(path, _clashing(list(_rows(firsts.get(path), seconds.get(path))))) for path in paths)


def _clashing(rows: Sequence[Row]) -> tuple[Row, ...]:
    """The rows, those marked of which one side removed the record that the other changed."""
    gone = {
        "new": {row.record for row in rows if row.field == RECORD and row.how_new is Kind.REMOVED},
        "mine": {row.record for row in rows if row.field == RECORD and row.how_mine is Kind.REMOVED},
    }
    edited = {
        "new": [row.record for row in rows if row.how_mine not in (None, Kind.REMOVED)],
        "mine": [row.record for row in rows if row.how_new not in (None, Kind.REMOVED)],
    }
    both = {record for side in gone for record in _of_any(edited[side], gone[side])}
    return tuple(replace(row, clashes=bool(_of_any([row.record], both))) for row in rows)


def _of_any(records: Sequence[str], around: set[str]) -> set[str]:
    """Those of ``around`` that any of the records is, or stands in."""
    found = set()
    for record in records if around else ():
        at = record
        while at:
            if at in around:
                found.add(at)
            at = at.rpartition("/")[0]
    return found


def _rows(mine: FileDifference | None, new: FileDifference | None) -> Iterator[Row]:
    sides = [_details(item) if item is not None else [] for item in (mine, new)]
    by_place = [_by_place(details) for details in sides]
    places = sorted(by_place[0].keys() | by_place[1].keys(), key=lambda place: _line(place, by_place))
    for place in places:
        yield _row(place, by_place[0].get(place), by_place[1].get(place))


_Place = tuple[str, str, int]
"""Record, field, and which of those that are called the same."""


def _by_place(details: Sequence[Difference]) -> dict[_Place, Difference]:
    found: dict[_Place, Difference] = {}
    for one in details:
        field = f"{one.field} moved" if one.kind is Kind.MOVED else one.field
        number = 0
        while (one.record, field, number) in found:
            number += 1
        found[one.record, field, number] = one
    return found


def _line(place: _Place, by_place: Sequence[Mapping[_Place, Difference]]) -> tuple[int, str]:
    """Where a row stands: records of one file in the order of the lines of either side."""
    lines = [found[place].line or 0 for found in by_place if place in found]
    return min(lines), place[0]


def _row(place: _Place, mine: Difference | None, new: Difference | None) -> Row:
    record, field, _ = place
    either = mine or new
    assert either is not None
    old = either.left
    return Row(
        record,
        field.removesuffix(" moved"),
        old,
        mine.right if mine else old,
        new.right if new else old,
        mine.kind if mine else None,
        new.kind if new else None,
        either.line,
    )


def _details(item: FileDifference) -> list[Difference]:
    """The differences of a file in its own terms; the file itself where it has none."""
    if item.terms.details:
        return list(item.terms.details)
    left, right = (_whole(entry, item) for entry in (item.left, item.right))
    return [Difference("", WHOLE, item.kind, left, right, None)]


def _whole(entry: Entry | None, item: FileDifference) -> str | None:
    """What is told of a file of which nothing more is known."""
    if entry is None:
        return None
    if item.renamed_from:
        return entry.path
    facts = [f"{entry.size} bytes", *(item.facts if entry is item.right else ())]
    return "; ".join(facts if item.contents else facts[1:] or facts)
