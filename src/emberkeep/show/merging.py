"""A merge as text: per file, its questions, and what to do next."""

from __future__ import annotations

from emberkeep.merging.results import LINES, RECORD, Change, FileMerge, Merge, Outcome, Question, What
from emberkeep.show import words
from emberkeep.show.console import ASKS, BAD, GOOD, HEAD, QUIET, Screen, cell, table

_SIGNS = {What.SET: "~", What.ADDED: "+", What.REMOVED: "-", What.MOVED: ">"}
MOST_QUESTIONS = 30


def merge(screen: Screen, found: Merge, *, details: bool) -> None:
    """The whole of a merge."""
    rows = table(
        "file",
        "from the vendor",
        "yours kept",
        "questions",
        "",
        right=("from the vendor", "yours kept", "questions"),
    )
    for item in found.files:
        if item.outcome is not Outcome.SAME or item.kept or item.questions or item.taken:
            rows.add_row(cell(item.path), *_numbers(item), cell(*_outcome(item)))
    screen.show(rows)
    if details:
        _details(screen, found)
    _questions(screen, found)
    for file, record, field in found.unused:
        screen.line(f"An answer fits no question: {file} {record} {field}", ASKS)


def _numbers(item: FileMerge) -> tuple[str, str, str]:
    waiting = sum(question.open for question in item.questions)
    answered = len(item.questions) - waiting
    told = f"{waiting} open" if waiting else ""
    if answered:
        told += f"{', ' if told else ''}{answered} answered"
    return str(len(item.taken) or ""), str(len(item.kept) or ""), told


def _outcome(item: FileMerge) -> tuple[str, str]:
    if item.fault:
        return str(item.fault), BAD
    return {
        Outcome.SAME: ("stays as it is", QUIET),
        Outcome.MERGED: ("merged", GOOD),
        Outcome.ADDED: ("new file", GOOD),
        Outcome.REMOVED: ("goes", ASKS),
        Outcome.FAULTY: ("cannot be read", BAD),
    }[item.outcome]


def _details(screen: Screen, found: Merge) -> None:
    for item in found.files:
        if not item.taken and not item.kept:
            continue
        screen.line()
        screen.line(item.path, HEAD)
        for heading, changes in (("from the vendor", item.taken), ("yours, kept", item.kept)):
            if changes:
                screen.line(f"  {heading}", QUIET)
            for change in changes:
                screen.line(f"    {change_line(change)}")


def change_line(change: Change) -> str:
    """One change on one line: sign, record and field, old and new value."""
    name = " ".join(part for part in (change.record, "" if change.field in (RECORD, LINES) else change.field) if part)
    sign = _SIGNS[change.what]
    if change.what is What.MOVED:
        return f"{sign} {name} stands elsewhere"
    if change.what is What.SET:
        return f"{sign} {name}  {words.short(change.before)} → {words.short(change.after)}"
    value = change.after if change.what is What.ADDED else change.before
    return f"{sign} {name}" if change.field == RECORD else f"{sign} {name}  {words.short(value)}"


def _questions(screen: Screen, found: Merge) -> None:
    waiting = found.open
    if not waiting:
        return
    screen.line()
    screen.line(
        f"{words.count(len(waiting), 'question waits', 'questions wait')} for you; until then your values stay:",
        ASKS,
    )
    file = ""
    for question in waiting[:MOST_QUESTIONS]:
        if question.file != file:
            file = question.file
            screen.line(f"  {file}", HEAD)
        screen.line(f"    {_question_line(question)}")
    if len(waiting) > MOST_QUESTIONS:
        screen.line(f"    … and {len(waiting) - MOST_QUESTIONS} more")


def _question_line(question: Question) -> str:
    name = " ".join(part for part in (question.record, "" if question.field == LINES else question.field) if part)
    where = f"line {question.line}: " if question.line else ""
    if question.why:
        return f"{where}{question.record or question.field}  {words.clean(question.why)}"
    values = f"was {_side(question.old)}, yours {_side(question.mine)}, new {_side(question.new)}"
    return f"{where}{name}  {values}"


def _side(value: str | None) -> str:
    return "absent" if value is None else words.short(value, 40)
