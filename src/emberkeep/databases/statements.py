"""SQL files as MariaDB and MySQL write them, taken apart into statements, each with the line that it begins on.

What the servers' own clients do with them is followed (MariaDB manual, "mariadb Command-Line Client"): ``DELIMITER``
lines, strings with backslashes or doubled quotes, names in backticks, comments ``--``, ``#`` and ``/* */``;
``/*! */`` is no comment but code for some servers.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from typing import NamedTuple

from emberkeep.errors import Place, Refused

_ENDS = {
    b"'": re.compile(rb"\\.|''|(')", re.DOTALL),
    b'"': re.compile(rb'\\.|""|(")', re.DOTALL),
    b"`": re.compile(rb"``|(`)"),
    b"/*": re.compile(rb"(\*/)"),
}
_DELIMITER = re.compile(rb"\s*delimiter\s+(\S+)\s*", re.IGNORECASE)


class Statement(NamedTuple):
    """One statement, without its delimiter. ``line``: 1-based, of its first word."""

    line: int
    text: bytes


class Splitter:
    """Takes lines in and gives statements out."""

    def __init__(self) -> None:
        self.line = 0
        self._held: list[bytes] = []
        self._begun = 0
        self._inside = b""
        self._delimit(b";")

    def _delimit(self, delimiter: bytes) -> None:
        self._delimiter = delimiter
        self._token = re.compile(rb"['\"`]|--(?=\s|$)|#|/\*(?!M?!)|" + re.escape(delimiter))

    @property
    def between(self) -> bool:
        """Whether the next line begins a statement."""
        return not self._held and not self._inside

    def feed(self, line: bytes) -> Iterator[Statement]:
        """The statements that end on this line, which brings its line end along."""
        self.line += 1
        if self.between and (told := _DELIMITER.fullmatch(line)):
            self._delimit(told[1])
            return
        at = start = 0
        while at < len(line):
            if self._inside:
                end = _closing(line, at, _ENDS[self._inside])
                if end < 0:
                    break
                at = end
                if self._inside == b"/*" and not self._held and not line[:start].strip():
                    start = at  # a comment before the statement
                self._inside = b""
                continue
            found = self._token.search(line, at)
            if found is None:
                break
            at = found.end()
            token = found[0]
            if token == self._delimiter:
                yield from self._end(line[start : found.start()])
                start = at
            elif token in (b"--", b"#"):
                self._hold(line[start : found.start()] + b"\n")
                return
            else:
                if token == b"/*" and not self._held and not line[start : found.start()].strip():
                    start = found.start()
                self._inside = token
        if not (self._inside == b"/*" and not self._held and line[start:].lstrip().startswith(b"/*")):
            self._hold(line[start:])

    def _hold(self, part: bytes) -> None:
        if not self._held:
            if not part.strip():
                return
            self._begun = self.line
        self._held.append(part)

    def _end(self, part: bytes) -> Iterator[Statement]:
        self._hold(part)
        if self._held:
            yield Statement(self._begun, b"".join(self._held).strip())
        self._held = []

    def rest(self) -> Statement | None:
        """What the last delimiter is missing behind."""
        return Statement(self._begun, b"".join(self._held).strip()) if self._held else None


def _closing(line: bytes, at: int, pattern: re.Pattern[bytes]) -> int:
    """Behind the end of what is quoted; -1 where it goes on in the next line."""
    for found in pattern.finditer(line, at):
        if found[1]:
            return found.end()
    return -1


def lines(chunks: Iterable[bytes]) -> Iterator[bytes]:
    """The lines of bytes that come in pieces, with their line ends."""
    held: list[bytes] = []
    for chunk in chunks:
        first, *others = chunk.split(b"\n")
        held.append(first)
        if others:
            yield b"".join(held) + b"\n"
            for line in others[:-1]:
                yield line + b"\n"
            held = [others[-1]]
    rest = b"".join(held)
    if rest:
        yield rest


def statements(chunks: Iterable[bytes]) -> Iterator[Statement]:
    """The statements of a SQL file, the last one also without a delimiter."""
    splitter = Splitter()
    for line in lines(chunks):
        yield from splitter.feed(line)
    last = splitter.rest()
    if last is not None:
        yield last


_NAME = rb"(`(?:``|[^`])+`|[\w$]+)"
_CODE = re.compile(rb"\A/\*M?!\d*\s*")
_USE = re.compile(rb"use\s+" + _NAME, re.IGNORECASE)
_WHOLE = re.compile(
    rb"(?:create|drop|alter)\s+(?:database|schema)\b(?:\s+if\s+(?:not\s+)?exists)?\s+" + _NAME, re.IGNORECASE
)
_OF = re.compile(
    rb"(?:insert\s+(?:ignore\s+)?into|replace\s+into|update|delete\s+from|truncate(?:\s+table)?|alter\s+table|"
    rb"create\s+table(?:\s+if\s+not\s+exists)?|drop\s+table(?:\s+if\s+exists)?|rename\s+table)\s+"
    + _NAME
    + rb"\s*\.\s*[`\w$]",
    re.IGNORECASE,
)


def refuse_elsewhere(statement: Statement, place: str, schema: str) -> None:
    """Refused where a statement goes over to another database than ``schema``, changes a table of another, or makes or
    drops a whole one: only this one was dumped."""
    text = _CODE.sub(b"", statement.text)
    whole = _WHOLE.match(text)
    told = whole or _USE.match(text) or _OF.match(text)
    if told is None or (whole is None and told[1].strip(b"`").decode("utf-8", "replace") == schema):
        return
    raise Refused(
        f"this statement is about another database, or the whole of one: {told[0].decode('utf-8', 'replace')}",
        place=Place(place, statement.line),
        hint="a file is run on the one database that it is meant for; take the statement out",
    )
