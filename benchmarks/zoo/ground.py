"""A made-up server folder while it is built: every file is written with the facts that are true of it."""

from __future__ import annotations

import hashlib
import os
import random
import re
import uuid
from collections.abc import Iterable
from dataclasses import dataclass, field
from pathlib import Path

DAY = 86_400
NOW = 1_796_000_000
"""Seconds since 1970; the moment at which every folder of the zoo was last played on."""


@dataclass(frozen=True)
class Fact:
    """Something true of a folder. ``kind``: of fact; ``about``: what it is told of; ``expected``: right answers, of which any
    will do; ``paths``: the files that it is about."""

    kind: str
    about: str
    expected: tuple[str, ...]
    paths: tuple[str, ...] = ()


@dataclass(frozen=True)
class Person:
    """Somebody who plays."""

    id: str
    name: str


@dataclass(frozen=True)
class Style:
    """How a folder differs from its family's first one: ``seed`` of the words (0: as they stand in the source), ``join`` and
    ``case`` of words in names, ``decoys``, ``scale`` of sizes, ``alike``: all times the same."""

    seed: int = 0
    join: str = "-"
    case: str = "lower"
    decoys: bool = False
    scale: float = 1.0
    alike: bool = False


_ONSETS = (
    "b",
    "br",
    "d",
    "dr",
    "f",
    "g",
    "gr",
    "h",
    "k",
    "kl",
    "l",
    "m",
    "n",
    "p",
    "pl",
    "r",
    "s",
    "sk",
    "st",
    "t",
    "tr",
    "v",
    "w",
    "z",
)
_VOWELS = ("a", "e", "i", "o", "u", "ai", "ea", "oo")


@dataclass
class Ground:
    """Where a family is built."""

    root: Path
    family: str
    style: Style
    facts: list[Fact] = field(default_factory=list)
    times: dict[str, float] = field(default_factory=dict)
    players: list[Person] = field(default_factory=list)
    _words: dict[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.random = random.Random(f"{self.family} {self.style.seed}")
        self.naming = random.Random(f"words {self.family} {self.style.seed}")

    # --- words -----------------------------------------------------------------

    def word(self, word: str) -> str:
        """An invented word, or the one that stands for it where words are exchanged: always the same, never one for two."""
        if not self.style.seed:
            return word
        while word not in self._words:
            made = "".join(
                self.naming.choice(_ONSETS) + self.naming.choice(_VOWELS) for _ in range(self.naming.choice((2, 3)))
            ) + self.naming.choice("nrlskt")
            if made not in self._words.values():
                self._words[word] = made
        return self._words[word]

    def name(self, words: str, ending: str = "") -> str:
        """A name of several words, joined as the style has it; words in ``<>`` are everybody's and stay."""
        parts = [part[1:-1] if part.startswith("<") else self.word(part) for part in words.split()]
        if self.style.case == "camel":
            return "".join(part[:1].upper() + part[1:] for part in parts) + ending
        return self.style.join.join(parts) + ending

    def text(self, words: str) -> str:
        """A sentence of invented words in ``{}`` and everybody's."""
        return re.sub(r"\{(\w+)\}", lambda found: self.word(found[1]), words)

    def people(self, count: int, kind: str) -> list[Person]:
        """Players with ids: ``uuid``, ``bare`` (a UUID without dashes), ``long`` (17 digits), ``small``, ``hash``, ``name``."""
        made = []
        for at in range(count):
            name = (
                self.naming.choice(_ONSETS)
                + self.naming.choice(_VOWELS)
                + self.naming.choice(_ONSETS)
                + self.naming.choice(_VOWELS)
            ).capitalize() + str(at + 10)
            made.append(Person(self._id(kind, at, name), name))
        return made

    def _id(self, kind: str, at: int, name: str) -> str:
        drawn = self.random.getrandbits(128)
        if kind == "uuid":
            return str(uuid.UUID(int=drawn, version=4))
        if kind == "bare":
            return uuid.UUID(int=drawn, version=4).hex
        if kind == "long":
            return str(31_400_000_000_000_000 + drawn % 10**14)
        if kind == "small":
            return str(1000 + at * 37 + drawn % 30)
        if kind == "hash":
            return hashlib.sha1(str(drawn).encode()).hexdigest()
        return name

    # --- files -----------------------------------------------------------------

    def write(self, path: str, data: bytes | str, days: float = 1.0) -> str:
        """Write a file, last changed so many days ago; its path."""
        file = self.root / path
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_bytes(data.encode() if isinstance(data, str) else data)
        self.times[path] = days
        return path

    def blob(self, kilobytes: float) -> bytes:
        """Bytes that are no text, behind a mark of the family's own."""
        mark = hashlib.sha1(f"{self.family}{self.style.seed}".encode()).digest()[:3]
        return b"\x01" + mark + self.random.randbytes(max(200, int(kilobytes * 1024 * self.style.scale)))

    def run(self, path: str, days: float = 40.0) -> None:
        """Make a file one that may be executed."""
        (self.root / path).chmod(0o755)
        self.times[path] = days

    # --- facts -----------------------------------------------------------------

    def fact(self, kind: str, about: str, *expected: str, paths: Iterable[str] = ()) -> None:
        """Something true."""
        self.facts.append(Fact(kind, about, expected, tuple(paths)))

    def role(self, role: str, *paths: str, about: str = "") -> None:
        """Files have a role; several are right where ``role`` has a stroke."""
        self.fact("role", about or paths[0], *role.split("|"), paths=paths)

    def finish(self) -> None:
        """Set the times of all that was written."""
        for path, days in self.times.items():
            at = NOW - (0 if self.style.alike else days * DAY)
            os.utime(self.root / path, (at, at))
