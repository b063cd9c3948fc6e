"""What formats with brackets and commas share: JSON whole, arrays and inline tables of TOML, flow collections of YAML.

Commas are nobody's: insertions and removals leave them as they fall, and ``finish`` sets them right between and
behind values, touching none where they already are. A comma before a closing bracket stays where the file had such.
"""

from __future__ import annotations

import re
from bisect import bisect_left
from collections.abc import Collection, Iterable, Iterator, Sequence
from functools import cached_property
from itertools import accumulate, pairwise
from typing import NamedTuple

from emberkeep.documents.encoding import Text
from emberkeep.documents.model import VALUE, Document, Edit, Field, Node, Role, splice

ELEMENT = "[]"
"""The name of an array's element."""
DEEPEST = 100
"""Levels of nesting that are read; whoever works on what was read gets by with the calls that Python allows, then."""
_COMMA = re.compile(r"[ \t]*,")
_TRAILING = re.compile(r",\s*([}\]])")


class Token(NamedTuple):
    """A token and its span. ``kind``: ``mark`` for one of ``{}[],:=``, ``comment``, anything else is a value."""

    kind: str
    start: int
    end: int


class BracketedDocument(Document):
    """A document of which some spans hold values in brackets with commas between."""

    learns_identity = True

    def __init__(self, source: Text, root: Node) -> None:
        super().__init__(source)
        self._root = root

    @property
    def root(self) -> Node:
        """The record of the whole text."""
        return self._root

    def bracketed(self, edits: Sequence[Edit] = ()) -> Iterable[tuple[int, int]]:
        """The outermost bracketed spans. Where there are ``edits``, smaller ones will do in which all of them lie."""
        return [(0, len(self.text))]

    def tokens(self, text: str) -> Iterator[Token]:
        """The tokens of a bracketed stretch of text, white space left out."""
        raise NotImplementedError

    def within(self, node: Node) -> bool:
        """Whether a node stands between brackets."""
        return True

    @cached_property
    def _trailing_commas(self) -> frozenset[str]:
        """The closing brackets before which this text has commas."""
        found: set[str] = set()
        for start, end in self.bracketed():
            if _TRAILING.search(self.text, start, end):  # it may stand within a text, which tokens tell
                marks = [token for token in self.tokens(self.text[start:end]) if token.kind != "comment"]
                texts = [self.text[start + token.start : start + token.end] for token in marks]
                found.update(after for before, after in pairwise(texts) if before == "," and after in ("]", "}"))
        return frozenset(found)

    def extent(self, node: Node) -> tuple[int, int]:
        """A node's span with the comma behind it."""
        found = _COMMA.match(self.text, node.end) if node.role is Role.RECORD and self.within(node) else None
        return node.start, found.end() if found else node.end

    def inline(self, parts: Sequence[str], *, before: bool) -> str:
        """With a comma on all sides; :meth:`finish` takes out those that are too many."""
        space = " " if ", " in self.text else ""
        if before:
            return "".join(f"{part},{space}" for part in parts)
        return "".join(f",{space}{part}" for part in parts) + ","

    def open_empty(self, node: Node, block: str, indent: str) -> list[Edit]:
        """The block goes between the brackets, each on a line of its own."""
        value, newline = node.fields[VALUE], self.source.newline
        brackets = value.value
        return [Edit(value.start, value.end, f"{brackets[0]}{newline}{block}{newline}{indent}{brackets[1]}")]

    def inner_indent(self, node: Node, indent: str) -> str:
        """One step deeper than ``indent``."""
        return indent + self.indent_unit

    def add_field(self, node: Node, field: Field, raw: str, model: tuple[Document, Node] | None = None) -> list[Edit]:
        """Never asked for: a value between brackets has an own field."""
        raise AssertionError("a value between brackets is never without its own field")

    def finish(self, edits: Sequence[Edit]) -> str:
        """Commas set right in every bracketed span that was edited."""
        text = splice(self.text, edits)
        repairs: list[Edit] = []
        ordered = sorted(edits)
        shifts = list(accumulate((len(edit.text) - (edit.end - edit.start) for edit in ordered), initial=0))
        for start, end in self.bracketed(edits):
            first, last = (_before(ordered, at) for at in (start, end))
            if not any(_is_within(edit, start, end) for edit in ordered[first : last + 1]):
                continue
            low, high = start + shifts[first], end + shifts[last]
            found = repaired(text[low:high], self.tokens(text[low:high]), trailing=self._trailing_commas)
            repairs += [Edit(low + edit.start, low + edit.end, edit.text) for edit in found]
        return splice(text, repairs)


def _is_within(edit: Edit, start: int, end: int) -> bool:
    """Whether an edit changes what is between the brackets at ``start`` and before ``end``, or fills empty ones."""
    if (edit.start, edit.end) == (start, end):
        return edit.text[:1] in ("[", "{")
    return start < edit.start and edit.end < end


def _before(edits: Sequence[Edit], at: int) -> int:
    """How many edits, sorted, move an offset: those that begin before it and end by it."""
    return bisect_left(edits, at, key=lambda edit: edit.start)


def repaired(text: str, found: Iterable[Token], *, trailing: Collection[str]) -> list[Edit]:
    """Edits that put a comma between any two values, and take out every other one; ``trailing``: before these closing
    brackets the last one is left."""
    edits: list[Edit] = []
    last: Token | None = None
    comma: Token | None = None
    for token in found:
        mark = text[token.start] if token.kind == "mark" else ""
        if token.kind == "comment":
            continue
        if mark == ",":
            if comma is not None or last is None:
                edits.append(Edit(token.start, token.end, ""))
            else:
                comma = token
            continue
        if mark in ("}", "]"):
            if comma is not None and mark not in trailing:
                edits.append(Edit(comma.start, comma.end, ""))
            last = token
        elif mark in ("{", "["):
            edits += _missing(last, comma)
            last = None
        elif mark in (":", "="):
            last = None
        else:
            edits += _missing(last, comma)
            last = token
        comma = None
    return edits


def _missing(last: Token | None, comma: Token | None) -> list[Edit]:
    """The comma that a value needs when another stands before it."""
    return [Edit(last.end, last.end, ",")] if last is not None and comma is None else []


def is_vector(items: Sequence[Node]) -> bool:
    """Whether an array is one value, as a position or a colour is: plain values, and not all of them texts."""
    values = [item.own for item in items]
    if any(item.role is not Role.RECORD for item in items) or None in values or "{}" in values or "[]" in values:
        return False
    return not all(_is_text(str(value)) for value in values)


def _is_text(value: str) -> bool:
    return value.startswith('"') or (value[:1].isalpha() and value not in ("true", "false", "null"))


def comment(text: str, span: tuple[int, int], before: Sequence[Node], marks: str) -> Node:
    """A comment node; it trails when it stands behind a record on that record's line. ``before``: what stands before it
    there, of which the last counts; ``marks``: what encloses it."""
    start, end = span
    words = text[start + len(marks) : end - 2 if marks == "/*" else end]
    field = Field(VALUE, words, start, end, (start, end))
    behind = bool(before) and (before[-1].role is Role.RECORD or before[-1].trailing)
    trailing = behind and "\n" not in text[before[-1].end : start]
    return Node(Role.COMMENT, "#comment", start, end, fields={VALUE: field}, trailing=trailing)


def member(name: str, start: int, span: tuple[int, int], value: str) -> Node:
    """A record that is one plain value, called ``name``; ``span``: the value's."""
    field = Field(VALUE, value, *span, span)
    return Node(Role.RECORD, name, start, span[1], fields={VALUE: field}, named=name != ELEMENT)
