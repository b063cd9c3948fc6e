"""Differences of two trees, file by file, and of each file in its own terms."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass

from blake3 import blake3

from emberkeep.comparing.records import LINES, Difference, Kind, compare
from emberkeep.documents import formats
from emberkeep.documents.encoding import Text, decode
from emberkeep.documents.identity import Rule
from emberkeep.documents.lines import body, matches, split
from emberkeep.errors import EmberKeepError, Fault, Place
from emberkeep.trees import Entry, Tree, read
from emberkeep.trees import Kind as EntryKind

LARGEST_DETAIL = 64 << 20
"""Bytes; larger files are compared by size and hash alone."""


@dataclass(frozen=True)
class FileDifference:
    """One path that differs. ``left``/``right``: its entry there, None where it is missing.

    ``contents``: whether the bytes differ; ``facts``: what else does (mode, time, target, what stands there).
    ``format`` and ``details``: the difference in the file's own terms; ``digests``: BLAKE3 of both sides where that
    is all there is.
    """

    path: str
    kind: Kind
    left: Entry | None
    right: Entry | None
    contents: bool
    facts: tuple[str, ...] = ()
    format: str = ""
    details: tuple[Difference, ...] = ()
    digests: tuple[str, str] = ("", "")
    fault: Fault | None = None


@dataclass(frozen=True)
class TreeDifference:
    """All differences of two trees, sorted by path; ``same``: files that are alike."""

    left: str
    right: str
    files: tuple[FileDifference, ...]
    same: int

    @property
    def faults(self) -> tuple[Fault, ...]:
        """Files that could not be read in their own terms."""
        return tuple(item.fault for item in self.files if item.fault)


Rules = Callable[[str], Mapping[str, Rule]]


def compare_trees(
    left: Tree,
    right: Tree,
    *,
    wanted: Callable[[str], bool] | None = None,
    rules: Rules = lambda path: {},
    times: bool = True,
    details: bool = True,
) -> TreeDifference:
    """Compare two trees. ``times``: whether a different modification time or mode alone counts."""
    lefts, rights = left.entries(), right.entries()
    paths = lefts.keys() | rights.keys()
    found: list[FileDifference] = []
    same = 0
    for path in sorted(path for path in paths if wanted is None or wanted(path)):
        difference = _compare_path(path, left, right, times)
        if difference is None:
            same += lefts[path].kind is not EntryKind.FOLDER
            continue
        found.append(_detailed(difference, left, right, rules(path)) if details else difference)
    return TreeDifference(left.label, right.label, tuple(found), same)


def _compare_path(path: str, left: Tree, right: Tree, times: bool) -> FileDifference | None:
    first, second = left.entries().get(path), right.entries().get(path)
    if first is None or second is None:
        kind = Kind.ADDED if first is None else Kind.REMOVED
        return FileDifference(path, kind, first, second, True)
    facts = _facts(first, second, times)
    contents = _contents_differ(path, first, second, left, right)
    if not facts and not contents:
        return None
    return FileDifference(path, Kind.CHANGED, first, second, contents, facts)


def _facts(left: Entry, right: Entry, times: bool) -> tuple[str, ...]:
    if left.kind is not right.kind:
        return (f"{left.kind.value} became {right.kind.value}",)
    facts = []
    if left.points_at != right.points_at:
        facts.append(f"points at {right.points_at} instead of {left.points_at}")
    if times and left.kind is not EntryKind.LINK and left.mode != right.mode:
        facts.append(f"mode {left.mode:o} became {right.mode:o}")
    if times and left.mtime_ns != right.mtime_ns:
        facts.append("other modification time")
    return tuple(facts)


def _contents_differ(path: str, first: Entry, second: Entry, left: Tree, right: Tree) -> bool:
    if first.kind is not EntryKind.FILE or second.kind is not EntryKind.FILE:
        return False
    return first.size != second.size or left.digest(path) != right.digest(path)


def _detailed(found: FileDifference, left: Tree, right: Tree, rules: Mapping[str, Rule]) -> FileDifference:
    first, second = found.left, found.right
    if not found.contents or first is None or second is None:
        return found
    if first.kind is not EntryKind.FILE or second.kind is not EntryKind.FILE:
        return found
    if max(first.size, second.size) > LARGEST_DETAIL:
        return _with(found, "binary", digests=(left.digest(found.path), right.digest(found.path)))
    try:
        return _in_own_terms(found, read(left, found.path), read(right, found.path), rules)
    except EmberKeepError as error:
        return _with(found, "text", fault=error.faults[0])
    except RecursionError:
        return _with(found, "text", fault=Fault("records are nested too deeply", Place(found.path)))


def _in_own_terms(found: FileDifference, left: bytes, right: bytes, rules: Mapping[str, Rule]) -> FileDifference:
    texts = decode(left), decode(right)
    if texts[0] is None or texts[1] is None:
        return _with(found, "binary", digests=(blake3(left).hexdigest(), blake3(right).hexdigest()))
    sides = [formats.Side("left", texts[0], left), formats.Side("right", texts[1], right)]
    # The right side's format decides, as it is the newer one.
    chosen, documents, fault = formats.parse_sides(found.path, [sides[1], sides[0]])
    if not documents:
        return _with(found, "text", compare_lines(texts[0], texts[1]), fault=fault)
    details = compare(documents[1], documents[0], rules)
    return _with(found, chosen, details or _spelling(texts[0], texts[1]))


def _with(
    found: FileDifference,
    format_name: str,
    details: Iterable[Difference] = (),
    *,
    digests: tuple[str, str] = ("", ""),
    fault: Fault | None = None,
) -> FileDifference:
    return FileDifference(
        found.path,
        found.kind,
        found.left,
        found.right,
        found.contents,
        found.facts,
        format_name,
        tuple(details),
        digests,
        fault,
    )


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
    return [Difference("", "(spelling)", Kind.CHANGED, None, text, None)]


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
