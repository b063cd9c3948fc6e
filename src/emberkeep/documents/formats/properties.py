"""Java-style properties: ``key = value``, ``key: value`` or ``key value``; ``#`` and ``!`` comments; a backslash at the
end continues the line; ``\\t \\n \\r \\f \\uXXXX`` and a backslash before anything else escape it.

Each entry is a record named by its key with its value as own field. The same key twice is two records.
"""

from __future__ import annotations

import re

from emberkeep.documents import layout
from emberkeep.documents.encoding import Text
from emberkeep.documents.formats.lined import LinedDocument, comment, lines
from emberkeep.documents.model import VALUE, Document, Edit, Field, Node, Role

_ENTRY = re.compile(r"[ \t\f]*((?:[^\s=:\\]|\\.)+)[ \t\f]*([=:]?)[ \t\f]*", re.DOTALL)
_ESCAPE = re.compile(r"\\(?:u([0-9A-Fa-f]{4})|(\r\n|[\r\n])[ \t\f]*|(.))", re.DOTALL)
_SHORT = {"t": "\t", "n": "\n", "r": "\r", "f": "\f"}


def parse(source: Text, name: str = "") -> PropertiesDocument:
    """The document in ``source``. Any text is a properties file; nothing is refused."""
    items: list[Node] = []
    start = end = -1
    for line_start, line_end, body in lines(source.text):
        if start < 0:
            if not body.strip():
                continue
            if body.lstrip()[0] in "#!":
                items.append(comment(line_start, line_end, body.strip()))
                continue
            start = line_start
        end = line_end
        if not _continues(body):
            items.append(_entry(source.text, start, end))
            start = -1
    if start >= 0:
        items.append(_entry(source.text, start, end))
    return PropertiesDocument(source, Node(Role.RECORD, "", 0, len(source.text), items=items))


def _continues(body: str) -> bool:
    return (len(body) - len(body.rstrip("\\"))) % 2 == 1


def _entry(text: str, start: int, end: int) -> Node:
    found = _ENTRY.match(text, start, end)
    if found is None:  # "= value": an entry with an empty key
        key, at = "", re.compile(r"[ \t\f]*[=:]?[ \t\f]*").match(text, start, end).end()  # type: ignore[union-attr]
    else:
        key, at = _decoded(found[1]), found.end()
    value = Field(VALUE, _decoded(text[at:end]), at, end, (at, end))
    return Node(Role.RECORD, key, start, end, fields={VALUE: value})


def _decoded(raw: str) -> str:
    if "\\" not in raw:
        return raw
    return _ESCAPE.sub(_resolved, raw)


def _resolved(found: re.Match[str]) -> str:
    if found[1]:
        return chr(int(found[1], 16))
    if found[2]:
        return ""
    return _SHORT.get(found[3], found[3])


class PropertiesDocument(LinedDocument):
    """A properties file."""

    format = "properties"

    def encode_value(self, value: str, field: Field | None) -> str:
        """Backslashes, line ends, tabs and a leading space escaped."""
        raw = value.replace("\\", "\\\\").replace("\n", "\\n").replace("\r", "\\r").replace("\t", "\\t")
        if raw[:1] in (" ", "\f"):
            raw = "\\" + raw
        return self.writable(raw)

    def writable(self, raw: str) -> str:
        """Characters that the encoding of the file lacks as ``\\uXXXX``."""
        return "".join(char if self.source.can_write(char) else _escaped(char) for char in raw)

    def add_field(self, node: Node, field: Field, raw: str, model: tuple[Document, Node] | None = None) -> list[Edit]:
        """A value behind a key that stands alone on its line."""
        end = layout.line_end(self.text, node.start)
        at = len(self.text[node.start : end].rstrip("\r\n")) + node.start
        return [Edit(at, at, f"={raw}")]


def _escaped(char: str) -> str:
    units = char.encode("utf-16-be")
    return "".join(f"\\u{units[at]:02x}{units[at + 1]:02x}" for at in range(0, len(units), 2))
