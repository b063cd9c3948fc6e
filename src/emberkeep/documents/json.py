"""JSON with spans, ``//`` and ``/* */`` comments and trailing commas tolerated.

A member of an object is a record named by its key, known by its name alone; an element of an array is a record named
``[]``, recognised by what it holds. A plain value, an empty object or array, and an array of numbers (a position, a
colour: one value, not a set) is the field ``""``, spelled as JSON, so that ``"1"`` and ``1`` differ. Comments are
items of the container they stand in.

Commas are nobody's: insertions and removals leave them as they fall, and ``finish`` sets them right between and
behind values, touching none where they already are. A comma before a closing bracket stays where the file had such.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Sequence
from functools import cached_property
from typing import NamedTuple

from emberkeep.documents import layout
from emberkeep.documents.encoding import BOM, Text, position
from emberkeep.documents.model import OWN, Document, Edit, Field, Node, Role
from emberkeep.errors import Place, UnreadableInput

ELEMENT = "[]"
DEEPEST = 400

_TOKEN = re.compile(
    r"(?P<space>[ \t\r\n]++)"
    r"|(?P<comment>//[^\r\n]*+|/\*.*?\*/)"
    r'|(?P<string>"(?:[^"\\\r\n]++|\\.)*+")'
    r"|(?P<plain>-?[0-9][0-9.eE+\-]*+|true|false|null)"
    r"|(?P<mark>[{}\[\]:,])",
    re.DOTALL,
)


class Token(NamedTuple):
    """A token: its kind (a group of the pattern) and span."""

    kind: str
    start: int
    end: int


def parse(source: Text, name: str) -> JsonDocument:
    """The document in ``source``; UnreadableInput says file, line, column and what was expected."""
    return JsonDocument(source, _Parser(source.text, name).document())


def tokens(text: str, name: str) -> Iterator[Token]:
    """All tokens but white space; UnreadableInput at what is none."""
    at = 1 if text.startswith(BOM) else 0
    while at < len(text):
        found = _TOKEN.match(text, at)
        if found is None or found.lastgroup is None:
            raise _fault(text, name, at, "this is no JSON")
        if found.lastgroup != "space":
            yield Token(found.lastgroup, at, found.end())
        at = found.end()


def _fault(text: str, name: str, at: int, what: str) -> UnreadableInput:
    return UnreadableInput(f"not valid JSON: {what}", place=Place(name, *position(text, at)))


class _Parser:
    """Reads values one behind the other; the cursor is ``at`` in the list of tokens."""

    def __init__(self, text: str, name: str) -> None:
        self.text = text
        self.name = name
        self.tokens = list(tokens(text, name))
        self.at = 0

    def document(self) -> Node:
        self._comments([])  # those around the value are in no container: they stay as they are
        root = self._value("", self._here(), 0)
        self._comments([])
        if self.at < len(self.tokens):
            raise self._error("nothing was expected here")
        return root

    def _here(self) -> int:
        return self.tokens[self.at].start if self.at < len(self.tokens) else len(self.text)

    def _error(self, what: str) -> UnreadableInput:
        return _fault(self.text, self.name, self._here(), what)

    def _mark(self) -> str:
        """The token at the cursor when it is a bracket, comma or colon; "" otherwise."""
        if self.at >= len(self.tokens) or self.tokens[self.at].kind != "mark":
            return ""
        return self.text[self.tokens[self.at].start]

    def _comments(self, items: list[Node]) -> list[Node]:
        found: list[Node] = []
        while self.at < len(self.tokens) and self.tokens[self.at].kind == "comment":
            token = self.tokens[self.at]
            found.append(self._comment(token, [*items, *found]))
            self.at += 1
        return found

    def _comment(self, token: Token, before: list[Node]) -> Node:
        raw = self.text[token.start : token.end]
        words = raw[2:-2] if raw.startswith("/*") else raw[2:]
        field = Field(OWN, words, token.start, token.end, (token.start, token.end))
        behind = bool(before) and (before[-1].role is Role.RECORD or before[-1].trailing)
        trailing = behind and "\n" not in self.text[before[-1].end : token.start]
        return Node(Role.COMMENT, "#comment", token.start, token.end, fields={OWN: field}, trailing=trailing)

    def _value(self, name: str, start: int, depth: int) -> Node:
        """The value at the cursor as a record called ``name`` that begins at ``start`` (its key, if it has one)."""
        if depth > DEEPEST:
            raise self._error("nested too deeply")
        if self.at >= len(self.tokens):
            raise self._error("a value is missing at the end")
        token = self.tokens[self.at]
        mark = self._mark()
        if mark in ("{", "["):
            return self._container(name, start, depth, mark)
        if token.kind not in ("string", "plain"):
            raise self._error("a value was expected here")
        self.at += 1
        return self._leaf(name, start, token.start, token.end)

    def _leaf(self, name: str, start: int, low: int, high: int) -> Node:
        value = Field(OWN, self._spelled(self.text[low:high], low), low, high, (low, high))
        return Node(Role.RECORD, name, start, high, fields={OWN: value}, named=name != ELEMENT)

    def _spelled(self, raw: str, at: int) -> str:
        try:
            return (
                json.dumps(json.loads(raw, strict=False), ensure_ascii=False) if raw.startswith('"') else _number(raw)
            )
        except ValueError:
            raise _fault(self.text, self.name, at, f"{raw[:30]} is no value") from None

    def _container(self, name: str, start: int, depth: int, mark: str) -> Node:
        opened = self.tokens[self.at]
        close = "}" if mark == "{" else "]"
        self.at += 1
        items: list[Node] = []
        items += self._comments(items)
        while self._mark() != close:
            items.append(self._member(depth) if mark == "{" else self._value(ELEMENT, self._here(), depth + 1))
            items += self._comments(items)
            if self._mark() == ",":
                self.at += 1
                items += self._comments(items)
            elif self._mark() != close:
                raise self._error(f"',' or '{close}' was expected here")
        end = self.tokens[self.at]
        self.at += 1
        if not items:
            return self._whole(name, start, opened.start, end.end, self.text[opened.start] + close)
        if mark == "[" and _is_vector(items):
            spelled = ", ".join(str(item.own) for item in items)
            return self._whole(name, start, opened.start, end.end, f"[{spelled}]")
        inner = (opened.end, end.start)
        return Node(Role.RECORD, name, start, end.end, inner=inner, items=items, named=name != ELEMENT)

    def _whole(self, name: str, start: int, low: int, high: int, spelled: str) -> Node:
        """A container that is one value."""
        value = Field(OWN, spelled, low, high, (low, high))
        return Node(Role.RECORD, name, start, high, fields={OWN: value}, named=name != ELEMENT)

    def _member(self, depth: int) -> Node:
        start = self._here()
        if self.at >= len(self.tokens) or self.tokens[self.at].kind != "string":
            raise self._error("a key in quotes was expected here")
        token = self.tokens[self.at]
        key = json.loads(self._spelled(self.text[token.start : token.end], token.start))
        self.at += 1
        self._comments([])
        if self._mark() != ":":
            raise self._error("':' was expected here")
        self.at += 1
        self._comments([])
        return self._value(key, start, depth + 1)


def _is_vector(items: list[Node]) -> bool:
    """Whether an array is one value, as a position or a colour is: plain values, not all of them texts."""
    values = [item.own for item in items]
    if any(item.role is not Role.RECORD for item in items) or None in values or "{}" in values or "[]" in values:
        return False
    return not all(str(value).startswith('"') for value in values)


def _number(raw: str) -> str:
    if raw not in ("true", "false", "null"):
        json.loads(raw)
    return raw


class JsonDocument(Document):
    """A JSON document."""

    format = "json"
    learns_identity = True

    def __init__(self, source: Text, root: Node) -> None:
        super().__init__(source)
        self._root = root

    @property
    def root(self) -> Node:
        return self._root

    @cached_property
    def _trailing_commas(self) -> bool:
        return re.search(r",\s*[}\]]", self.text) is not None

    def extent(self, node: Node) -> tuple[int, int]:
        """A node's span with the comma behind it."""
        found = re.compile(r"[ \t]*,").match(self.text, node.end)
        return node.start, found.end() if found and node.role is Role.RECORD else node.end

    def encode_value(self, value: str, field: Field | None) -> str:
        try:
            json.loads(value)
            raw = value
        except ValueError:
            raw = json.dumps(value, ensure_ascii=False)
        return self.adopt_raw(raw, field)

    def adopt_raw(self, raw: str, field: Field | None) -> str:
        raw = layout.with_newlines(raw, self.source.newline)
        if self.source.can_write(raw):
            return raw
        return "".join(char if self.source.can_write(char) else json.dumps(char)[1:-1] for char in raw)

    def add_field(self, node: Node, field: Field, raw: str) -> list[Edit]:
        raise AssertionError("a JSON value is never without its own field")

    def open_empty(self, node: Node, block: str, indent: str) -> list[Edit]:
        value, newline = node.fields[OWN], self.source.newline
        brackets = value.value
        return [Edit(value.start, value.end, f"{brackets[0]}{newline}{block}{newline}{indent}{brackets[1]}")]

    def inline(self, parts: Sequence[str]) -> str:
        # Commas on all sides keep numbers apart; ``finish`` takes out those that are too many.
        space = " " if ", " in self.text else ""
        return "".join(f",{space}{part}" for part in parts) + ","

    def container(self, node: Node) -> str:
        if node.inner is not None:
            return self.text[node.inner[0] - 1]
        return node.own[0] if node.own in ("[]", "{}") else ""

    def finish(self, text: str) -> str:
        """``text`` with a comma between any two values and none behind the last, unless the file has such."""
        edits: list[Edit] = []
        last: Token | None = None
        comma: Token | None = None
        for token in tokens(text, ""):
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
                if comma is not None and not self._trailing_commas:
                    edits.append(Edit(comma.start, comma.end, ""))
                last = token
            elif mark in ("{", "["):
                edits += _missing(last, comma)
                last = None
            elif mark == ":":
                last = None
            else:
                edits += _missing(last, comma)
                last = token
            comma = None
        ordered = sorted(edits)
        parts, at = [], 0
        for edit in ordered:
            parts += [text[at : edit.start], edit.text]
            at = edit.end
        return "".join([*parts, text[at:]])


def _missing(last: Token | None, comma: Token | None) -> list[Edit]:
    """The comma that a value needs when another stands before it."""
    return [Edit(last.end, last.end, ",")] if last is not None and comma is None else []
