"""Which format a file has: by what it holds first, by its name second."""

from __future__ import annotations

import importlib
import re
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from json import loads
from typing import NamedTuple

from emberkeep.documents.encoding import BOM, Text, decode
from emberkeep.documents.model import Document, UnsupportedStructure
from emberkeep.errors import Fault, UnreadableInput

_BY_NAME = {
    ".json": "json",
    ".jsonc": "json",
    ".yaml": "yaml",
    ".yml": "yaml",
    ".toml": "toml",
    ".properties": "properties",
    ".props": "properties",
    ".ini": "ini",
    ".cfg": "ini",
    ".conf": "ini",
    **dict.fromkeys((".md", ".log", ".sh", ".cmd", ".bat", ".ps1", ".sql", ".html", ".htm"), "text"),
}

RECORD_FORMATS = ("xml", "json", "yaml", "toml", "properties", "ini")


def format_of(path: str, text: str) -> str:
    """One of RECORD_FORMATS, or ``text``, for the file ``path`` that holds ``text``."""
    name = path.rsplit("/", 1)[-1].lower()
    if name.endswith(".xml") or (looks_like_xml(text) and not name.endswith((".html", ".htm"))):
        return "xml"
    known = _BY_NAME.get(name[name.rfind(".") :]) if "." in name else None
    return known or _by_content(text)


def _by_content(text: str) -> str:
    """The format of a text whose name tells nothing."""
    if text.removeprefix(BOM).lstrip()[:1] in ("{", "[") and _reads(loads, text.removeprefix(BOM)):
        return "json"
    if _TOML_VALUE.search(text[:8192]):
        from tomllib import loads as loads_toml  # only where it may be needed

        if _reads(loads_toml, text.removeprefix(BOM).replace("\r\n", "\n")):
            return "toml"
    return "ini" if looks_like_ini(text) else "text"


def _reads(reader: Callable[[str], object], text: str) -> bool:
    try:
        reader(text)
    except (ValueError, RecursionError):
        return False
    return True


def kind_of(path: str, data: bytes) -> str:
    """The format of a file by its bytes; "binary" for what is no text."""
    source = decode(data)
    return format_of(path, source.text) if source else "binary"


_XML = re.compile(
    r"\ufeff?\s*"  # then no grammar
    r"(?!(?:<\?xml[^>]*>\s*|<!--(?:(?!-->).)*-->\s*)*<!(?:ELEMENT|ENTITY|ATTLIST|NOTATION)\b)"
    r"<(?:\?xml|!--|!DOCTYPE|[A-Za-z_])",
    re.DOTALL,
)
_TOML_VALUE = re.compile(r"^[ \t]*(?:\[\[|[\w.-]+[ \t]*=[ \t]*[\"'\[{])", re.MULTILINE)
_SECTION = re.compile(r"\ufeff?[ \t]*\[[^\]\r\n]*\][ \t]*(?:[;#].*)?$")


def looks_like_xml(text: str) -> bool:
    """Whether the text begins as XML does."""
    return _XML.match(text) is not None


def looks_like_ini(text: str) -> bool:
    """Whether a section header stands among the first lines."""
    return any(_SECTION.match(line) for line in text[:8192].splitlines()[:200])


class Side(NamedTuple):
    """One side of a file that is compared or merged. ``name``: which one, for messages."""

    name: str
    text: Text


class Parsed(NamedTuple):
    """The sides of one file read alike. ``documents``: none where it is taken line by line; ``fault``: why, if it
    should have had records."""

    format: str
    documents: list[Document]
    fault: Fault | None = None


def parse_sides(path: str, sides: Sequence[Side]) -> Parsed:
    """All sides of a file, read in the format of the last but one.

    A file that is not well-formed on some side is only text, and the fault says on which, and where.
    """
    chosen = format_of(path, sides[-2].text.text)
    if chosen not in RECORD_FORMATS:
        return Parsed(chosen, [])
    try:
        return Parsed(chosen, [_parse_side(path, side, chosen) for side in sides])
    except UnsupportedStructure as found:
        return Parsed("text", [], Fault(f"it is taken line by line, since it has {found.why}", found.place))
    except UnreadableInput as error:
        return Parsed("text", [], error.faults[0])


def _parse_side(path: str, side: Side, chosen: str) -> Document:
    try:
        document = _document(path, side.text, chosen)
    except UnreadableInput as error:
        first = error.faults[0]
        raise UnreadableInput(f"{first.what} ({side.name})", place=first.place, hint=first.hint) from error
    assert document is not None
    return document


def parse(path: str, data: bytes, *, as_format: str | None = None) -> Document | None:
    """The document in ``data``, or None where the format has no records (plain text, binary).

    ``as_format``: the format another side of the same file has. UnreadableInput says line and column.
    """
    source = decode(data)
    if source is None:
        return None
    try:
        return _document(path, source, as_format or format_of(path, source.text))
    except UnsupportedStructure:
        return None


_Spot = tuple[str, str, Text]


class Shelf(dict[_Spot, Document | None]):
    """Documents by path, format and text. ``held``: characters of all of them."""

    held = 0

    def make_room(self, path: str) -> None:
        """Where more is held than there is room for, let go of all but the file at ``path``."""
        if self.held > ROOM:
            for key in [key for key in self if key[0] != path]:
                del self[key]
            self.held = sum(len(source.text) for _, _, source in self)


_shelf: ContextVar[Shelf | None] = ContextVar("shelf", default=None)


@contextmanager
def read_once(shelf: Shelf | None = None) -> Iterator[None]:
    """Within, what several look at (which release fits, the sides of a merge, the reading back of its result, its
    checks) is read once and kept, as long as there is room: nobody changes a document. One inside of another is part
    of it. ``shelf``: where it is kept, for who reads the same again later."""
    if _shelf.get() is not None:
        yield
        return
    token = _shelf.set(Shelf() if shelf is None else shelf)
    try:
        yield
    finally:
        _shelf.reset(token)


def _document(path: str, source: Text, chosen: str) -> Document | None:
    shelf = _shelf.get()
    if shelf is None:
        return parse_text(path, source, chosen)
    key = (path, chosen, source)
    if key not in shelf:
        shelf.make_room(path)
        shelf[key] = parse_text(path, source, chosen)
        shelf.held += len(source.text)
    return shelf[key]


ROOM = 1 << 19
"""Characters that are kept read; all of the file that is looked at now, whatever its size."""


def check(path: str, data: bytes) -> None:
    """UnreadableInput, with line and column, when a file is not well-formed; quicker than to read it."""
    source = decode(data)
    if source is None:
        return
    if format_of(path, source.text) == "json":
        try:
            loads(source.text.removeprefix(BOM))
        except (ValueError, RecursionError):
            parse(path, data)  # tolerates comments and trailing commas, or says what is wrong
        return
    parse(path, data)


def parse_text(path: str, source: Text, chosen: str) -> Document | None:
    """``source`` read as format ``chosen``."""
    if chosen not in RECORD_FORMATS:
        return None
    # Only the formats that are met are loaded.
    reader = importlib.import_module(f"emberkeep.documents.formats.{chosen}")
    document: Document = reader.parse(source, path)
    return document
