"""Differences of trees as text."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from decimal import Decimal

from emberkeep.comparing.files import OTHER_TIME, FileDifference, FoundFile, RoleCount, TreeDifference
from emberkeep.comparing.picking import TextFound
from emberkeep.comparing.ranges import Ranges
from emberkeep.comparing.records import COMMENT, LINES, RECORD, Difference, Kind
from emberkeep.comparing.rows import ROW, ROWS, SCHEMA
from emberkeep.comparing.terms import MEMBER
from emberkeep.comparing.totals import Totals
from emberkeep.errors import Fault
from emberkeep.fs.trees import Kind as EntryKind
from emberkeep.show import words
from emberkeep.show.console import ASKS, BAD, GOOD, HEAD, QUIET, Screen, cell, table
from emberkeep.show.files import tilemap

_SIGNS = {Kind.CHANGED: "~", Kind.ADDED: "+", Kind.REMOVED: "-", Kind.MOVED: ">"}
_STYLES = {Kind.CHANGED: "", Kind.ADDED: GOOD, Kind.REMOVED: ASKS, Kind.MOVED: QUIET}
_NAMELESS = (RECORD, LINES, MEMBER, ROW, ROWS, SCHEMA)
MOST_FILES = 24
"""Files of one role listed, where not all are asked for."""
MOST_TOTALS = 12


def difference(screen: Screen, found: TreeDifference, *, most: int) -> None:
    """The summary first, then all differences; at most ``most`` details a file (0: all files and details)."""
    for fault in found.unread:
        screen.line(f"! {fault}; it is not compared", ASKS)
    if not found.files:
        screen.line(f"{found.left} and {found.right} do not differ: {words.count(found.same, 'file')} compared.", GOOD)
        return
    counts = Counter(item.kind for item in found.files)
    summary = ", ".join(f"{counts[kind]} {word}" for kind, word in _WORDS.items() if counts[kind])
    alike = f"; {words.count(found.same, 'file is', 'files are')} the same" if found.same else ""
    screen.line(f"From {found.left} to {found.right}: {summary}{alike}.", HEAD)
    if len(found.by_role) > 1:
        _roles(screen, found.by_role)
    for each in found.maps:
        screen.line()
        tilemap.show(screen, each)
    listed = [item for item in found.files if item.terms.format != "tile" and not _only_a_folder_time(item)]
    if len(found.by_role) > 1 or found.maps:
        screen.line()
    _files(screen, listed, most)
    folders = sum(_only_a_folder_time(item) for item in found.files)
    if folders:
        screen.line(f"~ {words.count(folders, 'folder differs', 'folders differ')} in time alone", QUIET)
    for summed in [sums for item in found.files for sums in item.terms.totals if sums.changed]:
        screen.line()
        totals(screen, summed, most)


_ORDER = {Kind.ADDED: 0, Kind.REMOVED: 1, Kind.MOVED: 2, Kind.CHANGED: 3}
"""What is new comes first, as most people look for that."""
_WORDS = {Kind.CHANGED: "changed", Kind.ADDED: "added", Kind.REMOVED: "removed", Kind.MOVED: "renamed"}


def _roles(screen: Screen, counts: Sequence[RoleCount]) -> None:
    names = ("changed", "added", "removed", "renamed")
    rows = table("role", *names, right=names)
    for row in counts:
        numbers = (row.changed, row.added, row.removed, row.moved)
        rows.add_row(row.role or "(no role)", *(str(number or "") for number in numbers))
    screen.show(rows)


def _only_a_folder_time(item: FileDifference) -> bool:
    """A folder whose time changed because something in it did."""
    entry = item.right
    is_folder = entry is not None and entry.kind is EntryKind.FOLDER
    return is_folder and item.facts == (OTHER_TIME,)


def _files(screen: Screen, files: Sequence[FileDifference], most: int) -> None:
    shown: Counter[str] = Counter()
    left: Counter[str] = Counter()
    for item in sorted(files, key=lambda one: _ORDER[one.kind]):
        if most and shown[item.role] >= MOST_FILES:
            left[item.role] += 1
            continue
        shown[item.role] += 1
        _file(screen, item, most)
    for role, count in left.items():
        where = f" of {role}" if role else ""
        screen.line(f"… and {words.count(count, 'more file')}{where} (--all shows them)", QUIET)


def _file(screen: Screen, item: FileDifference, most: int) -> None:
    details = sorted(item.terms.details, key=lambda one: _ORDER[one.kind])  # each kind in the order of the file
    name = f"{item.renamed_from} → {item.path}" if item.renamed_from else item.path
    name += f"  {item.who}" if item.who else ""
    screen.line(f"{_SIGNS[item.kind]} {name}{_about(item)}", HEAD if details else _STYLES[item.kind])
    if item.terms.fault:
        screen.line(f"    {item.terms.fault}", BAD)
    if item.terms.ranges:
        screen.line(f"    {_ranges(item.terms.ranges, most)}")
    shown = details if not most else details[:most]
    for detail in shown:
        screen.line(f"    {detail_line(detail)}", _STYLES[detail.kind])
    if len(shown) < len(details):
        screen.line(f"    … and {len(details) - len(shown)} more (--all shows them)", QUIET)


def _ranges(ranges: Ranges, most: int) -> str:
    """How much of a binary file changed, and where."""
    shown = ranges.ranges if not most else ranges.ranges[:6]
    places = ", ".join(f"{start}" if end == start + 1 else f"{start}-{end - 1}" for start, end in shown)
    more = f" and {len(ranges.ranges) - len(shown)} more stretches" if len(ranges.ranges) > len(shown) else ""
    share = words.share(ranges.share)
    return f"{words.count(ranges.changed, 'byte')} of {ranges.total} differ ({share}): bytes {places}{more}"


def _about(item: FileDifference) -> str:
    entry = item.right or item.left
    if item.kind in (Kind.ADDED, Kind.REMOVED):
        assert entry is not None
        return f"  ({words.size(entry.size)})" if entry.kind is EntryKind.FILE else f"  ({entry.kind.value})"
    parts = [fact for fact in item.facts if not item.contents or fact != OTHER_TIME]
    if item.contents and item.left and item.right and not item.terms.details:
        before, after = words.size(item.left.size), words.size(item.right.size)
        alike = item.left.size == item.right.size
        parts.insert(0, f"{before}, other contents" if alike else f"{before} → {after}")
    return f"  ({'; '.join(parts)})" if parts else ""


def detail_line(detail: Difference) -> str:
    """One difference on one line."""
    detail = words.redact(detail)
    field = "" if detail.field in _NAMELESS else detail.field
    name = " ".join(part for part in (detail.record, field) if part)
    sign = _SIGNS[detail.kind]
    if detail.kind is Kind.MOVED:
        return f"{sign} {name} stands elsewhere"
    if detail.kind is Kind.CHANGED and detail.left is None:
        return f"{sign} {name}  {words.short(detail.right)}"
    if detail.kind is Kind.CHANGED:
        return f"{sign} {name}  {words.short(detail.left)} → {words.short(detail.right)}"
    value = detail.right if detail.kind is Kind.ADDED else detail.left
    if detail.field == RECORD:
        return f"{sign} {name}"
    return f"{sign} {name}  {words.short(value, 90 if detail.field == COMMENT else 60)}"


def totals(screen: Screen, sums: Totals, most: int) -> None:
    """What a list of records adds up to, by kind, and which records moved most."""
    by = f" by {sums.grouped_by}" if sums.grouped_by else ""
    changed = sums.changed if not most else sums.changed[:MOST_TOTALS]
    screen.line(f"Totals of {sums.records} in {sums.path}{by}", HEAD)
    rows = table("kind", "field", "before", "after", "change", right=("before", "after", "change"))
    for total in changed:
        rows.add_row(
            cell(total.kind),
            cell(total.field),
            _plain(total.left),
            _plain(total.right),
            _change(total.left, total.right),
        )
    screen.show(rows)
    if len(changed) < len(sums.changed):
        screen.line(f"… and {len(sums.changed) - len(changed)} more (--all shows them)", QUIET)
    movers = [f"{move.record} {move.field} {_plain(move.left)} → {_plain(move.right)}" for move in sums.movers[:3]]
    if movers:
        screen.line(f"moved most: {'; '.join(movers)}")


def _plain(value: Decimal | None) -> str:
    return "–" if value is None else f"{value.normalize():f}"


def _change(left: Decimal, right: Decimal) -> str:
    moved = right - left
    sign = "+" if moved > 0 else ""
    return f"{sign}{_plain(moved)}" + (f" ({sign}{moved / abs(left):.0%})" if left else "")


def finds(
    screen: Screen, text: str, labels: tuple[str, str], found: Sequence[FoundFile], faults: Sequence[Fault]
) -> None:
    """Where a text stands on both sides."""
    for item in found:
        screen.line(item.path, HEAD)
        left = {one.record: one for one in item.left}
        right = {one.record: one for one in item.right}
        for record in dict.fromkeys([*left, *right]):
            places = [_place(label, side.get(record)) for label, side in zip(labels, (left, right), strict=True)]
            style = "" if record in left and record in right else GOOD if record in right else ASKS
            screen.line(f"    {words.escape_control(record) or '(at the top)'}: {', '.join(places)}", style)
    if not found:
        screen.line(f"“{text}” stands neither in {labels[0]} nor in {labels[1]}.", ASKS)
    for fault in faults:
        screen.line(f"not searched: {fault}", BAD)


def _place(label: str, found: TextFound | None) -> str:
    if found is None:
        return f"not in {label}"
    return f"{label} line {found.line}" if found.line else label
