"""A merge in one paragraph, to be pasted to the players: what is new, what is gone, what changed, what stays ours."""

from __future__ import annotations

import json
import re
from collections import Counter, defaultdict
from collections.abc import Iterable, Sequence

from emberkeep.documents.identity import says_identity
from emberkeep.errors import first_of
from emberkeep.merging.results import COMMENT, FILE, LINES, RECORD, Change, Merge, What
from emberkeep.show.words import count, escape_control, redact

_NAMED = 6
_OUR_OWN = ("release", "version", "format")
"""Fields that say which release a file is of: nothing that players see."""
_LABEL = re.compile(r"([^/\[\]]+)\[(?:([^=\[\]]+)=)?((?:[^\]\"]|\"(?:[^\"\\]|\\.)*\")*)\]$")
_VOWEL_Y = re.compile(r"[^aeiou]y$")


def summary(merge: Merge) -> str:
    """The paragraph; it says so when nothing changes for the players."""
    taken = [redact(change) for file in merge.files if file.format != "script" for change in file.taken]
    parts = [*_records(taken, What.ADDED, "{} new {}"), *_records(taken, What.REMOVED, "{} {} gone")]
    parts += _values(taken)
    if not parts:
        parts = ["other small things"] if merge.taken else []
    text = f"New in this update on our server: {'; '.join(parts)}." if parts else "This update changes nothing you see."
    orders = Counter(item.order for item in merge.obeyed)
    if orders:
        text += f" Our standing rules hold for what is new as well ({_listed(orders)})."
    if merge.kept:
        text += " What we had changed ourselves stays as it was."
    if merge.open:
        text += f" {count(len(merge.open), 'thing is', 'things are')} still to be decided."
    return escape_control(text)


def _records(taken: Sequence[Change], what: What, words: str) -> list[str]:
    """``3 new goods (rope, lamp-oil, tar)``, for each kind of record that is no part of another."""
    kinds: dict[str, list[str]] = defaultdict(list)
    for change in taken:
        named = _LABEL.search(change.record)
        if change.what is what and change.field == RECORD and named and not _is_part(named):
            kinds[named[1].strip()].append(_name(named[3]))
    return [f"{words.format(len(names), _many(kind, len(names)))} ({_listed(names)})" for kind, names in kinds.items()]


def _is_part(named: re.Match[str]) -> bool:
    """Whether a record has no name of its own, or is told apart within another one by what is hardly a name."""
    inside = named.string[: named.start()].rstrip("/")
    return named[3].startswith("#") or bool(named[2] and _LABEL.search(inside) and not says_identity(named[2]))


def _values(taken: Sequence[Change]) -> list[str]:
    """``the worth of 24 goods changes``, for each field of each kind; a few by name."""
    kinds: dict[tuple[str, str], list[Change]] = defaultdict(list)
    for change in taken:
        if change.what is What.SET and change.field not in (RECORD, COMMENT, LINES, FILE):
            named = _LABEL.search(change.record)
            kinds[named[1] if named else "", change.field.removeprefix("@")].append(change)
    found = []
    for (kind, field), changes in kinds.items():
        if not kind:
            shown = [change for change in changes if field not in _OUR_OWN and len(str(change.after)) <= 40]
            found += [f"{field} is now {change.after}" for change in shown]
            continue
        names = [name for change in changes if not (name := _name_of(change)).startswith("#")]
        if len(names) == len(changes) <= 2:
            found += [f"{field} of {name} is now {change.after}" for name, change in zip(names, changes, strict=True)]
        else:
            told_of = f" ({_listed(names)})" if names else ""
            found.append(f"the {field} of {len(changes)} {_many(kind, len(changes))} changes{told_of}")
    return found


def _name_of(change: Change) -> str:
    named = _LABEL.search(change.record)
    return _name(named[3]) if named else change.record


def _name(text: str) -> str:
    try:
        return str(json.loads(text)) if text.startswith('"') else text
    except ValueError:
        return text


def _many(kind: str, number: int) -> str:
    if number == 1 or kind.endswith("s"):
        return kind
    if kind.endswith(("ch", "sh", "x", "z")):
        return kind + "es"
    return kind[:-1] + "ies" if _VOWEL_Y.search(kind) else kind + "s"


def _listed(names: Iterable[str]) -> str:
    listed = list(names)
    if len(listed) > _NAMED:
        return first_of(listed, _NAMED)
    return f"{', '.join(listed[:-1])} and {listed[-1]}" if len(listed) > 1 else "".join(listed)
