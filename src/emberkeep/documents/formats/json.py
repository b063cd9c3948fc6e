"""JSON with spans, ``//`` and ``/* */`` comments and trailing commas tolerated.

A member of an object is a record named by its key, known by its name alone; an element of an array is a record named
``[]``, recognised by what it holds. A plain value, an empty object or array, and an array of numbers (a position, a
colour: one value, not a set) is the field ``""``, spelled as JSON, so that ``"1"`` and ``1`` differ. Comments are
items of the container they stand in. Commas: see ``bracketed``.

Strict JSON that is not nested deeply, as nearly all is, is checked at once by the standard library, and its containers
are read when they are first asked for; all else is read whole, token by token.
"""

from __future__ import annotations

import json
import re
from bisect import bisect_right
from collections.abc import Iterable, Iterator, Sequence

from emberkeep.documents import layout
from emberkeep.documents.encoding import BOM, Text, position
from emberkeep.documents.formats.bracketed import DEEPEST, ELEMENT, BracketedDocument, Token, comment, is_vector, member
from emberkeep.documents.model import Edit, Field, Node, Role
from emberkeep.errors import Place, UnreadableInput

# No possessive quantifiers here and below: Python 3.11.2 matches them wrongly. What follows a repeated class can never
# begin with one of its characters, so nothing is tried twice all the same.
_STRING = r'"[^"\\\r\n]*(?:\\.[^"\\\r\n]*)*"'
_TOKEN = re.compile(
    r"[ \t\r\n]*(?:"
    r"(?P<mark>[{}\[\]:,])"
    rf"|(?P<string>{_STRING})"
    r"|(?P<plain>-?[0-9][0-9.eE+\-]*|true|false|null)"
    r"|(?P<comment>//[^\r\n]*|/\*.*?\*/)"
    r"|(?P<end>\Z))",
    re.DOTALL,
)
_WORDS = frozenset(("true", "false", "null"))
_NUMBER = re.compile(r"-?(?:0|[1-9][0-9]*)(?:\.[0-9]+)?(?:[eE][+-]?[0-9]+)?")


def parse(source: Text, name: str) -> JsonDocument:
    """The document in ``source``; UnreadableInput says file, line, column and what was expected."""
    return JsonDocument(source, _read_later(source.text) or _Parser(source.text, name).document())


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


def spelled(raw: str) -> str | None:
    """The one spelling of a plain value; None when it is none."""
    if not raw.startswith('"'):
        return raw if raw in _WORDS or _NUMBER.fullmatch(raw) else None
    if "\\" not in raw and raw.isprintable():
        return raw  # nothing in it can be spelled in another way
    try:
        return json.dumps(json.loads(raw, strict=False), ensure_ascii=False)
    except ValueError:
        return None


def key_of(spelled: str) -> str:
    """What a key says."""
    return str(json.loads(spelled)) if "\\" in spelled else spelled[1:-1]


def _read_later(text: str) -> Node | None:
    """The root of a strict document, its containers not read yet; None for all others."""
    at = 1 if text.startswith(BOM) else 0
    found = _ITEM.match(text, at)
    if found is None or found["key"] is not None or text[found.end() :].strip(_SPACE):
        return None
    try:
        json.loads(text[at:], object_pairs_hook=_nothing, parse_constant=_refuse)
    except (ValueError, RecursionError):
        return None
    return _Later(text).node("", found.start("value"), *found.span("value"))


def _nothing(pairs: list[tuple[str, object]]) -> None:
    """Keeps no object: only whether all is well-formed is asked."""


def _refuse(name: str) -> None:
    raise ValueError(name)


def _nested(depth: int) -> str:
    """A pattern of a container in which others are nested at most ``depth`` deep, in strict JSON."""
    plain = r"[^\[\]{}\"]*"
    pattern = rf"[\[{{]{plain}(?:{_STRING}{plain})*[\]}}]"
    for _ in range(depth):
        pattern = rf"[\[{{]{plain}(?:(?:{_STRING}|{pattern}){plain})*[\]}}]"
    return pattern


_SHALLOW = 12
_SPACE = " \t\r\n"
_ITEM = re.compile(
    rf"[{_SPACE}]*(?:(?P<key>{_STRING})[{_SPACE}]*:[{_SPACE}]*)?"
    rf"(?P<value>{_STRING}|{_nested(_SHALLOW)}|[^\s,:\[\]{{}}\"]+)[{_SPACE}]*,?"
)
"""A member of an object or element of an array, up to the next one."""


_NEXT = re.compile(rf"[{_SPACE}]*(.)")


class _Later:
    """Reads the containers of a strict document one by one."""

    def __init__(self, text: str) -> None:
        self.text = text

    def node(self, name: str, start: int, low: int, high: int) -> Node:
        """The value at ``low`` to ``high`` as a record called ``name`` that begins at ``start``."""
        text = self.text
        mark = text[low]
        if mark not in "[{":
            value = spelled(text[low:high])
            assert value is not None
            return member(name, start, (low, high), value)
        inner = (low + 1, high - 1)
        first = _NEXT.match(text, low + 1)
        if first is None or first.end() == high:
            return member(name, start, (low, high), mark + text[high - 1])
        items = None
        if mark == "[" and first[1] != "{":
            items = self.items(*inner)
            if is_vector(items):
                return member(name, start, (low, high), f"[{', '.join(str(item.own) for item in items)}]")
        load = self._load if items is None else None
        node = Node(Role.RECORD, name, start, high, inner=inner, items=items, load=load, named=name != ELEMENT)
        node.peek = self._peek if mark == "{" else None
        return node

    def _peek(self, nodes: Sequence[Node], name: str) -> list[str | None]:
        """The plain values of a member of objects, which are not read for it."""
        return [self._value_of(node, name) for node in nodes]

    def _value_of(self, node: Node, name: str) -> str | None:
        if node.inner is None or self.text[node.inner[0] - 1] != "{":
            return None  # an element of another kind beside objects
        for one in _ITEM.finditer(self.text, *node.inner):
            key = one["key"]
            if key[1:-1] != name and ("\\" not in key or key_of(key) != name):
                continue
            if one["value"][0] not in "[{":
                return spelled(one["value"])
            return next(item.own for item in node.items if item.name == name)
        return None

    def _load(self, node: Node) -> tuple[dict[str, Field], list[Node]]:
        assert node.inner is not None
        return {}, self.items(*node.inner)

    def items(self, start: int, end: int) -> list[Node]:
        """What stands directly between two brackets."""
        found = []
        for one in _ITEM.finditer(self.text, start, end):
            key, value = one.span("key"), one.span("value")
            if key[0] < 0:
                found.append(self.node(ELEMENT, value[0], *value))
            else:
                name = spelled(self.text[slice(*key)])
                assert name is not None
                found.append(self.node(key_of(name), key[0], *value))
        return found


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
            found.append(self._comment(token, found or items))
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
        found = spelled(raw)
        if found is None:
            raise _fault(self.text, self.name, at, f"{raw[:30]} is no value")
        return found

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
        key = key_of(self._spelled(self.text[token.start : token.end], token.start))
        self.at += 1
        self._comments([])
        if self._mark() != ":":
            raise self._error("':' was expected here")
        self.at += 1
        self._comments([])
        return self._value(key, start, depth + 1)


def _smallest(node: Node, edits: Sequence[Edit]) -> Iterator[tuple[int, int]]:
    """The smallest containers in which edits lie that lie between the brackets of ``node``, with their brackets."""
    if node.inner is None:
        return
    starts = [item.start for item in node.items]
    inside: dict[int, list[Edit]] = {}
    for edit in edits:
        at = bisect_right(starts, edit.start) - 1
        within = node.items[at].inner if at >= 0 else None
        if within is None or not within[0] <= edit.start <= edit.end <= within[1]:
            yield node.inner[0] - 1, node.inner[1] + 1
            return
        inside.setdefault(at, []).append(edit)
    for at, those in inside.items():
        yield from _smallest(node.items[at], those)


class JsonDocument(BracketedDocument):
    """A JSON document."""

    format = "json"

    def tokens(self, text: str) -> Iterator[Token]:
        """Brackets, commas, comments and values."""
        return tokens(text, "")

    def around(self) -> tuple[tuple[int, int], ...]:
        """Before and behind the outermost value."""
        return (len(BOM) if self.text.startswith(BOM) else 0, self.root.start), (self.root.end, len(self.text))

    def bracketed(self, edits: Sequence[Edit] = ()) -> Iterable[tuple[int, int]]:
        """The whole text, or the smallest containers in which all edits lie."""
        return _smallest(self.root, sorted(edits)) if edits else super().bracketed()

    def encode_value(self, value: str, field: Field | None) -> str:
        """As it is where it is JSON, else as a string."""
        try:
            json.loads(value)
            raw = value
        except ValueError:
            raw = json.dumps(value, ensure_ascii=False)
        return self.adopt_raw(raw, field)

    def adopt_raw(self, raw: str, field: Field | None) -> str:
        """With line ends of ours, and escapes for characters that the encoding lacks."""
        raw = layout.with_newlines(raw, self.source.newline)
        if self.source.can_write(raw):
            return raw
        return "".join(char if self.source.can_write(char) else json.dumps(char)[1:-1] for char in raw)

    def container(self, node: Node) -> str:
        """Its opening bracket."""
        if node.inner is not None:
            return self.text[node.inner[0] - 1]
        return node.own[0] if node.own in ("[]", "{}") else ""
