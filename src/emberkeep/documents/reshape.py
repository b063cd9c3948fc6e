"""Records of a document given another shape, or taken out."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal

from emberkeep.documents import layout
from emberkeep.documents.edit import File, insert, rename_edits, top, unquoted
from emberkeep.documents.model import TOP, Document, Edit, Field, Node, Role, plain_fields
from emberkeep.documents.values import number, respelled


@dataclass(frozen=True)
class Shape:
    """Another shape for records. ``rename``: field -> its new name; ``values``: field -> { old value: new one };
    ``default``: field -> the value where it is missing; ``drop``: fields that go; ``scale``: field -> factor."""

    rename: Mapping[str, str] = field(default_factory=dict)
    values: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    default: Mapping[str, str] = field(default_factory=dict)
    drop: tuple[str, ...] = ()
    scale: Mapping[str, Decimal] = field(default_factory=dict)


def reshaped(path: str, data: bytes, at: str, shape: Shape) -> tuple[bytes, int]:
    """The file with its records at ``at`` (names joined by ``/``, ``*`` for any; "": the file itself) given another
    shape, and how many of them changed."""
    opened = File(path, data)
    document = opened.require_document()
    edits: list[Edit] = []
    count = 0
    for node in _records(document.root, [part for part in at.split("/") if part]):
        found = list(_shaped(opened, document, node, shape))
        edits += found
        count += bool(found)
    return opened.written(edits), count


@dataclass(frozen=True)
class Found:
    """A record that was asked for: its name, its 1-based line, its text, and its place among the formats' nodes."""

    name: str
    line: int
    text: str
    node: Node


def without_records(path: str, data: bytes, at: str, goes: Callable[[Found], bool]) -> tuple[bytes, tuple[Found, ...]]:
    """The file without those of the records at ``at`` (as in :func:`reshaped`) that ``goes`` chooses, and which."""
    opened = File(path, data)
    document = opened.require_document()
    gone: list[Found] = []
    edits: list[Edit] = []
    for parent, records in _parents(document.root, [part for part in at.split("/") if part]):
        found = [Found(node.name, document.line(node.start), document.raw(node), node) for node in records]
        chosen = [one for one in found if goes(one)]
        gone += chosen
        edits += layout.removals_from(document, parent, {id(one.node) for one in chosen})
    return opened.written(edits), tuple(gone)


def _parents(node: Node, names: Sequence[str]) -> Iterator[tuple[Node, list[Node]]]:
    """Records whose items are asked for, each with those items."""
    records = [item for item in node.items if item.role is Role.RECORD and item.name != TOP]
    inside = [item for item in records if names and names[0] in ("*", item.name)]
    if len(names) == 1 and inside:
        yield node, inside
    for item in inside if len(names) > 1 else ():
        yield from _parents(item, names[1:])


def _records(root: Node, names: Sequence[str]) -> Iterator[Node]:
    if not names:
        yield top(root)
        return
    for item in root.items:
        if item.role is Role.RECORD and item.name != TOP and names[0] in ("*", item.name):
            yield from _records(item, names[1:])


def _shaped(opened: File, document: Document, node: Node, shape: Shape) -> Iterator[Edit]:
    inside = {item.name: item for item in node.items if item.role is Role.RECORD}
    plain = plain_fields(node)
    renamed = {new: old for old, new in shape.rename.items()}
    added = {
        name: wanted
        for name, wanted in shape.default.items()
        if name not in inside and f"@{name}" not in node.fields and renamed.get(name) not in inside
    }
    gone = {id(inside[name]) for name in shape.drop if name in inside}
    yield from layout.removals_from(document, node, gone, filled_again=bool(added))
    for name in shape.drop:
        if name not in inside and f"@{name}" in node.fields:
            yield Edit(*node.fields[f"@{name}"].outer, "")
    for name, new in shape.rename.items():
        if name in inside and new not in inside:
            yield from rename_edits(document, inside[name], new)
        elif (field := node.fields.get(f"@{name}")) is not None and f"@{new}" not in node.fields:
            start = document.text.index(name, *field.outer)
            yield Edit(start, start + len(name), new)
    for name, field in plain.items():
        wanted = _new_value(field, shape.values.get(name, {}), shape.scale.get(name))
        if wanted is not None and name not in shape.drop:
            yield Edit(field.start, field.end, opened.spelled(wanted, field))
    yield from insert(document, node, added)


def _new_value(field: Field, values: Mapping[str, str], factor: Decimal | None) -> str | None:
    """What becomes of a value; None when it stays."""
    plain = unquoted(field.value)
    if plain in values:
        return values[plain]
    exact = number(plain) if factor is not None else None
    return respelled(exact * factor, plain) if exact is not None and factor is not None else None
