"""A merge in one paragraph, to be pasted to the players: what is new, what is gone, what changed, what stays ours."""

from __future__ import annotations

import json
import re
from collections import Counter, defaultdict
from collections.abc import Iterable, Mapping, Sequence

from emberkeep.documents.identity import says_identity
from emberkeep.documents.values import number
from emberkeep.errors import first_of
from emberkeep.keep.tables.updates import NEWS, News
from emberkeep.merging.results import COMMENT, FILE, LINES, RECORD, Change, Merge, What
from emberkeep.show.words import count, escape_control, redact

_NAMED, _SOME = 4, 3
"""Names that are all told; else so many of them."""
_OUR_OWN = ("release", "version", "format")
"""Fields that say which release a file is of: nothing that players see."""
_LABEL = re.compile(r"([^/\[\]]+)\[(?:([^=\[\]]+)=)?((?:[^\]\"]|\"(?:[^\"\\]|\\.)*\")*)\]$")
_VOWEL_Y = re.compile(r"[^aeiou]y$")


_PLAIN = News()


def summary(merge: Merge, news: News = _PLAIN, server: str = "our server") -> str:
    """The paragraph; it says so when nothing changes for the players."""
    taken = [redact(change) for file in merge.files if file.format != "script" for change in file.taken]
    parts = [*_records(taken, What.ADDED, "new"), *_records(taken, What.REMOVED, "gone"), *_values(taken, news.words)]
    if not parts and merge.taken:
        parts = ["small things"]
    orders = Counter(item.order for item in merge.obeyed)
    listed = "; ".join(parts)
    filled = {
        "server": server,
        "news": f"New in this update on {server}: {listed}." if parts else "This update changes nothing you see.",
        "orders": f"Our standing rules hold for what is new as well ({_listed(orders)})." if orders else "",
        "ours": "What we had changed ourselves stays as it was." if merge.kept else "",
        "open": f"{count(len(merge.open), 'thing is', 'things are')} still to be decided." if merge.open else "",
    }
    if news.text != NEWS and parts:
        filled["news"] = f"{listed}."
    return escape_control(" ".join(news.text.format_map(filled).split()))


def _records(taken: Sequence[Change], what: What, word: str) -> list[str]:
    """``3 new goods (rope, lamp-oil and tar)``, for each kind of record that is no part of another."""
    kinds: dict[str, list[str]] = defaultdict(list)
    for change in taken:
        named = _LABEL.search(change.record)
        if change.what is what and change.field == RECORD and named and not _is_part(named):
            kinds[named[1].strip()].append(_name(named[3]))
    found = []
    for kind, names in kinds.items():
        things = _many(kind, len(names))
        counted = f"{len(names)} {word} {things}" if what is What.ADDED else f"{len(names)} {things} {word}"
        found.append(f"{counted}{_among(names)}")
    return found


def _among(names: Sequence[str]) -> str:
    """Names behind a number: all of a few, else some. Numbers name nothing to players."""
    names = [name for name in names if number(name) is None and not name.startswith("#")]
    if not names:
        return ""
    if len(names) <= _NAMED:
        return f" ({_listed(names)})"
    return f", among them {_listed(names[:_SOME])}"


def _is_part(named: re.Match[str]) -> bool:
    """Whether a record has no name of its own, or is told apart within another one by what is hardly a name."""
    inside = named.string[: named.start()].rstrip("/")
    return named[3].startswith("#") or bool(named[2] and _LABEL.search(inside) and not says_identity(named[2]))


def _values(taken: Sequence[Change], words: Mapping[str, tuple[str, str]]) -> list[str]:
    """``6 goods are worth more (rope, …)`` where the field has words; what else changes by its number alone, as players
    do not know what fields are called."""
    in_words: dict[tuple[str, str], list[str]] = defaultdict(list)
    others: dict[str, list[str]] = defaultdict(list)
    for change in taken:
        if change.what is not What.SET or change.field in (RECORD, COMMENT, LINES, FILE):
            continue
        field = change.field.removeprefix("@").rpartition("/")[2]
        named = _LABEL.search(change.record)
        if not named and field in _OUR_OWN:
            continue
        kind = named[1].strip() if named else ""
        meaning = _direction(change, words.get(field))
        name = _name_of(change) if kind else field if meaning else ""
        (in_words[kind, meaning] if meaning else others[kind]).append(name)
    found = []
    for (kind, meaning), names in in_words.items():
        if kind:
            unique = list(dict.fromkeys(names))
            are = "is" if len(unique) == 1 else "are"
            found.append(f"{len(unique)} {_many(kind, len(unique))} {are} {meaning}{_among(unique)}")
        else:
            found.append(meaning)
    for kind, names in others.items():
        unique = list(dict.fromkeys(name for name in names if name))
        if kind:
            found.append(f"{len(unique)} {_many(kind, len(unique))} changed{_among(unique)}")
        else:
            found.append(count(len(names), "setting changed", "settings changed"))
    return found


def _direction(change: Change, words: tuple[str, str] | None) -> str:
    """What a change means to players, where that is told and it is one of numbers."""
    before, after = (number(text) if text is not None else None for text in (change.before, change.after))
    if words is None or before is None or after is None or before == after:
        return ""
    return words[0] if after > before else words[1]


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
