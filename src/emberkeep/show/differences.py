"""Differences of trees as text."""

from __future__ import annotations

from collections import Counter

from emberkeep.comparing.files import FileDifference, TreeDifference
from emberkeep.comparing.records import COMMENT, LINES, RECORD, Difference, Kind
from emberkeep.show import words
from emberkeep.show.console import ASKS, BAD, GOOD, HEAD, QUIET, Screen
from emberkeep.trees import Kind as EntryKind

_SIGNS = {Kind.CHANGED: "~", Kind.ADDED: "+", Kind.REMOVED: "-", Kind.MOVED: ">"}
_STYLES = {Kind.CHANGED: "", Kind.ADDED: GOOD, Kind.REMOVED: ASKS, Kind.MOVED: QUIET}


def difference(screen: Screen, found: TreeDifference, *, most: int) -> None:
    """All differences; at most ``most`` details a file (0: all)."""
    if not found.files:
        screen.line(f"{found.left} and {found.right} are alike: {words.count(found.same, 'file')} compared.", GOOD)
        return
    counts = Counter(item.kind for item in found.files)
    told = ", ".join(
        f"{counts[kind]} {kind.value}" for kind in (Kind.CHANGED, Kind.ADDED, Kind.REMOVED) if counts[kind]
    )
    screen.line(
        f"From {found.left} to {found.right}: {told}; {words.count(found.same, 'file is', 'files are')} alike.",
        HEAD,
    )
    folders = [item for item in found.files if _only_a_folder_time(item)]
    for item in found.files:
        if not _only_a_folder_time(item):
            _file(screen, item, most)
    if folders:
        screen.line(f"~ {words.count(len(folders), 'folder differs', 'folders differ')} in time alone", QUIET)


def _only_a_folder_time(item: FileDifference) -> bool:
    """A folder whose time changed because something in it did."""
    entry = item.right
    is_folder = entry is not None and entry.kind is EntryKind.FOLDER
    return is_folder and item.facts == ("other modification time",)


def _file(screen: Screen, item: FileDifference, most: int) -> None:
    screen.line(f"{_SIGNS[item.kind]} {item.path}{_about(item)}", _STYLES[item.kind] if not item.details else HEAD)
    if item.fault:
        screen.line(f"    {item.fault}", BAD)
    shown = item.details if not most else item.details[:most]
    for detail in shown:
        screen.line(f"    {detail_line(detail)}", _STYLES[detail.kind])
    if len(shown) < len(item.details):
        screen.line(f"    … and {len(item.details) - len(shown)} more (--all shows them)", QUIET)


def _about(item: FileDifference) -> str:
    entry = item.right or item.left
    if item.kind is not Kind.CHANGED:
        assert entry is not None
        return f"  ({words.size(entry.size)})" if entry.kind is EntryKind.FILE else f"  ({entry.kind.value})"
    parts = list(item.facts)
    if item.contents and item.left and item.right and not item.details:
        sizes = f"{words.size(item.left.size)} → {words.size(item.right.size)}"
        parts.insert(
            0, sizes if item.left.size != item.right.size else f"{sizes.split(' → ', maxsplit=1)[0]}, other contents"
        )
        if item.digests[0]:
            parts.append(f"{item.digests[0][:12]} → {item.digests[1][:12]}")
    return f"  ({'; '.join(parts)})" if parts else ""


def detail_line(detail: Difference) -> str:
    """One difference on one line."""
    field = "" if detail.field in (RECORD, LINES) else detail.field
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
