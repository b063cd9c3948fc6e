"""What the line-based key and value formats share: writing entries, comments and blocks as whole lines."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from emberkeep.documents import layout
from emberkeep.documents.encoding import BOM, Text
from emberkeep.documents.model import VALUE, Document, Edit, Field, Node, Role
from emberkeep.documents.values import number
from emberkeep.errors import UnreadableInput

_TERMINATED = re.compile(r"""("(?:[^"\\\r\n]|\\.)*"|'[^'\r\n]*')[ \t]*;[ \t]*$""")
_LINE = re.compile(r"[^\r\n]*(?:\r\n|\n|\r|\Z)")


_SETTING = re.compile(
    r"""^[ \t]*(?:local[ \t]+)?(?:\[["']|["'])?(?P<key>[A-Za-z_][\w.-]*)(?:["']\]|["'])?[ \t]*"""
    r"""(?:=[ \t]*(?P<value>"(?:[^"\\\r\n]|\\.)*"|'(?:[^'\\\r\n]|\\.)*'|[^\s"'{}()\[\],;]+)"""
    r"""|:[ \t]*(?P<quoted>"(?:[^"\\\r\n]|\\.)*"|'(?:[^'\\\r\n]|\\.)*'))"""
    r"""[ \t]*[,;]?[ \t]*(?:(?:--|//|\#).*)?$""",
    re.MULTILINE,
)


def settings(text: str) -> Iterator[Field]:
    """Lines of a text of no known format that set a plain value to a key, as tables of programming languages and blocks
    in brackets have them (``key = "value",``), or each line of one that holds a program's arguments (``--key=value``).
    The name of each field is its key."""
    if _ARGUMENTS.fullmatch(text):
        for found in _ARGUMENT.finditer(text):
            yield Field(found["key"], found["value"], *found.span("value"), found.span("value"))
        return
    for found in _SETTING.finditer(text):
        kind = "value" if found["value"] is not None else "quoted"
        yield Field(found["key"], found[kind], *found.span(kind), found.span(kind))


_ARGUMENTS = re.compile(r"\ufeff?(?:[ \t]*(?:#.*|--?[A-Za-z][^\r\n]*)?(?:\r?\n|\Z))+")
_ARGUMENT = re.compile(
    r"""^[ \t]*--?(?P<key>[A-Za-z][\w.-]*)(?:[ \t]*=[ \t]*|[ \t]+)(?P<value>[^\s=][^\r\n]*?)[ \t]*$""", re.MULTILINE
)
_SPACED = re.compile(r"^[ \t]*(?P<key>[A-Za-z_@][\w.@/-]*)[ \t]+(?P<value>[^\s#;=].*?)[ \t]*$", re.MULTILINE)
_ASSIGNED = re.compile(r"^[ \t]*[^\s#;=:]+[ \t]*[=:]", re.MULTILINE)


LONGEST_WORDED = 80
"""Characters of a value behind a word; of more it is a sentence."""


def spaced(document: Document | None, text: str) -> list[Field]:
    """The lines of a text that sets its keys with a space alone (``port 28800``), as many servers' own do.

    Only of a text that was read as INI, where as many lines are set with ``=`` or ``:`` they are none; or of one of no
    known format (None) that holds little else, so that prose is not taken for it.
    """
    if document is not None and document.format != "ini":
        return []
    found = list(_SPACED.finditer(text))
    if len(found) <= sum(1 for _ in _ASSIGNED.finditer(text)) or (document is None and not _is_worded(found, text)):
        return []
    return [Field(one["key"], one["value"], *one.span("value"), one.span("value")) for one in found]


def _is_worded(found: Sequence[re.Match[str]], text: str) -> bool:
    """Whether each line is a word of its own with a value behind it, numbers among them, and comments."""
    entries = sum(
        1 for line in text.splitlines() if (stripped := line.strip()) and not stripped.startswith(("#", ";", "!", "//"))
    )
    short = [one for one in found if len(one["value"]) <= LONGEST_WORDED]
    words = {one["key"] for one in short}
    numbers = sum(number(one["value"]) is not None for one in short)
    return len(short) >= max(3, 0.9 * entries) and len(words) >= 0.6 * len(short) and numbers >= 1


def lines(text: str) -> Iterator[tuple[int, int, str]]:
    """Start, end (without the line end) and text of each physical line; a byte-order mark is stepped over."""
    at = 1 if text.startswith(BOM) else 0
    while at < len(text):
        found = _LINE.match(text, at)
        assert found is not None
        body = found[0].rstrip("\r\n")
        yield at, at + len(body), body
        at = found.end()


def value_end(text: str, start: int, end: int) -> int:
    """Where a value ends: a semicolon behind a text in quotes ends its line and is none of it."""
    found = _TERMINATED.fullmatch(text[start:end])
    return start + found.end(1) if found else end


def comment(start: int, end: int, text: str) -> Node:
    """A comment line."""
    field = Field(VALUE, text, start, end, (start, end))
    return Node(Role.COMMENT, "#comment", start, end, fields={VALUE: field})


class LinedDocument(Document):
    """A document of entries on lines of their own. Their indentation goes with them: what stands deeper may be the
    rest of the value above it."""

    indents_freely = False
    keeps_indents = True

    def __init__(self, source: Text, root: Node) -> None:
        super().__init__(source)
        self._root = root

    @property
    def root(self) -> Node:
        """The record of the whole file."""
        return self._root

    def adopt_raw(self, raw: str, field: Field | None) -> str:
        """With line ends of ours. UnreadableInput where the encoding lacks a character."""
        return self.writable(layout.with_newlines(raw, self.source.newline))

    def writable(self, raw: str) -> str:
        """``raw`` as this file's encoding can hold it; UnreadableInput where it cannot."""
        if self.source.can_write(raw):
            return raw
        raise UnreadableInput(
            f"the value {raw!r} has characters that the file's encoding ({self.source.codec}) lacks",
            hint="save your file as UTF-8 first",
        )

    def open_empty(self, node: Node, block: str, indent: str) -> list[Edit]:
        """The block goes behind the header of its section, or to the end of the file."""
        newline = self.source.newline
        if node is self._root:
            at = len(self.text)
            lead = newline if self.text.strip(BOM) and not self.text.endswith(("\n", "\r")) else ""
            return [Edit(at, at, lead + block + newline)]
        at = layout.line_end(self.text, node.start)
        lead = "" if self.text[at - 1 : at] in ("\n", "\r") else newline
        return [Edit(at, at, lead + block + (newline if not lead else ""))]
