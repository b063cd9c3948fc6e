"""JSON with spans, ``//`` and ``/* */`` comments and trailing commas tolerated.

A member of an object is a record named by its key, known by its name alone; an element of an array is a record named
``[]``, recognised by what it holds. A plain value, an empty object or array, and an array of numbers (a position, a
colour: one value, not a set) is the field ``""``, spelled as JSON, so that ``"1"`` and ``1`` differ. Comments are
items of the container they stand in. Commas: see ``bracketed``.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator

from emberkeep.documents import layout
from emberkeep.documents.bracketed import DEEPEST, ELEMENT, BracketedDocument, Token, comment, is_vector, member
from emberkeep.documents.encoding import BOM, Text, position
from emberkeep.documents.model import Field, Node, Role
from emberkeep.errors import Place, UnreadableInput

_TOKEN = re.compile(
    r"[ \t\r\n]*+(?:"
    r"(?P<mark>[{}\[\]:,])"
    r'|(?P<string>"(?:[^"\\\r\n]++|\\.)*+")'
    r"|(?P<plain>-?[0-9][0-9.eE+\-]*+|true|false|null)"
    r"|(?P<comment>//[^\r\n]*+|/\*.*?\*/)"
    r"|(?P<end>\Z))",
    re.DOTALL,
)
_NUMBER = re.compile(r"-?(?:0|[1-9][0-9]*)(?:\.[0-9]+)?(?:[eE][+-]?[0-9]+)?")


def parse(source: Text, name: str) -> JsonDocument:
    """The document in ``source``; UnreadableInput says file, line, column and what was expected."""
    return JsonDocument(source, _Parser(source.text, name).document())


def tokens(text: str, name: str) -> Iterator[Token]:
    """All tokens but white space; UnreadableInput at what is none."""
    at = 1 if text.startswith(BOM) else 0
    match = _TOKEN.match
    while True:
        found = match(text, at)
        if found is None or found.lastgroup is None:
            raise _fault(text, name, at + len(text[at:]) - len(text[at:].lstrip(" \t\r\n")), "this is no JSON")
        kind, at = found.lastgroup, found.end()
        if kind == "end":
            return
        yield Token(kind, found.start(kind), at)


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
        return comment(self.text, (token.start, token.end), before, self.text[token.start : token.start + 2])

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
        return member(name, start, (low, high), self._spelled(self.text[low:high], low))

    def _spelled(self, raw: str, at: int) -> str:
        if not raw.startswith('"'):
            if raw in _WORDS or _NUMBER.fullmatch(raw):
                return raw
            raise _fault(self.text, self.name, at, f"{raw[:30]} is no value")
        if "\\" not in raw and raw.isprintable():
            return raw  # nothing in it can be spelled in another way
        try:
            return json.dumps(json.loads(raw, strict=False), ensure_ascii=False)
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
            return member(name, start, (opened.start, end.end), self.text[opened.start] + close)
        if mark == "[" and is_vector(items):
            spelled = ", ".join(str(item.own) for item in items)
            return member(name, start, (opened.start, end.end), f"[{spelled}]")
        inner = (opened.end, end.start)
        return Node(Role.RECORD, name, start, end.end, inner=inner, items=items, named=name != ELEMENT)

    def _member(self, depth: int) -> Node:
        start = self._here()
        if self.at >= len(self.tokens) or self.tokens[self.at].kind != "string":
            raise self._error("a key in quotes was expected here")
        token = self.tokens[self.at]
        spelled = self._spelled(self.text[token.start : token.end], token.start)
        key = json.loads(spelled) if "\\" in spelled else spelled[1:-1]
        self.at += 1
        self._comments([])
        if self._mark() != ":":
            raise self._error("':' was expected here")
        self.at += 1
        self._comments([])
        return self._value(key, start, depth + 1)


_WORDS = frozenset(("true", "false", "null"))


class JsonDocument(BracketedDocument):
    """A JSON document."""

    format = "json"

    def tokens(self, text: str) -> Iterator[Token]:
        return tokens(text, "")

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

    def container(self, node: Node) -> str:
        if node.inner is not None:
            return self.text[node.inner[0] - 1]
        return node.own[0] if node.own in ("[]", "{}") else ""
