"""Which format a file has: by what it holds first, by its name second."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

from emberkeep.documents import ini, json, properties, toml, xml, yaml
from emberkeep.documents.encoding import Text, decode
from emberkeep.documents.model import Document
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
LINES_WILL_DO = ("json", "yaml", "toml")
"""Formats of which a file that is not well-formed is still worth reading by line."""


def format_of(path: str, text: str) -> str:
    """One of RECORD_FORMATS, or ``text``, for the file ``path`` that holds ``text``."""
    name = path.rsplit("/", 1)[-1].lower()
    if name.endswith(".xml") or (xml.looks_like(text) and not name.endswith((".html", ".htm"))):
        return "xml"
    known = _BY_NAME.get(name[name.rfind(".") :]) if "." in name else None
    return known or ("ini" if ini.looks_like(text) else "text")


class Side(NamedTuple):
    """One side of a file that is compared or merged. ``name``: which one, for messages."""

    name: str
    text: Text
    data: bytes


class Parsed(NamedTuple):
    """The sides of one file read alike. ``documents``: none where it is taken line by line; ``fault``: why, if it
    should have had records."""

    format: str
    documents: list[Document]
    fault: Fault | None = None


def parse_sides(path: str, sides: Sequence[Side]) -> Parsed:
    """All sides of a file, read in the format of the last but one.

    A JSON, YAML or TOML file that is not well-formed on some side is only text, and the fault says where;
    UnreadableInput says which side of another format is broken, and where.
    """
    chosen = format_of(path, sides[-2].text.text)
    if chosen not in RECORD_FORMATS:
        return Parsed(chosen, [])
    try:
        return Parsed(chosen, [_parse_side(path, side, chosen) for side in sides])
    except yaml.Unsuited:
        return Parsed("text", [])
    except UnreadableInput as error:
        if chosen in LINES_WILL_DO:
            return Parsed("text", [], error.faults[0])
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
    try:
        return parse_text(path, source, data, as_format or format_of(path, source.text))
    except yaml.Unsuited:
        return None


def parse_text(path: str, source: Text, data: bytes, chosen: str) -> Document | None:
    """``source`` read as format ``chosen``."""
    readers: dict[str, Callable[[], Document]] = {
        "xml": lambda: xml.parse(source, data, path),
        "json": lambda: json.parse(source, path),
        "yaml": lambda: yaml.parse(source, path),
        "toml": lambda: toml.parse(source, path),
        "properties": lambda: properties.parse(source),
        "ini": lambda: ini.parse(source),
    }
    return readers[chosen]() if chosen in readers else None
