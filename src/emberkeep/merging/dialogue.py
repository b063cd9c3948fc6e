"""Going through the open questions of a merge one by one: what is asked, what an input means, what was answered.

An input is a word or its first letter: ``mine``, ``new``, ``old``, ``both`` (of lines), ``= value``; ``skip``,
``back``, ``explain``, ``quit``. ``mine``, ``new`` and ``old`` may be followed by ``field`` (the same answer for this
field wherever it is asked about in this file) or ``kind`` (for every field of this kind of record in this file).
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

from emberkeep.merging.results import (
    BOTH,
    FILE,
    LINES,
    MINE,
    NEW,
    OLD,
    RECORD,
    TYPED,
    Question,
    out_of_kind,
    typed_value,
)

ASKED = "asked"
SKIP, BACK, EXPLAIN, QUIT = "skip", "back", "explain", "quit"
FIELD, KIND = "field", "kind"
_WORDS = {word[0]: word for word in (MINE, NEW, OLD, SKIP, BACK, EXPLAIN, QUIT)}
_WIDER = {word[0]: word for word in (FIELD, KIND)}
_IDENTITY = re.compile(r"\[(?:[^\]\"]|\"(?:[^\"\\]|\\.)*\")*\]")


@dataclass(frozen=True)
class Said:
    """What an input means: ``word`` is an answer or one of the other words; ``wider``: ``field``, ``kind`` or empty."""

    word: str
    wider: str = ""


def understood(text: str) -> Said | None:
    """What an input means; None when it means nothing."""
    text = text.strip()
    if text.startswith(TYPED):
        typed = text[1:]
        return Said(f"{TYPED}{'' if typed.startswith(' ') else ' '}{typed}") if typed.strip() else None
    parts = text.lower().split()
    if parts == [BOTH]:
        return Said(BOTH)
    if len(parts) == 1 and len(parts[0]) == 2 and parts[0][0] in _WORDS and parts[0][1] in _WIDER:
        parts = list(parts[0])
    if not parts or len(parts) > 2:
        return None
    word = _WORDS.get(parts[0]) or (parts[0] if parts[0] in _WORDS.values() else None)
    wider = "" if len(parts) == 1 else _WIDER.get(parts[1]) or (parts[1] if parts[1] in _WIDER.values() else "")
    if word is None or (len(parts) == 2 and (not wider or word not in (MINE, NEW, OLD))):
        return None
    return Said(word, wider)


def kind_of(question: Question) -> str:
    """The kind of record that a question is about: its name without what tells it from its siblings."""
    return _IDENTITY.sub("", question.record)


def group_of(question: Question) -> tuple[str, str, str]:
    """File, kind of record and field: questions that are alike."""
    return question.file, kind_of(question), question.field


class Dialogue:
    """The questions of a merge while they are gone through."""

    def __init__(self, questions: Sequence[Question]) -> None:
        self._questions = [question for question in questions if question.open]
        self._at = 0
        self._trail: list[int] = []
        self._doubted: Said | None = None

    @property
    def current(self) -> Question | None:
        """The question that is asked now; None at the end."""
        return self._questions[self._at] if self._at < len(self._questions) else None

    @property
    def position(self) -> tuple[int, int]:
        """Number of the question that is asked now, and how many there are."""
        return self._at + 1, len(self._questions)

    @property
    def answered(self) -> tuple[Question, ...]:
        """The questions that have an answer by now."""
        return tuple(question for question in self._questions if not question.open)

    def alike(self, wider: str) -> int:
        """To how many other open questions an answer would go."""
        return sum(1 for _ in self._others(wider))

    def say(self, said: Said) -> tuple[Question, ...]:
        """Take an answer, skip, or go back; returns the questions answered by it."""
        question = self.current
        if question is None:
            return ()
        if said.word == BACK:
            self._at = self._trail.pop() if self._trail else self._at
            return ()
        if said.word == SKIP:
            self._go_on()
            return ()
        chosen = [self._at, *self._others(said.wider)] if said.wider else [self._at]
        for at in chosen:
            self._questions[at] = replace(self._questions[at], answer=said.word, by=ASKED)
        self._go_on()
        return tuple(self._questions[at] for at in chosen)

    def unfit(self, said: Said) -> str:
        """Why an answer cannot be given to the question asked now, in words; "" where it can.

        A typed one needs a value to stand for. One that is not of the kind that all three sides are of has to be given
        twice.
        """
        question, again = self.current, said == self._doubted
        self._doubted = None
        if question is None:
            return ""
        if said.word == BOTH and question.field != LINES:
            return "Both is for lines; mine, new or old is wanted."
        if not said.word.startswith(TYPED):
            return ""
        if question.field in (RECORD, FILE) and not typed_value(said.word) == question.renamed != "":
            return "A whole record is asked about here; mine, new or old is wanted."
        if not again and (kind := out_of_kind(question, said.word)):
            self._doubted = said
            return f"All sides have {kind}. If you mean '{typed_value(said.word)}', say it once more."
        return ""

    def _go_on(self) -> None:
        self._trail.append(self._at)
        self._at += 1
        while self._at < len(self._questions) and not self._questions[self._at].open:
            self._at += 1

    def _others(self, wider: str) -> Iterator[int]:
        here = self.current
        for at, question in enumerate(self._questions):
            if here is None or at == self._at or not question.open or question.file != here.file:
                continue
            same_field = question.field == here.field and here.field != LINES
            if (wider == FIELD and same_field) or (wider == KIND and kind_of(question) == kind_of(here)):
                yield at
