"""What always holds in the vendor's releases, learned from them, and where merged files break it.

Learned for each list of records of a file, each with its support (records it was seen to hold in): a field is always
there; is always a number, a whole one, or never below zero; one number never exceeds another; a field knows few
words; a record's identity is unique; what a field names stands in another list. A rule counts only while it holds in
every release that has the list. Where the admin's values or the vendor's own break none of them, nothing is said.
"""

from __future__ import annotations

import itertools
import re
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from fnmatch import fnmatchcase

from emberkeep.documents.values import is_whole, number, unquoted
from emberkeep.merging.results import MERGED, VENDORS, YOURS, Breach, Check


@dataclass(frozen=True)
class Strictness:
    """How often something must have been seen to count as a rule. ``support``: records, for rules about one field;
    ``wide``: for rules that hold by chance more easily; ``each``: records for each word of a vocabulary."""

    support: int = 12
    wide: int = 30
    each: int = 2


STRICT = Strictness()
LOOSE = Strictness(1, 1, 1)
""":data:`LOOSE`, on some of a file's records, learns every rule that :data:`STRICT` learns on all, and more."""
_MOST_WORDS = 12
_PAIRED = re.compile(r"min|max|least|most|low|high|from|to|start|end|lower|upper|first|last|floor|cap", re.IGNORECASE)


@dataclass(frozen=True)
class Record:
    """A record's plain values, its name in reports and among its siblings, and the name of what it stands in."""

    record: str
    name: str
    parent: str
    values: Mapping[str, str]


Table = dict[str, list[Record]]
"""The records of one file by the list they stand in."""
FileRow = Callable[[Record], str]
"""What is wrong with a record, in words; "" when nothing is."""


@dataclass
class Learned:
    """The checks learned from some releases."""

    checks: list[tuple[Check, FileRow]] = field(default_factory=list)
    unique: list[Check] = field(default_factory=list)
    references: list[tuple[Check, str, str, str]] = field(default_factory=list)
    """Check, field, and the file and list that the field's values stand in."""


def learn(releases: Sequence[Mapping[str, Table]], strict: Strictness = STRICT) -> Learned:
    """What always holds in ``releases``: tables by file, each release with those it ships."""
    found = Learned()
    for path in dict.fromkeys(itertools.chain.from_iterable(releases)):
        tables = [release[path] for release in releases if path in release]
        for name in dict.fromkeys(itertools.chain.from_iterable(tables)):
            groups = [table[name] for table in tables if name in table]
            if len(groups[-1]) < strict.support:
                continue
            about = _About(path, name, len(groups[-1]))
            found.checks += _of_list(about, groups, strict)
            if not any(_repeated(group) for group in groups):
                found.unique.append(about.check("is unique"))
    found.references = list(_references(releases))
    return found


@dataclass(frozen=True)
class _About:
    """The list that checks are about, and how many records the newest release has there."""

    file: str
    list: str
    support: int

    def check(self, words: str) -> Check:
        return Check(f"{self.file}: {self.list.rpartition('/')[2]} {words}", self.file, self.list, self.support)


def _of_list(about: _About, groups: Sequence[Sequence[Record]], strict: Strictness) -> Iterator[tuple[Check, FileRow]]:
    """Rules about single records that hold in every group."""
    every = list({id(record): record for group in groups for record in group}.values())
    present = Counter(itertools.chain.from_iterable(record.values for record in every))
    for each, count in present.items():
        if count == len(every):
            yield about.check(f"has {each}"), _required(each)
        values = [record.values[each] for record in every if each in record.values]
        if len(values) >= strict.support:
            yield from ((about.check(words), held) for words, held in _of_values(each, values, strict))
    numeric = {
        each: numbers
        for each, count in present.items()
        if count >= strict.wide and (numbers := _numbers(every, each)) is not None
    }
    for (low, lows), (high, highs) in itertools.permutations(numeric.items(), 2):
        if _ordered(low, lows, high, highs, strict):
            yield about.check(f"{low} <= {high}"), _not_above(low, high)


def _numbers(records: Sequence[Record], name: str) -> list[Decimal | None] | None:
    """A field of all records as numbers, None for a record without it; None when one holds no number."""
    found: list[Decimal | None] = []
    for record in records:
        text = record.values.get(name)
        value = None if text is None else number(text)
        if text is not None and value is None:
            return None
        found.append(value)
    return found


def _required(name: str) -> FileRow:
    return lambda record: "" if name in record.values else f"lacks {name}"


def _of_values(name: str, values: Sequence[str], strict: Strictness) -> Iterator[tuple[str, FileRow]]:
    numbers = [number(value) for value in values]
    if all(value is not None for value in numbers):
        if all(is_whole(value) for value in values):
            yield f"{name} is a whole number", _tested(name, _is_whole, "is no whole number")
        else:
            yield f"{name} is a number", _tested(name, lambda text: number(text) is not None, "is no number")
        if len(values) >= strict.wide and all(value >= 0 for value in numbers if value is not None):
            yield f"{name} >= 0", _tested(name, _not_negative, "is below zero")
        return
    words = Counter(values)
    if len(values) >= strict.wide and _is_vocabulary(words, strict):
        known = ", ".join(sorted(words))
        yield f"{name} is a known word", _tested(name, words.__contains__, f"is none of {known}")


def _is_vocabulary(words: Counter[str], strict: Strictness) -> bool:
    """Few words, each one a word and not a sentence, each met again."""
    few = len(words) <= _MOST_WORDS and (len(words) > 1 or strict is LOOSE)
    return few and all(_WORD.fullmatch(word) for word in words) and min(words.values()) >= strict.each


_WORD = re.compile(r"\S{1,32}")


def _is_whole(text: str) -> bool:
    return number(text) is not None and is_whole(text)


def _not_negative(text: str) -> bool:
    value = number(text)
    return value is None or value >= 0


def _tested(name: str, good: Callable[[str], bool], words: str) -> FileRow:
    def held(record: Record) -> str:
        value = record.values.get(name)
        return "" if value is None or good(value) else f"{name} is {value or 'empty'}, which {words}"

    return held


def _ordered(
    low: str, lows: Sequence[Decimal | None], high: str, highs: Sequence[Decimal | None], strict: Strictness
) -> bool:
    """Whether one number never exceeds another, and that is hardly chance: their names say so, or they often meet."""
    ordered = meeting = 0
    for one, other in zip(lows, highs, strict=True):
        if one is None or other is None:
            continue
        if one > other:
            return False
        ordered += 1
        meeting += one == other
    if strict is LOOSE:
        return ordered > 0
    if ordered < strict.wide or meeting == ordered:
        return False
    return bool(_PAIRED.search(low) or _PAIRED.search(high)) or meeting >= max(3, ordered // 20)


def _both(record: Record, low: str, high: str) -> tuple[Decimal, Decimal] | None:
    one, other = number(record.values.get(low, "")), number(record.values.get(high, ""))
    return None if one is None or other is None else (one, other)


def _not_above(low: str, high: str) -> FileRow:
    def held(record: Record) -> str:
        pair = _both(record, low, high)
        return "" if pair is None or pair[0] <= pair[1] else f"{low} {pair[0]} is above {high} {pair[1]}"

    return held


def _repeated(records: Iterable[Record]) -> list[Record]:
    """Records that share their parent and name with one before."""
    seen: set[tuple[str, str]] = set()
    found = []
    for record in records:
        key = (record.parent, record.name)
        if key in seen:
            found.append(record)
        seen.add(key)
    return found


def _references(releases: Sequence[Mapping[str, Table]]) -> Iterator[tuple[Check, str, str, str]]:
    """Fields whose values always stand among the names of another list's records."""
    if not releases:
        return
    names = [
        {
            (path, name): {record.name for record in records}
            for path, table in release.items()
            for name, records in table.items()
        }
        for release in releases
    ]
    newest = releases[-1]
    for path, table in newest.items():
        for name, records in table.items():
            for each in dict.fromkeys(itertools.chain.from_iterable(record.values for record in records)):
                values = [_values_of(release, path, name, each) for release in releases]
                if not _may_refer(values[-1]):
                    continue
                suited = [
                    (len(names[-1][there]), there)
                    for there in names[-1]
                    if there != (path, name)
                    and all(set(used) <= known.get(there, set()) for used, known in zip(values, names, strict=True))
                ]
                if suited:
                    _, (file, where) = min(suited)
                    words = f"{path}: {each} of {name.rpartition('/')[2]} stands in {file}"
                    yield Check(words, path, name, len(values[-1])), each, file, where


def _values_of(release: Mapping[str, Table], path: str, name: str, each: str) -> list[str]:
    records = release.get(path, {}).get(name, [])
    return [unquoted(record.values[each]) for record in records if each in record.values]


def _may_refer(values: Sequence[str]) -> bool:
    return (
        len(values) >= STRICT.support and len(set(values)) >= 3 and all(number(value) is None for value in set(values))
    )


# --- looking at merged files -----------------------------------------------------


@dataclass(frozen=True)
class Sides:
    """The files that are looked at, by path, as they will be; and how to see a record as the admin has it, as the
    vendor ships it, and in which line (1-based) it will stand."""

    merged: Mapping[str, Table]
    mine: Callable[[str, str], Record | None]
    new: Callable[[str, str], Record | None]
    line: Callable[[str, str], int]


def breaches(learned: Learned, sides: Sides, silenced: Sequence[str] = ()) -> tuple[Breach, ...]:
    """Where the merged files break what was learned."""
    found = itertools.chain(_broken(learned, sides), _dangling(learned, sides))
    return tuple(breach for breach in found if not any(fnmatchcase(breach.check.name, glob) for glob in silenced))


def _broken(learned: Learned, sides: Sides) -> Iterator[Breach]:
    for check, held in learned.checks:
        for record in sides.merged.get(check.file, {}).get(check.list, []):
            if what := held(record):
                yield _breach(check, record, what, sides, held)
    for check in learned.unique:
        for record in _repeated(sides.merged.get(check.file, {}).get(check.list, [])):
            yield _breach(check, record, "stands there twice", sides)


def _dangling(learned: Learned, sides: Sides) -> Iterator[Breach]:
    for check, name, file, where in learned.references:
        if file not in sides.merged:
            continue
        known = {record.name for record in sides.merged[file].get(where, [])}
        for record in sides.merged.get(check.file, {}).get(check.list, []):
            value = record.values.get(name)
            if value is not None and unquoted(value) not in known:
                yield _breach(check, record, f"{name} is {value}, which does not stand in {file}", sides)


def _breach(check: Check, record: Record, what: str, sides: Sides, held: FileRow | None = None) -> Breach:
    """``held`` tells whether the record was as wrong on one side already; else the side with its values brought it."""

    def has_it(side: Record | None) -> bool:
        return side is not None and (bool(held(side)) if held else side.values == record.values)

    yours, theirs = (has_it(find(check.file, record.record)) for find in (sides.mine, sides.new))
    side = MERGED if yours == theirs else YOURS if yours else VENDORS
    return Breach(check, record.record, what, side, sides.line(check.file, record.record))
