"""What a merge found, as values: what it takes from the vendor, what it keeps of the admin, what it asks."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum

from emberkeep.documents.values import kinds
from emberkeep.errors import Fault, first_of

RECORD = "(record)"
FILE = "(file)"
LINES = "(lines)"
COMMENT = "(comment)"
ORDER = "(order)"
"""Names that stand in ``field`` where a whole thing is meant instead of one value."""

MINE, NEW, OLD, TYPED = "mine", "new", "old", "="
BOTH = "both"
"""Of lines: the admin's, and behind them the vendor's."""
RULE = "rule"
"""What ``by`` begins with where a rule of keep.toml gave the answer."""


def typed_value(answer: str) -> str:
    """The value in an answer like ``= 55``."""
    return answer.removeprefix(TYPED).strip()


def typed_lines(answer: str) -> str:
    """The lines in such an answer, their indentation with them: only one space behind the sign is none of it."""
    return answer.removeprefix(TYPED).removeprefix(" ")


def out_of_kind(question: Question, answer: str) -> str:
    """What all values of a question are, where a typed one is no such thing: "a whole number"; else ""."""
    if question.field in (RECORD, FILE, LINES, ORDER) or not answer.startswith(TYPED):
        return ""
    known = [value for value in (question.old, question.mine, question.new) if value is not None]
    return next((kind for kind in kinds(known) if kind not in kinds([typed_value(answer)])), "")


@dataclass(frozen=True)
class Question:
    """A place where the vendor and the admin changed the same thing differently.

    ``old``, ``mine``, ``new``: the three values as written, None where one side has none. ``answer``: ``mine``,
    ``new``, ``old``, ``both``, ``= value``, or empty while it is open; ``by``: where the answer came from. ``line``:
    in the admin's file, 1-based. ``suggestion``: how a question that differed only in numbers was answered before.
    ``renamed``: what a record that is missing on one side may be called there; ``= NAME`` says that it is.
    """

    file: str
    record: str
    field: str
    old: str | None
    mine: str | None
    new: str | None
    answer: str = ""
    by: str = ""
    line: int | None = None
    why: str = ""
    suggestion: str = ""
    renamed: str = ""

    @property
    def open(self) -> bool:
        """True until it is answered; the admin's value stays meanwhile."""
        return not self.answer


class What(StrEnum):
    """What happened to one thing."""

    SET = "set"
    ADDED = "added"
    REMOVED = "removed"
    MOVED = "moved"


@dataclass(frozen=True)
class Change:
    """One difference. Taken from the vendor: ``before`` is the admin's value and ``after`` the new one.

    Kept of the admin: ``before`` is the old default and ``after`` the admin's value. ``line``: in the admin's file.
    """

    file: str
    record: str
    field: str
    what: What
    before: str | None
    after: str | None
    line: int | None = None


@dataclass(frozen=True)
class Obeyed:
    """A value of the new defaults that an order changed, or a record it left out (``after`` None)."""

    file: str
    record: str
    field: str
    before: str
    after: str | None
    order: str


@dataclass(frozen=True)
class Disagreement:
    """A value that several orders want to be different things; none of them was applied to it."""

    file: str
    record: str
    field: str
    orders: tuple[str, ...]


YOURS, VENDORS, MERGED = "yours", "the vendor's", "the merge"


@dataclass(frozen=True)
class Check:
    """Something that always holds. ``name``: how it is silenced; ``support``: records it held in."""

    name: str
    file: str
    list: str
    support: int


@dataclass(frozen=True)
class Breach:
    """A record of the merged files that breaks a check. ``side``: who brought the values that do; ``line``: in the
    merged file, 1-based."""

    check: Check
    record: str
    what: str
    side: str
    line: int


class Outcome(StrEnum):
    """What becomes of a file."""

    SAME = "same"
    MERGED = "merged"
    ADDED = "added"
    REMOVED = "removed"
    FAULTY = "faulty"


@dataclass(frozen=True)
class FileMerge:
    """One file of a merge. ``data``: the bytes to write (None: none, or the file goes); ``format``: how it was read;
    ``database``: the one whose table this is, told as XML of these ``columns`` (see ``databases.tables``);
    ``based_on``: BLAKE3 of the admin's file as it was read (hex), None where there was none; ``obeyed``: what standing
    orders set; ``met``: names of those that met a record; ``warnings``: why it was read by line although its format
    has records.
    """

    path: str
    outcome: Outcome
    format: str
    data: bytes | None = None
    mode: int | None = None
    taken: tuple[Change, ...] = ()
    kept: tuple[Change, ...] = ()
    questions: tuple[Question, ...] = ()
    fault: Fault | None = None
    based_on: str | None = None
    obeyed: tuple[Obeyed, ...] = ()
    disagreements: tuple[Disagreement, ...] = ()
    met: frozenset[str] = frozenset()
    warnings: tuple[Fault, ...] = ()
    database: str = ""
    columns: tuple[str, ...] = ()

    @property
    def open(self) -> tuple[Question, ...]:
        """The questions of this file that wait for the admin."""
        return tuple(question for question in self.questions if question.open)


@dataclass(frozen=True)
class Merge:
    """A whole merge. ``unused``: answers that fit no question (file, record, field); ``idle``: standing orders that met
    no record; ``passed``: what the release ships and the server writes itself, which is left alone (path, role)."""

    old: str
    new: str
    files: tuple[FileMerge, ...]
    unused: tuple[tuple[str, str, str], ...] = ()
    idle: tuple[str, ...] = ()
    breaches: tuple[Breach, ...] = ()
    passed: tuple[tuple[str, str], ...] = ()

    @property
    def questions(self) -> tuple[Question, ...]:
        """All questions, answered ones included."""
        return tuple(question for file in self.files for question in file.questions)

    @property
    def open(self) -> tuple[Question, ...]:
        """The questions that wait for the admin."""
        return tuple(question for question in self.questions if question.open)

    @property
    def taken(self) -> tuple[Change, ...]:
        """Everything taken from the vendor."""
        return tuple(change for file in self.files for change in file.taken)

    @property
    def kept(self) -> tuple[Change, ...]:
        """Every hand edit that stays."""
        return tuple(change for file in self.files for change in file.kept)

    @property
    def obeyed(self) -> tuple[Obeyed, ...]:
        """Everything that standing orders set."""
        return tuple(item for file in self.files for item in file.obeyed)

    @property
    def disagreements(self) -> tuple[Disagreement, ...]:
        """Where standing orders disagree."""
        return tuple(item for file in self.files for item in file.disagreements)

    @property
    def warnings(self) -> tuple[Fault, ...]:
        """Files that were merged by line because a side is not well-formed."""
        return tuple(warning for file in self.files for warning in file.warnings)

    @property
    def odd(self) -> tuple[tuple[Question, str], ...]:
        """Questions that a typed answer of another kind settles, with what all their sides are."""
        asked = ((one, out_of_kind(one, one.answer)) for file in self.files for one in file.questions)
        return tuple((one, kind) for one, kind in asked if kind)

    @property
    def left_alone(self) -> str:
        """What the release ships and is left as the server has it, in words; "" where there is none."""
        if not self.passed:
            return ""
        named = first_of([f"{path} ({role})" for path, role in self.passed], 3)
        return f"the release ships what the server writes itself; it is left as it is here: {named}"

    @property
    def faults(self) -> tuple[Fault, ...]:
        """Files that could not be read."""
        return tuple(file.fault for file in self.files if file.fault)

    @property
    def to_write(self) -> tuple[FileMerge, ...]:
        """The files that change."""
        changing = (Outcome.MERGED, Outcome.ADDED, Outcome.REMOVED)
        return tuple(file for file in self.files if file.outcome in changing and not file.database)

    @property
    def of_tables(self) -> tuple[FileMerge, ...]:
        """The tables of databases among what is merged."""
        return tuple(file for file in self.files if file.database)

    @property
    def tables_to_write(self) -> tuple[FileMerge, ...]:
        """The tables that change."""
        return tuple(file for file in self.of_tables if file.outcome is Outcome.MERGED)


Resolver = Callable[[Question], tuple[str, str]]
"""Gives a question's answer and where it came from; empty texts while it is open."""


def unanswered(question: Question) -> tuple[str, str]:
    """Leave every question open."""
    return "", ""
