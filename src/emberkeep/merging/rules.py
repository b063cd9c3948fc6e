"""Rules of keep.toml that settle questions of a kind, and what of numbers they can do.

``take``: ``mine``, ``new`` or ``old``; or, of numbers, ``larger`` or ``smaller`` of the admin's and the vendor's, their
``mean``, or ``ratio``: the vendor's new default times what the admin made of the old one.
"""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal
from fnmatch import fnmatchcase

from emberkeep.documents.values import number, respelled
from emberkeep.fs import globs
from emberkeep.keep.tables.updates import ResolutionRule
from emberkeep.merging.results import MINE, NEW, OLD, RULE, TYPED, Question, Resolver


def resolve_by(rules: Sequence[ResolutionRule]) -> Resolver:
    """Settles a question by the first rule that is about it and has an answer to it."""

    def resolve(question: Question) -> tuple[str, str]:
        for at, rule in enumerate(rules, 1):
            if _is_about(rule, question) and (answer := answered(rule.take, question)):
                return answer, f"{RULE} {at}: take {rule.take}"
        return "", ""

    return resolve


def _is_about(rule: ResolutionRule, question: Question) -> bool:
    if not globs.matches(question.file, [rule.files]):
        return False
    field = question.field.removeprefix("@")
    return fnmatchcase(field, rule.field) and (not rule.record or fnmatchcase(question.record, _plain(rule.record)))


def _plain(glob: str) -> str:
    """A glob in which the brackets of a record's name are no character class."""
    return glob.replace("[", "[[]")


def answered(take: str, question: Question) -> str:
    """The answer that ``take`` gives; "" where it has none, as the larger of two words."""
    if take in (MINE, NEW, OLD):
        return take
    old, mine, new = (number(value or "") for value in (question.old, question.mine, question.new))
    if mine is None or new is None:
        return ""
    if take == "larger":
        return MINE if mine >= new else NEW
    if take == "smaller":
        return MINE if mine <= new else NEW
    if take == "mean":
        return _typed((mine + new) / 2, question)
    return _typed(new * mine / old, question) if old else ""


def _typed(value: Decimal, question: Question) -> str:
    return f"{TYPED} {respelled(value, question.new or '')}"


def in_turn(*ways: Resolver) -> Resolver:
    """Settles a question by the first of several that has an answer."""

    def resolve(question: Question) -> tuple[str, str]:
        return next((answer for way in ways if (answer := way(question))[0]), ("", ""))

    return resolve
