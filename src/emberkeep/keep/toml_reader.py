"""Reading TOML files of ours: all faults at once, each with its line and dotted path."""

from __future__ import annotations

import re
import string
import tomllib
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import timedelta
from pathlib import Path
from typing import Any, cast

from emberkeep.errors import Fault, Place, UnreadableInput, did_you_mean, reason
from emberkeep.fs import globs

_AT = re.compile(r" \(at (?:line (\d+), column (\d+)|end of document)\)$")
_HEADER = re.compile(r"^\s*\[\[?\s*([^\]]+?)\s*\]\]?")
_KEY = re.compile(r"""^\s*((?:"[^"]*"|'[^']*'|[\w-]+)(?:\s*\.\s*(?:"[^"]*"|'[^']*'|[\w-]+))*)\s*=""")
_PART = re.compile(r""""([^"]*)"|'([^']*)'|([\w-]+)""")


TEXT = "text in quotes"


def load(path: Path) -> tuple[dict[str, Any], str]:
    """The document in ``path`` and its text. UnreadableInput says file, line and column."""
    try:
        text = path.read_text(encoding="utf-8")
    except OSError as error:
        raise UnreadableInput(f"cannot read {path}: {reason(error)}") from error
    except UnicodeDecodeError as error:
        raise UnreadableInput("this file is not UTF-8", place=Place(str(path))) from error
    return parsed(text, str(path)), text


def parsed(text: str, name: str) -> dict[str, Any]:
    """The document in ``text``, called ``name`` in messages. UnreadableInput says line and column."""
    _check_keys(text, name)
    try:
        return tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        message = str(error)
        found = _AT.search(message)
        line = int(found[1]) if found and found[1] else text.count("\n") + 1
        column = int(found[2]) if found and found[2] else None
        what = f"not valid TOML: {_AT.sub('', message)}"
        raise UnreadableInput(what, place=Place(name, line, column)) from error
    except RecursionError as error:
        raise UnreadableInput("not valid TOML: nested too deeply", place=Place(name)) from error


MOST_PARTS = 200
"""Parts of a dotted key; reading one takes time by the square of them."""
_LONG_KEY = re.compile(rf"""[\[ \t]*(?:(?:[\w-]+|"[^"]*"|'[^']*')[ \t]*\.[ \t]*){{{MOST_PARTS}}}""")


def _check_keys(text: str, name: str) -> None:
    if text.count(".") <= MOST_PARTS:
        return
    for number, line in enumerate(text.split("\n"), 1):
        if line.count(".") > MOST_PARTS and _LONG_KEY.match(line):
            raise UnreadableInput(f"a key of more than {MOST_PARTS} parts", place=Place(name, number, 1))


def quote(text: str) -> str:
    """``text`` as a TOML basic string."""
    escapes = {"\\": "\\\\", '"': '\\"', "\n": "\\n", "\t": "\\t", "\r": "\\r"}
    return (
        '"'
        + "".join(
            escapes.get(char) or (f"\\u{ord(char):04X}" if ord(char) < 32 or char == "\x7f" else char) for char in text
        )
        + '"'
    )


def line_of(text: str, path: tuple[str, ...]) -> int | None:
    """The 1-based line where the dotted ``path`` (or the nearest table around it) is written."""
    table: tuple[str, ...] = ()
    best: tuple[int, int | None] = (0, None)
    for number, line in enumerate(text.splitlines(), 1):
        if header := _HEADER.match(line):
            table = parts_of(header[1])
            here = table
        elif key := _KEY.match(line):
            here = table + parts_of(key[1])
        else:
            continue
        common = len(here) if here == path[: len(here)] else 0
        if common > best[0]:
            best = (common, number)
    return best[1]


def parts_of(dotted: str) -> tuple[str, ...]:
    """The parts of a dotted key."""
    return tuple(a or b or c for a, b, c in _PART.findall(dotted))


_SECONDS = {"s": 1, "min": 60, "hour": 3600, "hours": 3600, "day": 86400, "days": 86400}
_DURATION = re.compile(r"(\d+(?:\.\d+)?) ?(s|min|hours?|days?)")


def duration(text: str) -> timedelta | None:
    """A length of time as ``"90 min"``; None when it is none."""
    found = _DURATION.fullmatch(text.strip())
    return timedelta(seconds=float(found[1]) * _SECONDS[found[2]]) if found else None


def faulty_template(text: str, known: Collection[str]) -> str:
    """What is wrong with a text with placeholders; "" when nothing is."""
    try:
        names = [(name, spec, change) for _, name, spec, change in string.Formatter().parse(text) if name is not None]
    except ValueError as error:
        return f"the braces in it make no sense: {error}"
    odd = [name for name, spec, change in names if name not in known or spec or change]
    return f"there is no placeholder {{{odd[0]}}}" if odd else ""


@dataclass(frozen=True)
class Ask:
    """What a reader asked a table for. ``what``: the type in words, as "a number"; ``default``: where the key is
    missing; ``choices``: the texts that it may hold, () for any; ``chosen``: whether the admin chose the key's name."""

    what: str
    kind: type | tuple[type, ...]
    default: object = None
    choices: tuple[str, ...] = ()
    required: bool = False
    chosen: bool = False


Asked = dict[tuple[str, ...], list[Ask]]
"""All that readers asked for, by path."""
LENGTH_OF_TIME = "a length of time"


@dataclass
class Reader:
    """A table of a TOML document being checked; faults gather in the list that all sub-readers share."""

    file: str
    text: str
    table: Mapping[str, Any]
    path: tuple[str, ...] = ()
    faults: list[Fault] = field(default_factory=list)
    line: int | None = None
    """Where this table begins, for those of an array, which their paths do not tell apart."""
    asked: Asked | None = None
    """Where what is asked for is noted, for whoever wants to know what there is to tell."""
    _used: set[str] = field(default_factory=set)
    _chosen: bool = False

    def fault(self, key: str, what: str, hint: str = "") -> None:
        """Note that something is wrong with ``key`` of this table."""
        path = (*self.path, key) if key else self.path
        dotted = ".".join(part if re.fullmatch(r"[\w-]+", part) else quote(part) for part in path)
        line = self._line(path)
        self.faults.append(Fault(f"{dotted}: {what}" if dotted else what, Place(self.file, line), hint))

    def _line(self, path: tuple[str, ...]) -> int | None:
        if self.line is None:
            return line_of(self.text, path)
        below = "\n".join(self.text.splitlines()[self.line - 1 :])
        found = line_of(below, path)
        return self.line - 1 + found if found else self.line

    def has(self, *keys: str) -> bool:
        """Whether any of ``keys`` is there; all of them are known ones."""
        self._used.update(keys)
        return any(key in self.table for key in keys)

    def get(self, key: str, kind: type | tuple[type, ...], what: str, default: object = None) -> Any:
        """The value of ``key`` if it has the right type; else a fault and ``default``. Missing: ``default``."""
        self._note(key, Ask(what, kind, default))
        value = self.table.get(key, default)
        if value is default:
            return default
        if not isinstance(value, kind) or (isinstance(value, bool) and kind is int):
            self.fault(key, f"should be {what}")
            return default
        return value

    def string(self, key: str, default: str = "") -> str:
        """A text value."""
        return cast(str, self.get(key, str, TEXT, default))

    def choice(self, key: str, choices: Sequence[str], default: str, hint: str = "") -> str:
        """A text that is one of ``choices``; ``default`` where it is missing or another."""
        self._note(key, Ask(TEXT, str, default, tuple(choices)))
        found = self.string(key, default)
        if found == default or found in choices:
            return found
        known = f"one of {', '.join(choices)}"
        self.fault(key, f"'{found}' is no choice here", hint or did_you_mean(found, choices, known))
        return default

    def time(self, key: str, default: timedelta) -> timedelta:
        """A length of time, more than nothing; ``default`` where it is missing."""
        found = self.optional_time(key, default)
        return found or default

    def optional_time(self, key: str, default: timedelta | None = None) -> timedelta | None:
        """The same, which may be missing."""
        self._note(key, Ask(LENGTH_OF_TIME, str, default))
        if key not in self.table:
            return default
        text = self.string(key)
        found = duration(text)
        if found is None:
            self.fault(key, f"'{text}' is no length of time", 'as "30 s", "90 min" or "2 hours"')
            return default
        return found

    def times(self, key: str) -> tuple[timedelta, ...]:
        """A list of lengths of time, longest first."""
        self._note(key, Ask("a list of lengths of time", list, []))
        found = [duration(text) for text in self.strings(key)]
        if None in found:
            self.fault(key, "should hold lengths of time", 'as ["1 hour", "15 min", "30 s"]')
        return tuple(sorted((time for time in found if time is not None), reverse=True))

    def required(self, key: str) -> str:
        """A text value that must be there and not be empty."""
        self._note(key, Ask(TEXT, str, required=True))
        if key not in self.table:
            self.fault("", f"lacks the key '{key}'")
            return ""
        value = self.string(key)
        if not value:
            self.fault(key, "should not be empty")
        elif key == "name" and not value.isprintable():
            self.fault(key, "should be one line, without control characters")
        return value

    def strings(self, key: str) -> tuple[str, ...]:
        """A list of texts."""
        value = self.get(key, list, "a list of texts", [])
        if not all(isinstance(item, str) for item in value):
            self.fault(key, "should hold only texts")
            return ()
        return tuple(value)

    def pattern(self, key: str, groups: int | None = None) -> str:
        """A regular expression; ``groups``: how many it must have, where that matters."""
        self._note(key, Ask("a regular expression", str, ""))
        found = self.string(key)
        try:
            there = re.compile(found).groups
        except re.error as error:
            self.fault(key, f"not a regular expression: {error}")
            return found
        if found and groups is not None and there != groups:
            self.fault(key, f"should have one group in ( ) around the version, has {there}")
        return found

    def template(self, key: str, known: Collection[str]) -> str:
        """A text with placeholders, each of which must be known."""
        text = self.string(key)
        wrong = faulty_template(text, known)
        if wrong:
            self.fault(key, wrong, f"known: {' '.join('{' + name + '}' for name in known)}; {{{{ and }}}} are braces")
        return text

    def sub(self, key: str) -> Reader:
        """The table under ``key``, empty when it is missing."""
        return self._reader(self.get(key, dict, "a table", {}), key)

    def subs(self, key: str) -> list[Reader]:
        """The tables of the array of tables ``key``."""
        value = self.get(key, list, "an array of tables", [])
        if not all(isinstance(item, dict) for item in value):
            self.fault(key, "should be an array of tables")
            return []
        return [self._reader(item, key) for item in value]

    def items(self) -> Iterable[tuple[str, Reader]]:
        """Every key of this table, each of which must be a table itself."""
        return [(key, self.sub(key)) for key in self.names()]

    def names(self) -> Iterator[str]:
        """The keys of this table, all of which the admin has chosen."""
        self._chosen = True
        return iter(self.table)

    def _note(self, key: str, ask: Ask) -> None:
        self._used.add(key)
        if self.asked is not None:
            self.asked.setdefault((*self.path, key), []).append(replace(ask, chosen=self._chosen))

    def _reader(self, table: Mapping[str, Any], key: str) -> Reader:
        return Reader(self.file, self.text, table, (*self.path, key), self.faults, self.line, self.asked)

    def no_others(self, *further: str) -> None:
        """Every key not asked for so far, nor in ``further``, is a fault, with the nearest known one."""
        known = sorted(self._used.union(further))
        for key in self.table:
            if key not in known:
                self.fault(key, "unknown key", did_you_mean(key, known, f"known: {', '.join(known)}"))

    def check_glob(self, key: str, pattern: str) -> None:
        """Note where ``pattern``, told under ``key``, is no pattern of paths within the server folder."""
        if pattern.startswith(("/", "\\")) or ".." in re.split(r"[/\\]", pattern) or re.match(r"[A-Za-z]:", pattern):
            self.fault(key, f"'{pattern}' leads out of the server folder")
            return
        try:
            globs.compiled(pattern)
        except re.error as error:
            self.fault(key, f"'{pattern}' is no pattern: {error}")

    def raise_if_faulty(self) -> None:
        """One UnreadableInput for all faults found."""
        if self.faults:
            raise UnreadableInput.gathered(tuple(self.faults))
