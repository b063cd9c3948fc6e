"""Version numbers of a server: found as keep.toml says, by a pattern in names of files and in what they hold."""

from __future__ import annotations

import codecs
import io
import re
import zipfile
from collections.abc import Sequence
from dataclasses import dataclass

from emberkeep.fs import globs
from emberkeep.fs.trees import Kind, Tree, read
from emberkeep.keep.tables.server import VersionSource

VERSION = re.compile(r"(?<![\d.])(\d+(?:\.\d+){1,3})(?![\d.]*\d)")
"""A version number in a text: two to four numbers with dots between."""
LARGEST_ARCHIVE = 64 << 20
"""Bytes of an archive that is looked into."""
LOOKED_AT = 256 * 1024
"""Bytes of a file's beginning in which a pattern is looked for."""


@dataclass(frozen=True)
class Found:
    """A version found. ``where``: the file that told it."""

    name: str
    version: str
    where: str


def find(tree: Tree, sources: Sequence[VersionSource]) -> list[Found]:
    """Every place that tells a version, one row for each file; the same number twice shows they agree."""
    found = []
    for source in sources:
        pattern, within = re.compile(source.pattern), globs.combined(source.within)
        places = sorted(path for path in tree.entries() if within.fullmatch(path))
        for path in places:
            if tree.entries()[path].kind is not Kind.FILE:
                continue
            texts = (text for look in (_name, _beginning, _manifests) if (text := look(tree, path)))
            match = next((match for text in texts if (match := pattern.search(text))), None)
            if match:
                found.append(Found(source.name, match[1], path))
    return found


def _name(tree: Tree, path: str) -> str:
    return path


def _beginning(tree: Tree, path: str) -> str:
    return head(tree, path, LOOKED_AT)


def _manifests(tree: Tree, path: str) -> str:
    """The manifests in an archive; "" for another file."""
    if head(tree, path, 4) != "PK\x03\x04" or tree.entries()[path].size > LARGEST_ARCHIVE:
        return ""
    try:
        with zipfile.ZipFile(io.BytesIO(read(tree, path))) as archive:
            names = [
                info.filename
                for info in archive.infolist()
                if info.filename.endswith(".MF") and info.file_size < LOOKED_AT
            ]
            return "\n".join(archive.read(name).decode("utf-8", "replace") for name in names)
    except (OSError, zipfile.BadZipFile, RuntimeError, ValueError, NotImplementedError):
        return ""


def head(tree: Tree, path: str, limit: int) -> str:
    """The beginning of a file as text, any bytes: UTF-8, or UTF-16 where a byte-order mark says so."""
    data = b""
    for chunk in tree.chunks(path):
        data += chunk[:limit]
        if len(data) >= limit:
            break
    wide = data.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE))
    return data[:limit].decode("utf-16" if wide else "utf-8", "replace")


def ordering(version: str) -> tuple[tuple[int, int | str], ...]:
    """A key that sorts versions as versions: 4.10 behind 4.9, words before numbers."""
    return tuple((1, int(part)) if part.isdigit() else (0, part) for part in re.findall(r"\d+|[A-Za-z]+", version))
