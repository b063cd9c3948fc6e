"""Which format a file has: by what it holds first, by its name second."""

from __future__ import annotations

from collections.abc import Sequence

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


def shared_format(path: str, sides: Sequence[Text]) -> str:
    """The format in which all sides of a file can be read: that of the last but one, or ``text``.

    JSON that is none on some side is only text; other formats say what is wrong when they are parsed.
    """
    chosen = format_of(path, sides[max(0, len(sides) - 2)].text)
    if chosen == "json":
        try:
            for side in sides:
                json.parse(side, path)
        except UnreadableInput:
            return "text"
    return chosen


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
