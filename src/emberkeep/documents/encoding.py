"""Text and the codec that gives its bytes back exactly.

Byte-order mark first, then what an XML declaration says, then UTF-8, then Latin-1, which takes any byte. A codec only
counts when encoding the decoded text returns the very same bytes, so positions in the text stand for positions
in the file and whatever is not edited stays as it was.
"""

from __future__ import annotations

import codecs
import re
from dataclasses import dataclass

_DECLARED = re.compile(rb"""^<\?xml[^>]{0,200}?encoding\s*=\s*["']([A-Za-z][A-Za-z0-9._-]*)["']""")
_BOMS = (
    (codecs.BOM_UTF8, "utf-8"),
    (codecs.BOM_UTF32_LE, "utf-32-le"),
    (codecs.BOM_UTF32_BE, "utf-32-be"),
    (codecs.BOM_UTF16_LE, "utf-16-le"),
    (codecs.BOM_UTF16_BE, "utf-16-be"),
)
BOM = "\ufeff"


@dataclass(frozen=True)
class Text:
    """Decoded text (a byte-order mark stays as its first character), its codec, and the line end it mostly uses."""

    text: str
    codec: str
    newline: str

    def encode(self, text: str) -> bytes:
        """``text`` in this codec. UnicodeEncodeError where it has no such character."""
        return text.encode(self.codec)

    def can_write(self, text: str) -> bool:
        """Whether the codec has every character of ``text``."""
        try:
            text.encode(self.codec)
        except UnicodeEncodeError:
            return False
        return True


def decode(data: bytes) -> Text | None:
    """The text in ``data``; None when these bytes are no text (they hold NUL without being UTF-16 or UTF-32)."""
    for codec in _candidates(data):
        try:
            text = data.decode(codec)
            faithful = text.encode(codec) == data
        except (UnicodeError, LookupError):
            continue
        if faithful and "\0" not in text:
            return Text(text, codec, main_newline(text))
    return None


def _candidates(data: bytes) -> list[str]:
    marked = [codec for mark, codec in _BOMS if data.startswith(mark)]
    if marked:
        return [*marked, "latin-1"]
    declared = _DECLARED.match(data)
    return [*([declared[1].decode("ascii")] if declared else []), "utf-8", "latin-1"]


def main_newline(text: str) -> str:
    """The line end used most; ``\\n`` when there is none."""
    if "\r" not in text:
        return "\n"
    windows = text.count("\r\n")
    unix = text.count("\n") - windows
    mac = text.count("\r") - windows
    if windows > unix and windows >= mac:
        return "\r\n"
    return "\r" if mac > unix and mac > windows else "\n"


def position(text: str, offset: int) -> tuple[int, int]:
    """1-based line and column of an offset in characters."""
    line = text.count("\n", 0, offset) + 1
    return line, offset - (text.rfind("\n", 0, offset) + 1) + 1
