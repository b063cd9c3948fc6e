"""The record model that all formats share.

A document is text plus a tree of nodes over spans of it. A node is a record (an element, a section, an entry) or a
comment (or another thing that only stands somewhere, as a processing instruction). A record has *fields*, named
values that are merged one by one, and *items*, the ordered nodes inside it. Its own value, where it has one, is the
field named "".

Spans are offsets in characters of ``Document.text``; see ``encoding`` for why these stand for bytes.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Container, Iterable, Sequence
from enum import Enum
from functools import cached_property
from typing import NamedTuple

from emberkeep.documents.encoding import Text
from emberkeep.documents.values import said
from emberkeep.errors import Place

VALUE = ""
"""The name of the field that is a record's own value."""
TOP = "\0"
"""The name of a record that only groups what stands before the first header; reports do not show it."""


_INDENT = re.compile(r"^([ \t]+)\S", re.MULTILINE)
STRETCH = 1 << 13


class UnsupportedStructure(Exception):
    """A file is well-formed, but its records cannot be edited safely one by one: lines must do. ``why``: it holds such
    a thing, at ``place``."""

    def __init__(self, why: str, place: Place) -> None:
        super().__init__(why)
        self.why = why
        self.place = place


class EditConflict(Exception):
    """Two edits of a file want the same place: its records stand in each other's way, and lines must do."""


class Role(Enum):
    """What a node is among its siblings."""

    RECORD = 1
    COMMENT = 2


class Field(NamedTuple):
    """A named value. ``value``: decoded; ``start``/``end``: the raw value; ``outer``: what goes when it is removed."""

    name: str
    value: str
    start: int
    end: int
    outer: tuple[int, int]


class Edit(NamedTuple):
    """Replace the text from ``start`` to ``end`` (characters)."""

    start: int
    end: int
    text: str


class Node:
    """A record or a comment over ``start``..``end``; ``fields`` and ``items`` are read when first asked for.

    ``trailing``: a comment that stands on the same line behind the record before it.
    """

    __slots__ = ("_fields", "_items", "_load", "end", "inner", "name", "named", "peek", "role", "start", "trailing")

    def __init__(
        self,
        role: Role,
        name: str,
        start: int,
        end: int,
        *,
        inner: tuple[int, int] | None = None,
        load: Callable[[Node], tuple[dict[str, Field], list[Node]]] | None = None,
        fields: dict[str, Field] | None = None,
        items: list[Node] | None = None,
        trailing: bool = False,
        named: bool = False,
    ) -> None:
        self.role = role
        self.name = name
        self.start = start
        self.end = end
        self.inner = inner
        self.trailing = trailing
        self.named = named
        """Whether the name alone identifies it among its siblings, whatever it holds."""
        self.peek: Callable[[Sequence[Node], str], list[str | None] | None] | None = None
        """Reads one field of several nodes of its kind by name without loading the rest, where a format can do that
        more cheaply; it gives None for a field that it cannot read so."""
        self._load = load
        self._fields = fields if fields is not None else {}
        self._items = items if items is not None else []

    def _loaded(self) -> None:
        if self._load is not None:
            self._fields, self._items = self._load(self)
            self._load = None

    @property
    def waits(self) -> bool:
        """Whether nobody has asked yet what it holds."""
        return self._load is not None

    @property
    def fields(self) -> dict[str, Field]:
        """Named values by name."""
        self._loaded()
        return self._fields

    @property
    def items(self) -> list[Node]:
        """Records and comments inside, in order."""
        self._loaded()
        return self._items

    @property
    def own(self) -> str | None:
        """The record's own value, None when it has none."""
        field = self.fields.get(VALUE)
        return field.value if field else None

    def __repr__(self) -> str:
        return f"<{self.role.name.lower()} {self.name} {self.start}..{self.end}>"


class Document:
    """A parsed file. Formats subclass it; ``format`` is the format's name."""

    format = ""
    learns_identity = False
    """Whether repeated records of this format are recognised by what they hold (else by their names)."""
    indents_freely = True
    """Whether steps of indentation mean nothing, so that a block from elsewhere may take over this file's."""

    keeps_indents = False
    """Whether what comes in keeps the indentation that it had."""

    def __init__(self, source: Text) -> None:
        self.source = source
        self.text = source.text

    @cached_property
    def root(self) -> Node:
        """The outermost record."""
        raise NotImplementedError

    def levels(self, name: str) -> Sequence[str]:
        """The names that a record may bear in whose way one called ``name`` may stand: all on the way to it, and its
        own. None where no record keeps another out."""
        return ()

    def keeps_out(self, node: Node, other: Node, stay: Container[int] = ()) -> bool:
        """Whether ``other``, of another document, cannot stand beside ``node``, a record of this one. ``stay``: the
        ``id()`` of records that stay with all that is in them; what becomes of others inside is settled there."""
        return False

    def raw(self, node: Node) -> str:
        """The text of a node, as written."""
        return self.text[node.start : node.end]

    @cached_property
    def indent_unit(self) -> str:
        """One step of indentation as this text uses it: a tab, or the commonest difference in spaces."""
        steps: Counter[str] = Counter()
        before = ""
        for found in _INDENT.finditer(self.text[:200_000]):
            indent = found[1]
            if len(indent) > len(before) and indent.startswith(before):
                steps[indent[len(before) :]] += 1
            before = indent
        return steps.most_common(1)[0][0] if steps else "  "

    @cached_property
    def _lines_before(self) -> list[int]:
        """How many lines end before each stretch of :data:`STRETCH` characters."""
        found = [0]
        for at in range(0, len(self.text), STRETCH):
            found.append(found[-1] + self.text.count("\n", at, at + STRETCH))
        return found

    def line(self, offset: int) -> int:
        """1-based line of an offset."""
        stretch = offset // STRETCH
        return self._lines_before[stretch] + self.text.count("\n", stretch * STRETCH, offset) + 1

    # --- what each format says of its own writing ----------------------------

    def extent(self, node: Node) -> tuple[int, int]:
        """A node's span with the separator that follows it, where the format has such."""
        return node.start, node.end

    def inline(self, parts: Sequence[str], *, before: bool) -> str:
        """Nodes put into a line of others, one behind the other; ``before``: in front of the one they stand next to."""
        return "".join(parts)

    def container(self, node: Node) -> str:
        """Which kind of container a record is, even while it is empty; "" where the format cannot tell.

        A longer text tells a way of writing it that an empty one has not yet chosen: ``[`` and ``[block``.
        """
        return ""

    def finish(self, edits: Sequence[Edit]) -> str:
        """The text with all edits made, and with what the format needs between nodes set right."""
        return splice(self.text, edits)

    def block_indent(self, node: Node) -> str | None:
        """The indentation of a node's siblings where the node itself need not begin its line; None: as it stands."""
        return None

    def encode_value(self, value: str, field: Field | None) -> str:
        """``value`` spelled for the place of ``field`` (None: the own value of a record that has none yet)."""
        raise NotImplementedError

    def adopt_raw(self, raw: str, field: Field | None) -> str:
        """The raw spelling of a value in another document of this format, fit for the place of ``field`` here."""
        return raw

    def around(self) -> tuple[tuple[int, int], ...]:
        """The spans before and behind the root, where a format has such: comments, which no record holds."""
        return ()

    def add_field(self, node: Node, field: Field, raw: str, model: tuple[Document, Node] | None = None) -> list[Edit]:
        """Give ``node`` a field it lacks, spelled ``raw``. ``model``: a record of another document that has it, and
        shows where it stands; without one it comes last."""
        raise NotImplementedError

    def open_empty(self, node: Node, block: str, indent: str) -> list[Edit]:
        """Put ``block`` (whole lines, without the last line end) inside a record that has no items yet."""
        raise NotImplementedError

    def emptied(self, node: Node) -> list[Edit]:
        """What has to be written when all items of a record are removed."""
        return []

    def inner_indent(self, node: Node, indent: str) -> str:
        """The indentation of the first items of an empty record that stands at ``indent``."""
        return indent

    def fixed_spans(self, start: int, end: int) -> Iterable[tuple[int, int]]:
        """Spans inside ``start``..``end`` in which line beginnings are part of a value and must not be re-indented."""
        return ()


def splice(text: str, edits: Sequence[Edit]) -> str:
    """``text`` with all edits made; insertions at one place keep their order. Collision where edits overlap."""
    ordered = sorted(enumerate(edits), key=lambda item: (item[1].start, item[1].end > item[1].start, item[0]))
    parts: list[str] = []
    at = 0
    for _, edit in ordered:
        if edit.start < at:
            raise EditConflict(f"edits overlap at {edit.start}")
        parts.append(text[at : edit.start])
        parts.append(edit.text)
        at = edit.end
    parts.append(text[at:])
    return "".join(parts)


def content(node: Node, *, comments: bool = True) -> tuple[object, ...]:
    """What a node says, without spacing: comparable between documents of one format. ``comments``: those count too, and
    so does all order; else order counts where names recur."""
    if node.role is Role.COMMENT:
        return (node.name, comment_words(node))
    inside = [item for item in node.items if comments or item.role is Role.RECORD]
    if not comments and len({item.name for item in inside}) == len(inside):
        inside.sort(key=lambda item: item.name)
    return (
        node.name,
        tuple(sorted((name, said(field.value)) for name, field in node.fields.items())),
        tuple(content(item, comments=comments) for item in inside),
    )


def comments_in(node: Node) -> Counter[str]:
    """What the comments inside a record say."""
    found: Counter[str] = Counter()
    for item in node.items:
        if item.role is Role.COMMENT:
            found[comment_words(item)] += 1
        else:
            found += comments_in(item)
    return found


def left_alone(before: Node, after: Node) -> bool:
    """Whether nobody changed a record from the one to the other: its values are the same, and no comment came."""
    if content(before, comments=False) != content(after, comments=False):
        return False
    return not comments_in(after) - comments_in(before)


def is_value(node: Node) -> bool:
    """Whether a node is a comment, or a record that is but a value with a name."""
    return node.role is Role.COMMENT or (not node.items and node.fields.keys() <= _JUST_A_VALUE)


_JUST_A_VALUE = {VALUE}


def plain_fields(node: Node, *, inside: bool = False) -> dict[str, Field]:
    """A record's plain values by name: its own fields, and the records inside that stand once and hold but a value.

    Attributes go by their names without ``@``; the record's own value is not among them. ``inside``: also the values of
    what stands in it once without being a record of its own: ``kind/name`` the attribute of a child.
    """
    found: dict[str, Field] = {}
    _gather_plain(node, "", found, _DEEPEST if inside else 0)
    return found


_DEEPEST = 4


def _gather_plain(node: Node, within: str, found: dict[str, Field], deeper: int) -> None:
    found.update({within + name.removeprefix("@"): field for name, field in node.fields.items() if name != VALUE})
    counts = Counter(item.name for item in node.items)
    for item in node.items:
        if item.role is not Role.RECORD or counts[item.name] > 1:
            continue
        if not item.items and VALUE in item.fields:
            found.setdefault(within + item.name, item.fields[VALUE])
        if deeper and not item.named:
            _gather_plain(item, f"{within}{item.name}/", found, deeper - 1)


def facts(node: Node) -> dict[str, set[str]]:
    """All that a record says in plain values, by the names that lead to them, without ``@``: what may be asked of it.
    What stands in it several times has several values."""
    found: dict[str, set[str]] = {}
    _gather_facts(node, "", found, _DEEPEST)
    return found


def _gather_facts(node: Node, within: str, found: dict[str, set[str]], deeper: int) -> None:
    for name, field in node.fields.items():
        if name != VALUE:
            found.setdefault(within + name.removeprefix("@"), set()).add(said(field.value))
    for item in node.items:
        if item.role is not Role.RECORD:
            continue
        if not item.items and VALUE in item.fields:
            found.setdefault(within + item.name, set()).add(said(item.fields[VALUE].value))
        if deeper:
            _gather_facts(item, f"{within}{item.name}/", found, deeper - 1)


def kinds_of(sides: Iterable[tuple[Document, Node]]) -> set[str]:
    """The different kinds of container that records are; an empty one is of the kind of the others."""
    kinds = {document.container(node) for document, node in sides}
    return {kind for kind in kinds if not any(kind and other != kind and other.startswith(kind) for other in kinds)}


def comment_words(node: Node) -> str:
    """A comment's text with white space folded, which is how comments are told apart."""
    return " ".join(node.fields[VALUE].value.split())


def same(left_document: Document, left: Node, right_document: Document, right: Node) -> bool:
    """Whether two nodes say the same; equal text is answered without parsing."""
    if left_document.raw(left) == right_document.raw(right):
        return True
    return content(left) == content(right)
