"""A merge as text: per file, its questions, and what to do next."""

from __future__ import annotations

from collections import Counter

from emberkeep.merging.dialogue import group_of
from emberkeep.merging.results import LINES, RECORD, Change, FileMerge, Merge, Obeyed, Outcome, Question, What
from emberkeep.show import words
from emberkeep.show.console import ASKS, BAD, GOOD, HEAD, QUIET, Screen, cell, table

_SIGNS = {What.SET: "~", What.ADDED: "+", What.REMOVED: "-", What.MOVED: ">"}
MOST_QUESTIONS = 30
MOST_GROUPS = 12
MOST_OBEYED = 5


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
    for warning in found.warnings:
        screen.line(f"Merged by line, as it is not well-formed: {warning}", ASKS)
    if details:
        _details(screen, found)
    _orders(screen, found, details=details)
    _breaches(screen, found)
    _questions(screen, found)
    for asked, kind in found.odd:
        what = f"{asked.file} {asked.record} {asked.field.removeprefix('@')}"
        screen.line(f"All sides have {kind} here, and the answer is none: {what} {asked.answer}", ASKS)
    for file, record, field in found.unused:
        screen.line(f"An answer fits no question: {file} {record} {field}", ASKS)


def _numbers(item: FileMerge) -> tuple[str, str, str]:
    waiting = sum(question.open for question in item.questions)
    answered = len(item.questions) - waiting
    questions = f"{waiting} open" if waiting else ""
    if answered:
        questions += f"{', ' if questions else ''}{answered} answered"
    return str(len(item.taken) or ""), str(len(item.kept) or ""), questions


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
    change = words.redact(change)
    name = " ".join(part for part in (change.record, "" if change.field in (RECORD, LINES) else change.field) if part)
    sign = _SIGNS[change.what]
    if change.what is What.MOVED:
        return f"{sign} {name} stands elsewhere"
    if change.what is What.SET:
        return f"{sign} {name}  {words.short(change.before)} → {words.short(change.after)}"
    value = change.after if change.what is What.ADDED else change.before
    return f"{sign} {name}" if change.field == RECORD else f"{sign} {name}  {words.short(value)}"


def _orders(screen: Screen, found: Merge, *, details: bool) -> None:
    if found.obeyed:
        screen.line()
        screen.line("Set by your standing orders", HEAD)
        by_order: dict[str, list[Obeyed]] = {}
        for item in found.obeyed:
            by_order.setdefault(item.order, []).append(item)
        for name, items in by_order.items():
            screen.line(f"  {name}: {words.count(len(items), 'new default')}")
            shown = items if details else items[:MOST_OBEYED]
            for item in shown:
                item = words.redact(item)
                value = "left out" if item.after is None else f"{item.field}  {item.before} → {item.after}"
                screen.line(f"    {item.record}  {value}", QUIET)
            if len(items) > len(shown):
                screen.line(f"    … and {len(items) - len(shown)} more", QUIET)
    for disagreement in found.disagreements:
        orders = " and ".join(f"'{name}'" for name in disagreement.orders)
        screen.line(f"{orders} disagree on {disagreement.record} {disagreement.field}; none was applied to it.", ASKS)
    for name in found.idle:
        screen.line(f"The order '{name}' met no record.", ASKS)
    if found.passed:
        screen.line(f"! {found.left_alone}", QUIET)


def _breaches(screen: Screen, found: Merge) -> None:
    if not found.breaches:
        return
    screen.line()
    number = words.count(len(found.breaches), "place breaks", "places break")
    screen.line(f"{number} what always holds in the vendor's releases:", ASKS)
    for breach in found.breaches[:MOST_QUESTIONS]:
        check = breach.check
        screen.line(f"    {check.file} line {breach.line}: {breach.record}  {breach.what} ({breach.side})")
        screen.line(f"      {check.name}, held in {check.support} records", QUIET)
    if len(found.breaches) > MOST_QUESTIONS:
        screen.line(f"    … and {len(found.breaches) - MOST_QUESTIONS} more")
    screen.line('    what is meant so: silence = ["NAME"] under [checks] in keep.toml, by the name given here', QUIET)


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
        screen.line(f"    … and {len(waiting) - MOST_QUESTIONS} more; by kind and field:")
        groups = Counter(group_of(question) for question in waiting)
        for (path, kind, field), number in groups.most_common(MOST_GROUPS):
            screen.line(f"    {number:6}  {path} {kind} {field}".rstrip(), QUIET)


def _question_line(question: Question) -> str:
    question = words.redact(question)
    name = " ".join(part for part in (question.record, "" if question.field == LINES else question.field) if part)
    where = f"line {question.line}: " if question.line else ""
    if question.why:
        renamed = f" (= {question.renamed} carries your edits over)" if question.renamed else ""
        return f"{where}{question.record or question.field}  {words.escape_control(question.why + renamed)}"
    before = "" if question.old is None and question.mine is not None else f"was {side(question.old)}, "
    values = f"{before}yours {side(question.mine)}, new {side(question.new)}"
    if question.suggestion:
        values += f"  (before you said {question.suggestion})"
    return f"{where}{name}  {values}"


def side(value: str | None) -> str:
    """A value of one side, cut short."""
    return "absent" if value is None else words.short(value, 40)
