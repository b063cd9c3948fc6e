"""SQL files as MariaDB and MySQL write them, taken apart into statements, each with the line that it begins on.

What the servers' own clients do with them is followed (MariaDB manual, "mariadb Command-Line Client"): ``DELIMITER``
lines, strings with backslashes or doubled quotes, names in backticks, comments ``--``, ``#`` and ``/* */``;
``/*! */`` is no comment but code for some servers.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
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
        self._leading = False
        """Whether the comment that it is inside of stands before a statement."""
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
        if self.between and (delimiter := _DELIMITER.fullmatch(line)):
            self._delimit(delimiter[1])
            return
        at = start = 0
        while at < len(line):
            if self._inside:
                end = _closing(line, at, _ENDS[self._inside])
                if end < 0:
                    break
                at = end
                if self._leading:
                    start = at  # a comment before the statement
                self._inside, self._leading = b"", False
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
                before = line[start : found.start()].strip()
                self._inside, self._leading = token, token == b"/*" and not self._held and not before
        if not self._leading:
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


_PART = re.compile(
    rb"(?P<code>/\*M?!\d*|\*/)"  # what stands in between is code for some servers
    rb"|(?P<comment>/\*.*?\*/|--(?=\s|\Z)[^\n]*|#[^\n]*)"
    rb"|(?P<string>'(?:\\.|''|[^'\\])*'|\"(?:\\.|\"\"|[^\"\\])*\")"
    rb"|(?P<name>`(?:``|[^`])+`|@{0,2}[\w$]+)"
    rb"|(?P<mark>[^\s])",
    re.DOTALL,
)
_VERBS = frozenset((
    "select", "insert", "replace", "update", "delete", "create", "alter", "drop", "truncate", "rename", "set",
    "start", "begin", "commit", "rollback", "savepoint", "release", "lock", "unlock", "with", "analyze",
    "optimize", "check", "repair", "show", "describe", "desc", "explain", "use", "values", "end", "if", "call",
))  # fmt: skip
"""Statements of which it can be told what they change."""
_MADE = frozenset(
    ("table", "view", "index", "trigger", "sequence", "column", "constraint", "key", "procedure", "function")
)
_PASSED = frozenset((
    "or", "replace", "temporary", "unique", "fulltext", "spatial", "online", "offline", "ignore", "definer",
    "algorithm", "undefined", "merge", "temptable", "sql", "security", "invoker", "current_user",
))  # fmt: skip
"""Words between CREATE, ALTER or DROP and what is made."""
_TABLES = frozenset((
    "from", "join", "update", "into", "table", "tables", "truncate", "references", "to", "like", "exists",
    "rename", "trigger", "view", "insert", "replace", "delete", "low_priority", "delayed", "high_priority",
    "quick", "ignore", "only", "straight_join", "call", "procedure", "function",
))  # fmt: skip
"""Words behind which tables are named; until a word of the others comes, behind a comma too."""
_FIELDS = frozenset((
    "select", "set", "where", "values", "value", "group", "order", "having", "by", "limit", "when", "then", "and",
    "or", "returning", "partition", "row", "using",
))  # fmt: skip
_NEVER = (
    ("into", "outfile"), ("into", "dumpfile"), ("set", "global"), ("set", "persist"), ("set", "persist_only"),
    ("set", "password"), ("set", "role"), ("prepare",), ("execute",), ("load_file",), ("sys_exec",), ("sys_eval",),
)  # fmt: skip
"""What reaches beyond any database."""


class _Word(NamedTuple):
    """A part of a statement: a name without its backticks, or a mark; ``quoted``: it is no word of the language."""

    text: str
    quoted: bool
    is_name: bool


def refuse_elsewhere(statement: Statement, place: str, schema: str) -> None:
    """Refused where a statement goes over to another database than ``schema``, names a table of another, makes or drops
    a whole one, or cannot be told to do none of it: only this one was dumped.

    This keeps slips of the pen from doing harm. What keeps harm from being done on purpose is a database user that may
    change this database alone.
    """
    words = list(_words(statement.text))
    found = _whole(words) or _elsewhere(words, schema.lower())
    if found:
        raise Refused(
            f"this statement is about another database, or the whole of one: {found}",
            place=Place(place, statement.line),
            hint="a file is run on the one database that it is meant for; take the statement out",
        )
    strange = _strange(words)
    if strange:
        raise Refused(
            f"what this statement changes cannot be told: {strange}",
            place=Place(place, statement.line),
            hint="take it out of the file, and run it by hand where it is needed",
        )


def _words(text: bytes) -> Iterator[_Word]:
    for found in _PART.finditer(text):
        if found["name"]:
            raw = found["name"].decode("utf-8", "replace")
            quoted = raw.startswith("`")
            yield _Word(raw[1:-1].replace("``", "`") if quoted else raw, quoted, True)
        elif found["mark"]:
            yield _Word(found["mark"].decode("utf-8", "replace"), False, False)
        elif found["string"]:
            yield _Word("''", True, False)


def _keyword(word: _Word) -> str:
    return word.text.lower() if word.is_name and not word.quoted else ""


def _whole(words: Sequence[_Word]) -> str:
    """CREATE, DROP or ALTER of a database, in words; "" for anything else."""
    if not words or _keyword(words[0]) not in ("create", "drop", "alter"):
        return ""
    second = _made(words)
    return f"{_keyword(words[0])} {second}" if second in ("database", "schema") else ""


def _made(words: Sequence[_Word]) -> str:
    """What a CREATE, ALTER or DROP makes, changes or drops."""
    for at, word in enumerate(words[1:], 1):
        if word.text in ("=", "@", "(", ")") or words[at - 1].text in ("=", "@") or word.text == "''":
            continue
        if (found := _keyword(word)) and found not in _PASSED and not found.startswith("@"):
            return found
    return ""


def _elsewhere(words: Sequence[_Word], schema: str) -> str:
    """The first name in a statement that is another database's; "" where all are this one's."""
    if len(words) > 1 and _keyword(words[0]) == "use":
        return "" if words[1].text.lower() == schema else f"use {words[1].text}"
    tables = False
    on_names = _keyword(words[0]) in ("create", "drop", "alter") if words else False
    for at, word in enumerate(words):
        keyword = _keyword(word)
        qualified = _qualified(words, at)
        if qualified and qualified[0].lower() != schema:
            before = words[at - 1] if at else word
            named = tables and (before.text in (",", "(") or _keyword(before) in (*_TABLES, "on"))
            called = at + 3 < len(words) and words[at + 3].text == "(" and not tables
            if named or called or len(qualified) > 2:
                return ".".join(qualified)
        if keyword in _TABLES or (keyword == "on" and on_names):
            tables = True
        elif keyword in _FIELDS or keyword == "on":
            tables = False
    return ""


def _qualified(words: Sequence[_Word], at: int) -> list[str]:
    """The parts of a name with dots that begins here; [] for anything else."""
    if not words[at].is_name or (at and words[at - 1].text == "."):
        return []
    parts = [words[at].text]
    while at + 2 < len(words) and words[at + 1].text == "." and (words[at + 2].is_name or words[at + 2].text == "*"):
        at += 2
        parts.append(words[at].text)
    return parts if len(parts) > 1 and not parts[0].isdigit() and not parts[0].startswith("@") else []


def _strange(words: Sequence[_Word]) -> str:
    """What of a statement is not understood, in its own words; "" where all is."""
    first = next((word for word in words if word.text != "("), None)
    if first is None:
        return ""
    verb = _keyword(first)
    if verb not in _VERBS:
        return first.text
    if verb in ("create", "drop", "alter") and (made := _made(words)) not in _MADE:
        return f"{verb} {made}"
    texts = [_keyword(word) for word in words]
    for never in _NEVER:
        for at in range(len(texts)):
            if tuple(texts[at : at + len(never)]) == never:
                return " ".join(never)
    return next((word.text for word in words if word.text.lower() in ("@@global", "@@persist")), "")
