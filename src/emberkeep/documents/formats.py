"""Which format a file has: by what it holds first, by its name second."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from emberkeep.documents import ini, json, properties, xml
from emberkeep.documents.encoding import Text, decode
from emberkeep.documents.model import Document
from emberkeep.errors import UnreadableInput

PROPERTIES_NAMES = (".properties", ".props")
INI_NAMES = (".ini", ".cfg", ".conf")
OTHER_NAMES = (
    ".toml",
    ".json",
    ".yaml",
    ".yml",
    ".md",
    ".log",
    ".sh",
    ".cmd",
    ".bat",
    ".ps1",
    ".sql",
    ".html",
    ".htm",
)

JSON_NAMES = (".json", ".jsonc")

RECORD_FORMATS = ("xml", "json", "properties", "ini")


def format_of(path: str, text: str) -> str:
    """``xml``, ``json``, ``properties``, ``ini`` or ``text`` for the file ``path`` that holds ``text``."""
    name = path.rsplit("/", 1)[-1].lower()
    if name.endswith(".xml") or (xml.looks_like(text) and not name.endswith((".html", ".htm"))):
        return "xml"
    if name.endswith(JSON_NAMES):
        return "json"
    if name.endswith(PROPERTIES_NAMES):
        return "properties"
    if name.endswith(INI_NAMES) or (not name.endswith(OTHER_NAMES) and ini.looks_like(text)):
        return "ini"
    return "text"


class Side(NamedTuple):
    """One side of a file that is compared or merged. ``name``: which one, for messages."""

    name: str
    text: Text
    data: bytes


def parse_sides(path: str, sides: Sequence[Side]) -> tuple[str, list[Document]]:
    """The format in which all sides of a file are read (that of the last but one) and their documents, none for text.

    JSON that is none on some side is only text. UnreadableInput says which side of another format is broken, and where.
    """
    chosen = format_of(path, sides[-2].text.text)
    if chosen not in RECORD_FORMATS:
        return chosen, []
    try:
        return chosen, [_parse_side(path, side, chosen) for side in sides]
    except UnreadableInput:
        if chosen == "json":
            return "text", []
        raise


def _parse_side(path: str, side: Side, chosen: str) -> Document:
    try:
        document = parse_text(path, side.text, side.data, chosen)
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
    return parse_text(path, source, data, as_format or format_of(path, source.text))


def parse_text(path: str, source: Text, data: bytes, chosen: str) -> Document | None:
    """``source`` read as format ``chosen``."""
    if chosen == "xml":
        return xml.parse(source, data, path)
    if chosen == "json":
        return json.parse(source, path)
    if chosen == "properties":
        return properties.parse(source)
    if chosen == "ini":
        return ini.parse(source)
    return None
