"""How one file differs, in its own terms: records, rows, members, lines, or byte ranges."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from emberkeep.comparing.ranges import Ranges, changed_ranges
from emberkeep.comparing.records import LINES, Condition, Difference, Kind, compare
from emberkeep.comparing.totals import Totals, totals
from emberkeep.databases import sqlite
from emberkeep.documents import registry
from emberkeep.documents.encoding import Text, decode
from emberkeep.documents.formats.lines import body, matches, split
from emberkeep.documents.identity import Rule
from emberkeep.errors import EmberKeepError, Fault, Place
from emberkeep.fs.folder_tree import FolderTree
from emberkeep.fs.trees import Entry, FileTree, Tree, read
from emberkeep.fs.trees import Kind as EntryKind

LARGEST_DETAIL = 64 << 20
"""Bytes; larger texts are compared by byte ranges."""
SMALL = 1 << 20
"""Bytes; larger files are only summed up when totals are asked for."""
MEMBER = "(member)"
SPELLING = "(spelling)"


@dataclass(frozen=True)
class Terms:
    """A file's difference in its own terms.

    ``format``: a record format, ``sqlite``, ``archive``, ``text``, ``tile`` or ``binary``; ``ranges``: of a binary
    file; ``fault``: why these are not the terms it should have had.
    """

    format: str
    details: tuple[Difference, ...] = ()
    fault: Fault | None = None
    ranges: Ranges | None = None
    totals: tuple[Totals, ...] = ()


@dataclass(frozen=True)
class Asked:
    """What of a file's records is asked for. ``where``: conditions that a record must meet; ``summed``: bytes up to
    which a file's numbers are added up."""

    rules: Mapping[str, Rule]
    where: Sequence[Condition] = ()
    summed: int = SMALL


def in_own_terms(path: str, left: Tree, right: Tree, asked: Asked) -> Terms:
    """Compare the file that stands at ``path`` in both trees. What cannot be read is in the result's ``fault``."""
    try:
        return _terms(path, left, right, asked)
    except EmberKeepError as error:
        return Terms("text", fault=error.faults[0])
    except RecursionError:
        return Terms("text", fault=Fault("records are nested too deeply", Place(path)))


def _terms(path: str, left: Tree, right: Tree, asked: Asked) -> Terms:
    if asked.where:
        return _records_only(path, left, right, asked)
    heads = [next(iter(tree.chunks(path)), b"") for tree in (left, right)]
    if all(sqlite.is_sqlite(head) for head in heads):
        from emberkeep.comparing.rows import compare_databases

        with on_disk(left, path) as first, on_disk(right, path) as second:
            return Terms("sqlite", tuple(compare_databases(first, second, path)))
    if all(_is_archive(path, head) for head in heads):
        from emberkeep.fs.archives import open_archive

        with on_disk(left, path) as first, on_disk(right, path) as second:
            return Terms("archive", tuple(_members(open_archive(first), open_archive(second))))
    if max(tree.entries()[path].size for tree in (left, right)) > LARGEST_DETAIL:
        return _binary(path, left, right)
    data = read(left, path), read(right, path)
    texts = [decode(side) for side in data]
    if texts[0] is None or texts[1] is None:
        return _binary(path, left, right)
    return _texts(path, (texts[0], texts[1]), data, asked)


def _records_only(path: str, left: Tree, right: Tree, asked: Asked) -> Terms:
    """The terms where only certain records are asked for: what has no records says nothing."""
    if max(tree.entries()[path].size for tree in (left, right)) > LARGEST_DETAIL:
        return Terms("binary")
    data = read(left, path), read(right, path)
    texts = [decode(side) for side in data]
    if texts[0] is None or texts[1] is None or registry.format_of(path, texts[1].text) not in registry.RECORD_FORMATS:
        return Terms("text")
    found = _texts(path, (texts[0], texts[1]), data, asked)
    return found if found.format != "text" else Terms("text", fault=found.fault)


def _texts(path: str, texts: tuple[Text, Text], data: tuple[bytes, bytes], asked: Asked) -> Terms:
    sides = [registry.Side(name, text) for name, text in zip(("left", "right"), texts, strict=True)]
    # The right side's format decides, as it is the newer one.
    chosen, documents, fault = registry.parse_sides(path, [sides[1], sides[0]])
    if not documents:
        return Terms("text", tuple(compare_lines(*texts)), fault)
    details = compare(documents[1], documents[0], asked.rules, asked.where)
    if not details and not asked.where:
        details = _spelling(*texts)
    summed = not asked.where and max(map(len, data)) <= asked.summed
    sums = totals(path, documents[1], documents[0], asked.rules) if summed else []
    return Terms(chosen, tuple(details), totals=tuple(sums))


def _binary(path: str, left: Tree, right: Tree) -> Terms:
    return Terms("binary", ranges=changed_ranges(left.chunks(path), right.chunks(path)))


@contextmanager
def on_disk(tree: Tree, path: str) -> Iterator[Path]:
    """A tree's file as one on disk: itself where it is, else unpacked for as long as it is needed."""
    if isinstance(tree, FolderTree):
        yield tree.root / path
    elif isinstance(tree, FileTree):
        yield tree.path
    else:
        with tempfile.TemporaryDirectory(prefix="emberkeep-") as room:
            for each in (path, f"{path}-wal"):  # a database's log belongs to it
                if each in tree.entries():
                    with Path(room, each.rsplit("/", 1)[-1]).open("wb") as file:
                        file.writelines(tree.chunks(each))
            yield Path(room, path.rsplit("/", 1)[-1])


def _is_archive(path: str, head: bytes) -> bool:
    if head.startswith(b"PK\x03\x04"):
        return True
    if not head.startswith((b"\x1f\x8b", b"BZh", b"\xfd7zXZ", b"\x28\xb5\x2f\xfd")) and head[257:262] != b"ustar":
        return False
    from emberkeep.fs.archives import TAR_NAMES  # only where one is met, as is all else of one kind of file alone

    return path.lower().endswith(TAR_NAMES)


def _members(left: Tree, right: Tree) -> Iterator[Difference]:
    """What an archive holds, file by file."""
    lefts, rights = left.entries(), right.entries()
    for path in sorted({*lefts, *rights}):
        first, second = lefts.get(path), rights.get(path)
        if first is not None and second is not None:
            if not _member_differs(path, first, second, left, right):
                continue
            yield Difference(path, MEMBER, Kind.CHANGED, f"{first.size} bytes", f"{second.size} bytes", None)
        elif first is not None and first.kind is not EntryKind.FOLDER:
            yield Difference(path, MEMBER, Kind.REMOVED, f"{first.size} bytes", None, None)
        elif second is not None and second.kind is not EntryKind.FOLDER:
            yield Difference(path, MEMBER, Kind.ADDED, None, f"{second.size} bytes", None)


def _member_differs(path: str, first: Entry, second: Entry, left: Tree, right: Tree) -> bool:
    if (first.kind, first.size, first.points_at) != (second.kind, second.size, second.points_at):
        return True
    return first.kind is EntryKind.FILE and left.digest(path) != right.digest(path)


def _spelling(left: Text, right: Text) -> list[Difference]:
    """What differs when every record says the same: encoding, line ends, spacing."""
    words = []
    if left.codec != right.codec:
        words.append(f"{left.codec} became {right.codec}")
    if left.text.startswith("\ufeff") != right.text.startswith("\ufeff"):
        words.append("the byte-order mark " + ("came" if right.text.startswith("\ufeff") else "went"))
    if left.newline != right.newline:
        names = {"\n": "LF", "\r\n": "CRLF", "\r": "CR"}
        words.append(f"line ends {names[left.newline]} became {names[right.newline]}")
    text = "; ".join(words) or "white space only"
    return [Difference("", SPELLING, Kind.CHANGED, None, text, None)]


def compare_lines(left: Text, right: Text) -> list[Difference]:
    """Differing stretches of lines, each with the lines of both sides."""
    lefts = [body(line) for line in split(left.text)]
    rights = [body(line) for line in split(right.text)]
    found: list[Difference] = []
    a = b = 0
    for match in [*matches(lefts, rights), None]:
        end_a, end_b = (match.left, match.right) if match else (len(lefts), len(rights))
        if a < end_a or b < end_b:
            found.append(_stretch(lefts[a:end_a], rights[b:end_b], b))
        if match:
            a, b = match.left + match.length, match.right + match.length
    return found or _spelling(left, right)


def _stretch(left: list[str], right: list[str], at: int) -> Difference:
    where = f"line {at + 1}" if len(right) <= 1 else f"lines {at + 1}-{at + len(right)}"
    kind = Kind.ADDED if not left else Kind.REMOVED if not right else Kind.CHANGED
    before = "\n".join(left) if left else None
    after = "\n".join(right) if right else None
    return Difference(where, LINES, kind, before, after, at + 1)
