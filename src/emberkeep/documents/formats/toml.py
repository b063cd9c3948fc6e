"""TOML 1.0 with spans: tomllib checks that it is well-formed, our own scanner finds where things stand.

The entries before the first header are items of a nameless record, which is always there. ``[a.b]`` is a record
named ``a.b``, ``[[berth]]`` a repeated record ``berth`` recognised by what it holds; headers that lie within such an
element are records inside it. A key is a record known by its name (``a.b`` where it is dotted). Elements of arrays
and members of inline tables are as in JSON: an array of numbers is one value, texts are spelled in quotes.
"""

from __future__ import annotations

import json
import re
from collections.abc import Container, Iterable, Iterator, Sequence
from dataclasses import dataclass, field

from emberkeep.documents import layout
from emberkeep.documents.encoding import BOM, Text, position
from emberkeep.documents.formats.bracketed import DEEPEST, ELEMENT, BracketedDocument, Token, comment, is_vector, member
from emberkeep.documents.model import TOP, VALUE, Edit, Field, Node, Role
from emberkeep.errors import Place, UnreadableInput
from emberkeep.keep import toml_reader

_STRING = (
    r'"""(?:[^"\\]|\\.|"(?!""))*"{3,5}'
    r"|'''(?:[^']|'(?!''))*'{3,5}"
    r'|"(?:[^"\\\n]|\\.)*"'
    r"|'[^'\n]*'"
)
_SPACE = re.compile(r"[ \t\r\n]*")
_VALUE = re.compile(rf"(?P<string>{_STRING})|(?P<plain>[^\s,\[\]{{}}#=\"']+(?: \d[\d:.Z+\-]*)?)", re.DOTALL)
_KEY = re.compile(rf"[ \t]*((?:{_STRING}|[\w-]+)(?:[ \t]*\.[ \t]*(?:{_STRING}|[\w-]+))*)[ \t]*=[ \t]*")
_HEADER = re.compile(rf"(\[\[?)[ \t]*((?:{_STRING}|[\w-]+)(?:[ \t]*\.[ \t]*(?:{_STRING}|[\w-]+))*)[ \t]*\]\]?")
_PART = re.compile(rf"{_STRING}|[\w-]+")
_COMMENT = re.compile(r"#[^\r\n]*")
_TOKEN = re.compile(
    rf"(?P<space>[ \t\r\n]+)|(?P<comment>#[^\r\n]*)|(?P<key>{_KEY.pattern})|(?P<string>{_STRING})"
    r"|(?P<mark>[{}\[\],])|(?P<plain>[^\s,\[\]{}#=\"']+(?: \d[\d:.Z+\-]*)?)",
    re.DOTALL,
)
_BARE = re.compile(r"[A-Za-z0-9_-]+")


def parse(source: Text, name: str) -> TomlDocument:
    """The document in ``source``; UnreadableInput says file, line, column and what is wrong."""
    toml_reader.parsed(source.text.removeprefix(BOM), name)
    return _Scanner(source, name).document()


@dataclass
class _Table:
    """A table whose entries are being read: its dotted path and its node."""

    path: tuple[str, ...]
    node: Node
    repeated: bool = False


@dataclass
class _Scanner:
    """Reads a checked document; the cursor is ``at``."""

    source: Text
    name: str
    at: int = 0
    spans: list[tuple[int, int]] = field(default_factory=list)
    fixed: list[tuple[int, int]] = field(default_factory=list)
    tables: dict[int, Node] = field(default_factory=dict)
    inside: set[int] = field(default_factory=set)

    def document(self) -> TomlDocument:
        text = self.source.text
        self.at = 1 if text.startswith(BOM) else 0
        top = Node(Role.RECORD, TOP, self.at, self.at, items=[], named=True)
        root = Node(Role.RECORD, "", 0, len(text), items=[top])
        self.tables = {id(root): root, id(top): top}
        opened = [_Table((), root), _Table((), top)]
        while (at := _after(_SPACE, text, self.at)) < len(text):
            self.at = at
            if text[at] == "#":
                self._comment(opened)
            elif text[at] == "[":
                self._header(opened)
            else:
                node = self._entry(0, in_table=True)
                opened[-1].node.items.append(node)
        if opened[-1].node is not top:
            root.items.extend(layout.at_end(opened[-1].node, text))
        if not any(item.role is Role.RECORD for item in top.items):
            _give_comments_away(root, top)
        _close(reversed([node for node in self.tables.values() if node is not root]))
        return TomlDocument(self.source, root, self)

    def _comment(self, opened: list[_Table]) -> None:
        text, items = self.source.text, opened[-1].node.items
        found = _COMMENT.match(text, self.at)
        assert found is not None
        # A header's own comment stands on its line and stays with it.
        if items or layout.indent_at(text, self.at) is not None:
            items.append(comment(text, found.span(), items, "#"))
        self.at = found.end()

    def _header(self, opened: list[_Table]) -> None:
        text = self.source.text
        found = _HEADER.match(text, self.at)
        if found is None:
            raise self._fault("a header was expected here")
        path, repeated = _parts(found[2]), found[1] == "[["
        led = layout.led_by(opened[-1].node.items, text, self.at)
        while len(opened) > 1 and not _holds(opened[-1], path, repeated):
            opened.pop()
        outer = opened[-1]
        name = _dotted(path[len(outer.path) :])
        node = Node(Role.RECORD, name, self.at, found.end(), items=[], named=not repeated)
        self.tables[id(node)] = node
        outer.node.items.extend([*led, node])
        opened.append(_Table(path, node, repeated))
        self.at = found.end()

    def _entry(self, depth: int, *, in_table: bool) -> Node:
        text, start = self.source.text, self.at
        found = _KEY.match(text, self.at)
        if found is None:
            raise self._fault("a key was expected here")
        self.at = found.end()
        node = self._value(_dotted(_parts(found[1])), start, depth)
        if not in_table:
            self.inside.add(id(node))
        return node

    def _value(self, name: str, start: int, depth: int) -> Node:
        text = self.source.text
        if depth > DEEPEST:
            raise self._fault("nested too deeply")
        if text[self.at : self.at + 1] in ("[", "{"):
            return self._brackets(name, start, depth)
        found = _VALUE.match(text, self.at)
        if found is None:
            raise self._fault("a value was expected here")
        self.at = found.end()
        if found["string"] and "\n" in found[0]:
            self.fixed.append(found.span())
        return member(name, start, found.span(), _spelled(found))

    def _brackets(self, name: str, start: int, depth: int) -> Node:
        """An array or an inline table."""
        text, low = self.source.text, self.at
        is_array = text[low] == "["
        items: list[Node] = []
        self.at += 1
        while True:
            self.at = _after(_SPACE, text, self.at)
            mark = text[self.at : self.at + 1]
            if mark in ("]", "}"):
                self.at += 1
                break
            if mark == ",":
                self.at += 1
            elif mark == "#":
                found = _COMMENT.match(text, self.at)
                assert found is not None
                items.append(comment(text, found.span(), items, "#"))
                self.at = found.end()
            elif is_array:
                items.append(self._value(ELEMENT, self.at, depth + 1))
                self.inside.add(id(items[-1]))
            else:
                items.append(self._entry(depth + 1, in_table=False))
        if depth == 0:
            self.spans.append((low, self.at))
        if not items:
            return member(name, start, (low, self.at), "[]" if is_array else "{}")
        if is_array and is_vector(items):
            return member(name, start, (low, self.at), f"[{', '.join(str(item.own) for item in items)}]")
        inner = (low + 1, self.at - 1)
        return Node(Role.RECORD, name, start, self.at, inner=inner, items=items, named=name != ELEMENT)

    def _fault(self, what: str) -> UnreadableInput:
        place = Place(self.name, *position(self.source.text, self.at))
        return UnreadableInput(f"this TOML is beyond us: {what}", place=place)


def _after(pattern: re.Pattern[str], text: str, at: int) -> int:
    found = pattern.match(text, at)
    return found.end() if found else at


def _holds(table: _Table, path: tuple[str, ...], repeated: bool) -> bool:
    """Whether a header lies within this element of an array of tables."""
    inside = len(path) > len(table.path) and path[: len(table.path)] == table.path
    return table.repeated and inside and not (repeated and path == table.path)


def _close(tables: Iterable[Node]) -> None:
    """A table ends where its last item ends; inner tables come behind outer ones."""
    for node in tables:
        node.end = max([node.end, *(item.end for item in node.items)])


def _give_comments_away(root: Node, top: Node) -> None:
    """Where no entry stands before the first header, what comments are there belong to the file."""
    root.items[1:1] = top.items
    top.items.clear()
    top.end = top.start


def _parts(dotted: str) -> tuple[str, ...]:
    parts = (found[0] for found in _PART.finditer(dotted))
    return tuple(_text(part) if part[0] in "\"'" else part for part in parts)


def _dotted(parts: Iterable[str]) -> str:
    return ".".join(part if _BARE.fullmatch(part) else toml_reader.quote(part) for part in parts)


def _text(raw: str) -> str:
    if "\\" not in raw and not raw.startswith(('"""', "'''")):
        return raw[1:-1]
    return str(toml_reader.parsed(f"x = {raw}", "value")["x"])


def _spelled(found: re.Match[str]) -> str:
    """A value as JSON spells it: texts in quotes, numbers without the underscores between digits."""
    if found["string"]:
        return json.dumps(_text(found[0]), ensure_ascii=False)
    return found[0].replace("_", "") if found[0][:1] in "+-0123456789" else found[0]


class TomlDocument(BracketedDocument):
    """A TOML document."""

    format = "toml"

    def __init__(self, source: Text, root: Node, scanned: _Scanner) -> None:
        super().__init__(source, root)
        self._spans, self._fixed = scanned.spans, scanned.fixed
        self._tables, self._inside = scanned.tables, scanned.inside

    def levels(self, name: str) -> list[str]:
        """``a``, ``a.b`` and ``a.b.c`` of ``a.b.c``."""
        return [*(name[:at] for at, char in enumerate(name) if char == "."), name]

    def keeps_out(self, node: Node, other: Node, stay: Container[int] = ()) -> bool:
        """Beside ``a = …`` there is no ``a.b``: a key has a value or is a table (TOML 1.0, "Keys"), or an array of
        tables. Nor is there beside a table ``a`` in which a key ``b`` stays."""
        name, whole = other.name, id(node) in stay
        if name == node.name:
            return whole and node.named != other.named
        if not name.startswith(f"{node.name}."):
            return False
        if id(node) not in self._tables:
            return True
        left = (item for item in node.items if item.role is Role.RECORD and (whole or id(item) in stay))
        keys = (f"{node.name}.{item.name}" for item in left)
        return any(f"{name}.".startswith(f"{key}.") or key.startswith(f"{name}.") for key in keys)

    def bracketed(self, edits: Sequence[Edit] = ()) -> Iterable[tuple[int, int]]:
        """Arrays and inline tables."""
        return self._spans

    def tokens(self, text: str) -> Iterator[Token]:
        """Brackets, commas, comments and values of an array or inline table."""
        for found in _TOKEN.finditer(text):
            if found["key"]:
                equals = found.start() + found[0].rindex("=")
                yield from (Token("key", found.start(), equals), Token("mark", equals, equals + 1))
            elif not found["space"]:
                yield Token(found.lastgroup or "", *found.span())

    def within(self, node: Node) -> bool:
        """Whether it stands in an array or inline table."""
        return id(node) in self._inside

    def container(self, node: Node) -> str:
        """``t`` for a table, ``a`` for one of an array of tables, else the opening bracket."""
        if id(node) in self._tables:
            return "t" if node.named else "a"
        if node.inner is not None:
            return self.text[node.inner[0] - 1]
        return node.own[0] if node.own in ("[]", "{}") else ""

    def encode_value(self, value: str, field: Field | None) -> str:
        """As it is where it is a TOML value, else as a string."""
        try:
            toml_reader.parsed(f"x = {value}", "value")
            raw = value
        except UnreadableInput:
            raw = toml_reader.quote(value)
        return self.adopt_raw(raw, field)

    def adopt_raw(self, raw: str, field: Field | None) -> str:
        """As it is spelled there, with line ends of ours."""
        return layout.with_newlines(raw, self.source.newline)

    def open_empty(self, node: Node, block: str, indent: str) -> list[Edit]:
        """The block goes behind the header of its table, to the beginning of the text, or between brackets."""
        if VALUE in node.fields:
            return super().open_empty(node, block, indent)
        newline = self.source.newline
        if node.name == TOP:
            return [Edit(node.start, node.start, block + newline)]
        at = layout.line_end(self.text, node.start)
        lead = "" if self.text[at - 1 : at] in ("\n", "\r") else newline
        return [Edit(at, at, lead + block + ("" if lead else newline))]

    def inner_indent(self, node: Node, indent: str) -> str:
        """That of the header for a table, one step deeper between brackets."""
        return indent if id(node) in self._tables else super().inner_indent(node, indent)

    def fixed_spans(self, start: int, end: int) -> Iterable[tuple[int, int]]:
        """Strings of several lines."""
        return [span for span in self._fixed if start <= span[0] and span[1] <= end]
