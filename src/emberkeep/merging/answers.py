"""Files of questions and answers: what a merge asks, ready to fill, and what the admin answered.

::

    [[question]]
    file = "mission/economy/stores.xml"
    record = "good[id=lamp-oil]"
    field = "afloat"
    old = "40"                     # left out where that side has none
    mine = "80"
    new = "30"
    answer = ""                    # mine | new | old | = 55

An answer counts for the question with the same file, record and field whose values are those written beside it; values
that are left out are not compared. The same shape serves as the keep's memory (``answers.toml``).
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass, replace
from pathlib import Path

from emberkeep.fs import writing
from emberkeep.keep.toml_reader import Reader, load, quote
from emberkeep.merging.results import (
    BOTH,
    LINES,
    MINE,
    NEW,
    OLD,
    RULE,
    TYPED,
    FileMerge,
    Merge,
    Question,
    typed_lines,
    typed_value,
)

Name = tuple[str, str, str]
GIVEN = "answers file"
REMEMBERED = "remembered"
"""Where answers come from that the admin gave in a file."""


@dataclass(frozen=True)
class Answer:
    """One answered question. A value of None is not compared."""

    file: str
    record: str
    field: str
    answer: str
    old: str | None = None
    mine: str | None = None
    new: str | None = None

    @property
    def name(self) -> Name:
        """File, record and field."""
        return self.file, self.record, self.field

    def fits(self, question: Question) -> bool:
        """Whether this answer was given to this very question."""
        pairs = ((self.old, question.old), (self.mine, question.mine), (self.new, question.new))
        return all(mine is None or _folded(mine) == _folded(theirs) for mine, theirs in pairs)


def _alike(answer: Answer, question: Question) -> bool:
    """Whether an answer's values differ from a question's in nothing but numbers."""
    pairs = ((answer.old, question.old), (answer.mine, question.mine), (answer.new, question.new))
    return all(
        one is not None and other is not None and _NUMBERS.sub("0", one) == _NUMBERS.sub("0", other)
        for one, other in pairs
    )


_NUMBERS = re.compile(r"\d+(?:\.\d+)?")


def _folded(value: str | None) -> str | None:
    return value if value is None else value.replace("\r\n", "\n").rstrip("\n")


@dataclass
class Answers:
    """Answers to settle questions with, and which of them were used."""

    given: dict[Name, list[tuple[Answer, str]]]

    def __post_init__(self) -> None:
        self._used: set[tuple[Name, str]] = set()

    @classmethod
    def of(cls, *sources: tuple[str, Iterable[Answer]]) -> Answers:
        """Answers by where they come from; earlier sources win."""
        given: dict[Name, list[tuple[Answer, str]]] = {}
        for source, answers in sources:
            for answer in answers:
                given.setdefault(answer.name, []).append((answer, source))
        return cls(given)

    def resolve(self, question: Question) -> tuple[str, str]:
        """The answer to a question and where it came from."""
        name = (question.file, question.record, question.field)
        for answer, source in self.given.get(name, ()):
            if answer.fits(question):
                self._used.add((name, source))
                return answer.answer, source
        return "", ""

    def completed(self, merge: Merge) -> Merge:
        """A merge with suggestions for its open questions, and with the given answers that fitted none."""
        merged = tuple(self._suggesting(file) if file.questions else file for file in merge.files)
        return replace(merge, files=merged, unused=self.unused(GIVEN))

    def _suggesting(self, file: FileMerge) -> FileMerge:
        asked = (replace(one, suggestion=self.suggest(one)) if one.open else one for one in file.questions)
        return replace(file, questions=tuple(asked))

    def suggest(self, question: Question) -> str:
        """How the last question about the same value was answered, where the values then differed from these only in
        numbers."""
        name = (question.file, question.record, question.field)
        for answer, _ in reversed(self.given.get(name, [])):
            if answer.answer in (MINE, NEW, OLD) and not answer.fits(question) and _alike(answer, question):
                return answer.answer
        return ""

    def unused(self, source: str) -> tuple[Name, ...]:
        """Answers of one source that fitted no question."""
        names = [name for name, answers in self.given.items() if any(where == source for _, where in answers)]
        return tuple(name for name in names if (name, source) not in self._used)


def read(path: Path) -> list[Answer]:
    """The answered questions of a file; open ones are passed over. UnreadableInput lists every fault."""
    table, text = load(path)
    reader = Reader(str(path), text, table)
    found = [_answer(item) for item in reader.subs("question")]
    reader.no_others()
    reader.raise_if_faulty()
    return [answer for answer in found if answer.answer]


def known(path: Path) -> list[Answer]:
    """The answers in a file that need not be there yet."""
    return read(path) if path.exists() else []


def gathered(given: Path | None, memory: Path | None = None, *, new: bool = False) -> Answers:
    """Answers from a file and from those remembered; those of the file win. ``new``: the file need not be there."""
    answers = [] if given is None else known(given) if new else read(given)
    return Answers.of((GIVEN, answers), (REMEMBERED, [] if memory is None else known(memory)))


def _answer(item: Reader) -> Answer:
    values = {key: item.get(key, str, "text in quotes", None) for key in ("old", "mine", "new")}
    answer = Answer(
        item.required("file"),
        item.string("record"),
        item.required("field"),
        item.string("answer").strip(),
        **values,
    )
    words = (MINE, NEW, OLD, BOTH) if answer.field == LINES else (MINE, NEW, OLD)
    if answer.answer and answer.answer not in words and not answer.answer.startswith(TYPED):
        item.fault("answer", f"'{answer.answer}' is no answer", f"{', '.join(words)}, or = and a value")
    item.no_others()
    return answer


def serialize(questions: Iterable[Question | Answer]) -> str:
    """The text of a questions file."""
    parts = ["# One answer each: mine, new, old, or = and a value. What stays empty stays open.\n"]
    for question in questions:
        lines = ["", "[[question]]"]
        for key in ("file", "record", "field", "old", "mine", "new", "answer"):
            value = getattr(question, key)
            if value is not None:
                lines.append(f"{key} = {quote(value)}")
        parts.append("\n".join(lines) + "\n")
    return "".join(parts)


def remember(path: Path, questions: Iterable[Question]) -> None:
    """Add the answers of ``questions`` to a file of answers, which need not be there yet; a newer one takes the older
    one's place."""
    answers = {(*answer.name, answer.old, answer.mine, answer.new): answer for answer in known(path)}
    for asked in questions:
        for one in _answers_of(asked):
            answers[(*one.name, one.old, one.mine, one.new)] = one
    if answers:
        save(path, answers.values())


def save(path: Path, answers: Iterable[Answer]) -> None:
    """Write answers to a file of them."""
    writing.write_whole(path, [serialize(answers).encode()])


def _answers_of(asked: Question) -> Iterable[Answer]:
    """The answer to a question; a typed value is the admin's own from then on, so the question with it is settled
    too."""
    if asked.open:
        return
    name = (asked.file, asked.record, asked.field)
    if not asked.by.startswith(RULE):  # a rule may change; only what it made of the value stays
        yield Answer(*name, asked.answer, asked.old, asked.mine, asked.new)
    if asked.answer.startswith(TYPED):
        value = typed_lines(asked.answer) if asked.field == LINES else typed_value(asked.answer)
        yield Answer(*name, MINE, asked.old, value, asked.new)
