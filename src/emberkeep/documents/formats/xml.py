"""XML 1.0 with spans: expat checks that it is well-formed, our own scanner finds where things stand.

An element is a record; its attributes are fields named ``@name``, its text (when it holds nothing else) the field
``""``. Text mixed with elements or comments is one value, as written. Comments and processing instructions are
items. Nothing is resolved or loaded from outside, and a document that builds entities from entities is refused.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from contextlib import suppress
from functools import cached_property, lru_cache
from xml.parsers import expat

from emberkeep.documents import layout
from emberkeep.documents.encoding import BOM, Text, position
from emberkeep.documents.model import VALUE, Document, Edit, Field, Node, Role
from emberkeep.errors import Place, UnreadableInput

# No possessive quantifiers: Python 3.11.2 matches them wrongly. What follows a repeated class can never begin with one
# of its characters, so nothing is tried twice all the same.
_QUOTED = r"\"[^\"]*\"|'[^']*'"
_TOKEN = re.compile(
    r"<(?:"
    r"!--(?P<comment>.*?)-->"
    r"|!\[CDATA\[(?P<cdata>.*?)\]\]>"
    r"|\?(?P<pi>.*?)\?>"
    r"|/(?P<close>[^\s>]+)\s*>"
    r"|(?P<name>[^\s/>!?][^\s/>]*)(?=[\s/>])"
    rf"(?P<attributes>[^\"'>/]*(?:(?:{_QUOTED}|/(?!>))[^\"'>/]*)*)(?P<empty>/?)>"
    r")",
    re.DOTALL,
)
_ATTRIBUTE = re.compile(r"\s*([^\s=/]+)\s*=\s*(?:\"([^\"]*)\"|'([^']*)')", re.DOTALL)
_TAG_NAME = re.compile(r"<[^\s/>]+")
_LINE_IN_VALUE = re.compile(r"\r\n|[\t\n\r]")
_PASSED_OVER = r"<!--[^-]*(?:-(?!->)[^-]*)*-->|<\?[^?]*(?:\?(?!>)[^?]*)*\?>"
_DECLARATION = re.compile(rf"{BOM}?(?:<\?xml\s[^?]*\?>)?")
_PROLOG = re.compile(rf"\s+|{_PASSED_OVER}")
_DOCTYPE = re.compile(
    rf"<!DOCTYPE[^\[\"'>]*(?:(?:{_QUOTED})[^\[\"'>]*)*"
    rf"(?:\[[^\]\"'<]*(?:(?:{_QUOTED}|{_PASSED_OVER}|<(?!!--|\?))[^\]\"'<]*)*\]\s*)?>"
)
_REFERENCE = re.compile(r"&(?:#(\d{1,7})|#x([0-9A-Fa-f]{1,6})|(lt|gt|amp|quot|apos));")
_TAG_IN_COMMENT = re.compile(r"<!--[^<-]*(?:-(?!->)[^<-]*)*<")
LONG = 1 << 14
"""Characters of content from which a list of alike elements is looked for first."""
_PREDEFINED = {"lt": "<", "gt": ">", "amp": "&", "quot": '"', "apos": "'"}
_ESCAPES = {"&": "&amp;", "<": "&lt;", ">": "&gt;"}


def parse(source: Text, name: str) -> XmlDocument:
    """The document in ``source``; UnreadableInput says file, line, column and what is wrong."""
    _check(source.encode(source.text), name)
    return XmlDocument(source)


def _check(data: bytes, name: str) -> None:
    checker = expat.ParserCreate()
    checker.SetParamEntityParsing(expat.XML_PARAM_ENTITY_PARSING_NEVER)

    def refuse_expansion(
        entity: str, parameter: int, value: str | None, base: str | None, system: str | None, *_: str | None
    ) -> None:
        if value is None or system is not None or parameter or "&" in value:
            raise UnreadableInput(
                f"entity '{entity}' is built from something else, which is not read",
                place=Place(name, checker.CurrentLineNumber, checker.CurrentColumnNumber + 1),
                hint="write its text out where it is used",
            )

    checker.EntityDeclHandler = refuse_expansion
    try:
        checker.Parse(data, True)
    except expat.ExpatError as error:
        what, hint = _what_is_wrong(data, error.code, checker.ErrorByteIndex)
        raise UnreadableInput(
            f"not well-formed XML: {what}", place=Place(name, error.lineno, error.offset + 1), hint=hint
        ) from error


def _what_is_wrong(data: bytes, code: int, at: int) -> tuple[str, str]:
    """A fault at a byte in words, and what to do: a tag that is not closed is named, with its line."""
    opened = _open_tags(data)
    if not opened or code not in _NOT_CLOSED:
        return expat.ErrorString(code), "the tag at or just before this place is broken, or was never closed"
    tag, line = opened[-1]
    closing = _NAME.match(data, at)
    if closing is None or b"\0" in closing[0]:  # the end of the file, or units of two bytes
        return f"<{tag}> of line {line} is not closed", f"write </{tag}> where it ends"
    other = closing[0].decode("utf-8", "backslashreplace")
    return (
        f"</{other}> stands where </{tag}> is wanted: <{tag}> was opened in line {line}",
        f"close <{tag}> first, or take </{other}> out",
    )


_NOT_CLOSED = (
    expat.errors.codes[expat.errors.XML_ERROR_TAG_MISMATCH],
    expat.errors.codes[expat.errors.XML_ERROR_NO_ELEMENTS],
)
_NAME = re.compile(rb"[^\s>]+")


def _open_tags(data: bytes) -> list[tuple[str, int]]:
    """The tags that are open where reading ends, with their lines."""
    opened: list[tuple[str, int]] = []
    reader = expat.ParserCreate()
    reader.StartElementHandler = lambda tag, _: opened.append((tag, reader.CurrentLineNumber))
    reader.EndElementHandler = lambda _: opened.pop()
    with suppress(expat.ExpatError):
        reader.Parse(data, True)
    return opened


class XmlDocument(Document):
    """A well-formed XML document."""

    format = "xml"
    learns_identity = True

    @cached_property
    def root(self) -> Node:
        """The document element."""
        return self._outermost() or self._element(self._opening, len(self.text))

    @cached_property
    def _opening(self) -> re.Match[str]:
        """The root's start tag."""
        at = 1 if self.text.startswith(BOM) else 0
        while found := _PROLOG.match(self.text, at) or _DOCTYPE.match(self.text, at):
            at = found.end()
        opened = _TOKEN.match(self.text, at)
        if opened is None or opened["name"] is None:
            line, column = position(self.text, at)
            raise UnreadableInput("an element was expected here", place=Place("document", line, column))
        return opened

    def around(self) -> tuple[tuple[int, int], ...]:
        """Before and behind the document element; the declaration, which tells the encoding, is no part of it."""
        declared = _DECLARATION.match(self.text)
        return (declared.end() if declared else 0, self.root.start), (self.root.end, len(self.text))

    def _outermost(self) -> Node | None:
        """The root by its end tag, which is the last one; None where what follows that may hold another."""
        opened = self._opening
        closing = self.text.rfind(f"</{opened['name']}")
        token = _TOKEN.match(self.text, closing) if closing >= 0 and not opened["empty"] else None
        if token is None or token["close"] != opened["name"] or not _blank(self.text, token.end(), len(self.text)):
            return None
        return self._node(opened, token.end(), closing)

    @cached_property
    def _plain(self) -> bool:
        """Whether all that looks like a tag is one: no comment holds such, and there are no CDATA sections and
        instructions."""
        start = self._opening.start()
        if any(self.text.find(mark, start) >= 0 for mark in ("<?", "<![CDATA[")):
            return False
        return _TAG_IN_COMMENT.search(self.text, start) is None

    def _ends_at(self, start: int, closing: int) -> bool:
        """Whether an end tag found behind ``start`` is none inside a comment or something of the kind."""
        return self._plain or _closed(self.text, start, closing)

    def _element(self, opened: re.Match[str], limit: int) -> Node:
        """The element that a start tag opens. Most have no namesake inside: then its end is the next closing tag of its
        name, found without looking at what lies between."""
        if opened["empty"]:
            return self._node(opened, opened.end(), None)
        name, start = opened["name"], opened.end()
        closing = self.text.find(f"</{name}", start, limit)
        plain = self.text.find(f"<{name}", start, closing) < 0 and self._ends_at(start, closing)
        if plain and (found := _TOKEN.match(self.text, closing, limit)) and found["close"] == name:
            return self._node(opened, found.end(), closing)
        closing, end = self._ends[start]
        return self._node(opened, end, closing)

    @cached_property
    def _ends(self) -> dict[int, tuple[int, int]]:
        """Where the end tag of each element stands, by where its content begins; read once, when elements have
        namesakes inside."""
        found: dict[int, tuple[int, int]] = {}
        within: list[int] = []
        for token in _TOKEN.finditer(self.text, self._opening.start()):
            if token["close"] is not None:
                found[within.pop()] = token.span()
            elif token["name"] is not None and not token["empty"]:
                within.append(token.end())
        return found

    def _node(self, opened: re.Match[str], end: int, closing: int | None) -> Node:
        inner = None if closing is None else (opened.end(), closing)
        node = Node(Role.RECORD, opened["name"], opened.start(), end, inner=inner, load=self._load)
        node.peek = self._attribute_of
        return node

    def _attribute_of(self, nodes: Sequence[Node], name: str) -> list[str | None] | None:
        """An attribute's values without reading what the elements hold; quickest for plain ones that stand first."""
        if not name.startswith("@"):
            return None
        text, match = self.text, _first_attribute(name[1:]).match
        firsts = [match(text, node.start) for node in nodes]
        return [first[1] if first else self._sought(node, name) for node, first in zip(nodes, firsts, strict=True)]

    def _sought(self, node: Node, name: str) -> str | None:
        tag = self.text[node.start : node.inner[0] if node.inner else node.end]
        if name[1:] not in tag:
            return None
        return next((value for found, _, value in _attributes(tag, 0, len(tag)) if found == name), None)

    def _load(self, node: Node) -> tuple[dict[str, Field], list[Node]]:
        bare = node.inner is not None and node.inner[0] - node.start == len(node.name) + 2  # <name>, as most leaves
        fields = {} if bare else self._attributes(node)
        if node.inner is None:
            return fields, []
        start, end = node.inner
        if self.text.find("<", start, end) < 0:
            raw = self.text[start:end]
            if raw and not ("\n" in raw and _blank(raw, 0, len(raw))):
                fields[VALUE] = Field(VALUE, _decoded(raw), start, end, node.inner)
            return fields, []
        items, mixed = self._items(*node.inner)
        has_elements = any(item.role is Role.RECORD for item in items)
        if not mixed and (items or node.inner[0] == node.inner[1]):
            return fields, items
        if not mixed and not items and "\n" in self.text[node.inner[0] : node.inner[1]]:
            return fields, []  # a container that holds nothing but white space
        raw = self.text[node.inner[0] : node.inner[1]]
        value = raw if has_elements or items else _decoded(raw)
        fields[VALUE] = Field(VALUE, value, *node.inner, node.inner)
        return fields, []

    def _attributes(self, node: Node) -> dict[str, Field]:
        end = node.inner[0] if node.inner else node.end
        return {
            name: Field(name, value, *found.span(2 if found[2] is not None else 3), found.span())
            for name, found, value in _attributes(self.text, node.start, end)
        }

    def _items(self, start: int, end: int) -> tuple[list[Node], bool]:
        """The nodes directly inside a span, and whether text stands between them."""
        items: list[Node] = []
        at = self._alike(start, end, items) if end - start > LONG else start
        return items, self._rest(at, end, items)

    def _alike(self, start: int, end: int, items: list[Node]) -> int:
        """Take the elements that a long list begins with, as long as they are called alike and nothing but white space
        stands between them; where it stops. Quicker than to look at each token."""
        text, find, load, peek = self.text, self.text.find, self._load, self._attribute_of
        first = _TOKEN.search(text, start, end)
        if first is None or first["name"] is None:
            return start
        name = first["name"]
        mark, again, length, plain = f"</{name}>", f"<{name}", len(name) + 3, self._plain
        at = start
        for opened in _start_tag(name).finditer(text, start, end):
            low, after = opened.span()
            if low != at and not text[at:low].isspace():
                return at
            closing = find(mark, after, end)
            if closing < 0 or text[after - 2] == "/":
                return at
            if find(again, after, closing) >= 0 or not (plain or _closed(text, after, closing)):
                return at
            at = closing + length
            node = Node(Role.RECORD, name, low, at, inner=(after, closing), load=load)
            node.peek = peek
            items.append(node)
        return at

    def _rest(self, start: int, end: int, items: list[Node]) -> bool:
        """The nodes from ``start`` on, behind ``items``; whether text stands between them."""
        text, search, find = self.text, _TOKEN.search, self.text.find
        mixed = False
        at = start
        while token := search(text, at, end):
            low, after = token.span()
            gap = text[at:low]
            if gap and not gap.isspace():
                mixed = True
            name = token["name"]
            if name is not None and not token["empty"]:
                # Most elements have no namesake inside: their ends are found without a closer look.
                mark = f"</{name}>"
                closing = find(mark, after, end)
                if closing < 0 or find(f"<{name}", after, closing) >= 0 or not self._ends_at(after, closing):
                    items.append(self._element(token, end))
                else:
                    items.append(self._node(token, closing + len(mark), closing))
                at = items[-1].end
            elif name is not None:
                items.append(self._node(token, after, None))
                at = after
            else:
                at = after
                if token["cdata"] is None:
                    items.append(self._comment(token, items))
                else:
                    mixed = True
        return mixed or not _blank(text, at, end)

    def _comment(self, token: re.Match[str], before: list[Node]) -> Node:
        group = "comment" if token["comment"] is not None else "pi"
        name = "#comment" if group == "comment" else "#instruction"
        field = Field(VALUE, token[group], token.start(group), token.end(group), token.span())
        behind = bool(before) and (before[-1].role is Role.RECORD or before[-1].trailing)
        trailing = behind and "\n" not in self.text[before[-1].end : token.start()]
        return Node(Role.COMMENT, name, *token.span(), fields={VALUE: field}, trailing=trailing)

    # --- writing -------------------------------------------------------------

    def encode_value(self, value: str, field: Field | None) -> str:
        """With what XML reserves as entities."""
        raw = "".join(_ESCAPES.get(char, char) for char in value)
        return self.adopt_raw(raw, field)

    def adopt_raw(self, raw: str, field: Field | None) -> str:
        """With line ends of ours; quotes of an attribute, and characters that the encoding lacks, as references."""
        if field is not None and field.name.startswith("@"):
            quote = self.text[field.end : field.end + 1]
            raw = raw.replace(quote, "&quot;" if quote == '"' else "&apos;") if quote in ('"', "'") else raw
        raw = layout.with_newlines(raw, self.source.newline)
        return raw.encode(self.source.codec, "xmlcharrefreplace").decode(self.source.codec)

    def inner_indent(self, node: Node, indent: str) -> str:
        """One step deeper than ``indent``."""
        return indent + self.indent_unit

    def add_field(self, node: Node, field: Field, raw: str, model: tuple[Document, Node] | None = None) -> list[Edit]:
        """An attribute, or a text between the tags."""
        if field.name == VALUE:
            return self._fill(node, raw)
        quoted = f'"{raw}"' if '"' not in raw else f"'{raw}'"
        at, gap = self._place_of(node, field, model)
        return [Edit(at, at, f"{gap}{field.name[1:]}={quoted}")]

    def _place_of(self, node: Node, field: Field, model: tuple[Document, Node] | None) -> tuple[int, str]:
        """Where a new attribute goes, and what parts it from the one before: behind the one that it follows in
        ``model``, on a line of its own where it has one there, indented as those of ours that begin a line."""
        opened = _TOKEN.match(self.text, node.start, node.end)
        assert opened is not None
        if model is None:
            return opened.start("attributes") + len(opened["attributes"].rstrip()), " "
        document, record = model
        names = list(record.fields)
        before = [name for name in names[: names.index(field.name)] if name in node.fields]
        at = node.fields[before[-1]].outer[1] if before else opened.start("attributes")
        gap = _gap_before(document.text, field)
        if "\n" not in gap and "\r" not in gap:
            return at, gap
        ours = [_gap_before(self.text, one) for name, one in node.fields.items() if name.startswith("@")]
        return at, next((one for one in ours if "\n" in one), layout.with_newlines(gap, self.source.newline))

    def _fill(self, node: Node, raw: str) -> list[Edit]:
        """Text for an element that has none."""
        if node.inner is not None:
            return [Edit(*node.inner, raw)]
        slash = self.text.rindex("/", node.start, node.end)
        start = len(self.text[:slash].rstrip())
        return [Edit(start, node.end, f">{raw}</{node.name}>")]

    def open_empty(self, node: Node, block: str, indent: str) -> list[Edit]:
        """An empty-element tag is opened; the block goes between the tags."""
        newline = self.source.newline
        return self._fill(node, f"{newline}{block}{newline}{indent}")

    def fixed_spans(self, start: int, end: int) -> Iterable[tuple[int, int]]:
        """Texts, CDATA sections and attribute values of several lines."""
        at = start
        for token in _TOKEN.finditer(self.text, start, end):
            if not _blank(self.text, at, token.start()):
                yield at, token.start()
            if token["cdata"] is not None:
                yield token.span()
            elif token["attributes"] and "\n" in token["attributes"]:
                yield from self._quoted(token)
            at = token.end()

    def _quoted(self, token: re.Match[str]) -> Iterator[tuple[int, int]]:
        for found in _each(self.text, *token.span("attributes")):
            yield found.span(2 if found[2] is not None else 3)


def _closed(text: str, at: int, end: int) -> bool:
    """Whether every comment and CDATA section that begins in a span ends in it, so that ``end`` lies in none."""
    if text.find("<?", at, end) >= 0:
        return False
    while (at := text.find("<!", at, end)) >= 0:
        mark = "]]>" if text.startswith("<![CDATA[", at) else "-->"
        at = text.find(mark, at + 4, end)
        if at < 0:
            return False
        at += 3
    return True


@lru_cache(maxsize=64)
def _start_tag(name: str) -> re.Pattern[str]:
    return re.compile(rf"""<{re.escape(name)}(?=[\s/>])[^"'<>]*(?:(?:{_QUOTED})[^"'<>]*)*>""")


@lru_cache(maxsize=64)
def _first_attribute(name: str) -> re.Pattern[str]:
    """A start tag of which this is the first attribute, with nothing in its value to be resolved."""
    return re.compile(rf"""<[^\s/>]+ {re.escape(name)}="([^"&\t\r\n]*)\"""")


def _each(text: str, at: int, end: int) -> Iterator[re.Match[str]]:
    """The attributes that stand one behind the other."""
    while found := _ATTRIBUTE.match(text, at, end):
        yield found
        at = found.end()


def _attributes(text: str, start: int, end: int) -> Iterator[tuple[str, re.Match[str], str]]:
    """Name (with its @), match and value of each attribute of the start tag at ``start``."""
    at = _TAG_NAME.match(text, start, end)
    for found in _each(text, at.end() if at else start, end):
        raw = found[2] if found[2] is not None else found[3]
        yield f"@{found[1]}", found, _decoded(_LINE_IN_VALUE.sub(" ", raw))


def _gap_before(text: str, attribute: Field) -> str:
    """The space before an attribute."""
    whole = text[slice(*attribute.outer)]
    return whole[: len(whole) - len(whole.lstrip())] or " "


def _blank(text: str, start: int, end: int) -> bool:
    return start == end or text[start:end].isspace()


def _decoded(raw: str) -> str:
    """Character data with CDATA sections opened and character references resolved; other entities stay as written."""
    if "<" in raw:
        pieces = re.split(r"<!\[CDATA\[(.*?)\]\]>", raw, flags=re.DOTALL)
        return "".join(piece if odd % 2 else _decoded(piece) for odd, piece in enumerate(pieces))
    if "&" not in raw:
        return raw
    return _REFERENCE.sub(_resolved, raw)


def _resolved(found: re.Match[str]) -> str:
    if found[3]:
        return _PREDEFINED[found[3]]
    code = int(found[1]) if found[1] else int(found[2], 16)
    return chr(code) if code < 0x110000 else found[0]
