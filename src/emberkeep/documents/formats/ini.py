"""INI: ``[section]`` headers, ``key = value`` or ``key: value`` entries, ``;`` and ``#`` comment lines.

A section is a record named ``[name]`` with its entries as items; entries before the first header stand at the top.
Comments directly above a header belong to it. A line that is neither is an entry without a value. Values are kept as
written, quotes and inline ``;`` included, but for one that ends the line behind a text in quotes
(``key = "text";``). Lines that stand deeper than the entry above them are the rest of its
value.
"""

from __future__ import annotations

import re

from emberkeep.documents import layout
from emberkeep.documents.encoding import Text
from emberkeep.documents.formats.lined import LinedDocument, comment, lines, value_end
from emberkeep.documents.model import VALUE, Document, Edit, Field, Node, Role

_HEADER = re.compile(r"[ \t]*\[([^\]\r\n]*)\][ \t]*(?:[;#].*)?$")
_ENTRY = re.compile(r"[ \t]*([^=:\r\n]*?)[ \t]*([=:])[ \t]*")


def parse(source: Text, name: str = "") -> IniDocument:
    """The document in ``source``. Any text is an INI file; nothing is refused."""
    top: list[Node] = []
    items = top
    last_end = 0
    value: Node | None = None
    column = 0
    for begin, end, body in lines(source.text):
        if not body.strip():
            continue
        start = begin + len(body) - len(body.lstrip())
        if value is not None and start - begin > column and body.lstrip()[0] not in ";#":
            del items[items.index(value) :]  # with comments between its lines
            value = _entry(source.text, value.start, end)
            items.append(value)
        elif header := _HEADER.match(body):
            led = layout.led_by(items, source.text, start) if items is not top else []
            top.extend(led)
            items = []
            top.append(Node(Role.RECORD, f"[{header[1].strip()}]", start, end, items=items))
            value = None
        elif body.lstrip()[0] in ";#":
            items.append(comment(start, end, body.strip()))
        else:
            items.append(_entry(source.text, start, end))
            value, column = (items[-1] if VALUE in items[-1].fields else None), start - begin
        last_end = end
    if items is not top:
        top.extend(layout.at_end(top[-1], source.text))
    _close(top, last_end)
    return IniDocument(source, Node(Role.RECORD, "", 0, len(source.text), items=top))


def _close(top: list[Node], end: int) -> None:
    """A section ends where its last item ends."""
    for node in top:
        if node.name.startswith("[") and node.role is Role.RECORD and node.items:
            node.end = min(node.items[-1].end, end)


def _entry(text: str, start: int, end: int) -> Node:
    found = _ENTRY.match(text, start, end)
    if found is None:
        body = text[start:end]
        return Node(Role.RECORD, body.strip(), start, end)
    at = value_end(text, found.end(), found.end() + len(text[found.end() : end].rstrip()))
    field = Field(VALUE, text[found.end() : at], found.end(), at, (found.start(2), end))
    return Node(Role.RECORD, found[1], start, end, fields={VALUE: field})


class IniDocument(LinedDocument):
    """An INI file."""

    format = "ini"

    def encode_value(self, value: str, field: Field | None) -> str:
        """On one line. UnreadableInput where the encoding of the file lacks a character."""
        return self.writable(value.replace("\r\n", " ").replace("\n", " ").replace("\r", " "))

    def add_field(self, node: Node, field: Field, raw: str, model: tuple[Document, Node] | None = None) -> list[Edit]:
        """A value behind a key that stands alone."""
        at = node.end if not node.items else node.start + len(node.name)
        return [Edit(at, at, f" = {raw}")]
