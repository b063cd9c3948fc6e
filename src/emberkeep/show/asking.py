"""One question of a merge as it is put on the terminal: the three values, the lines around, and what may be said."""

from __future__ import annotations

from collections.abc import Sequence

from emberkeep.merging.dialogue import FIELD, KIND, Dialogue
from emberkeep.merging.results import FILE, LINES, MINE, NEW, OLD, RECORD, Question
from emberkeep.show import words
from emberkeep.show.console import ASKS, GOOD, HEAD, QUIET, Screen

PROMPT = "mine, new, old, = value, skip? "
_AROUND = 3
_LONGEST = 12
_NAMES = {OLD: "old default", MINE: "yours", NEW: "new default"}


def question(screen: Screen, dialogue: Dialogue, asked: Question, lines: Sequence[str]) -> None:
    """A question with everything that is needed to settle it."""
    number, count = dialogue.position
    where = f", line {asked.line}" if asked.line else ""
    screen.line()
    screen.line(f"Question {number} of {count}: {asked.file}{where}", HEAD)
    field = "" if asked.field in (RECORD, LINES, FILE) else asked.field.removeprefix("@")
    screen.line(f"  {'  '.join(part for part in (asked.record, field) if part)}".rstrip())
    if asked.why:
        screen.line(f"  {asked.why}", ASKS)
    for side, value in ((OLD, asked.old), (MINE, asked.mine), (NEW, asked.new)):
        _side(screen, _NAMES[side], value)
    _lines_around(screen, asked, lines)
    if not asked.open:
        screen.line(f"  You said: {asked.answer}. Say another answer, or s to leave it.", GOOD)
    if asked.renamed:
        screen.line(f"  = {asked.renamed} says that it is the same one and carries your edits over to it", ASKS)
    if asked.suggestion:
        screen.line(f"  When only the numbers differed, you said: {asked.suggestion}", ASKS)
    keys(screen, dialogue)


def _side(screen: Screen, name: str, value: str | None) -> None:
    shown = ["absent"] if value is None else value.strip("\n").split("\n")
    screen.line(f"  {name:12} {shown[0].strip() or '(empty)'}")
    for line in shown[1:_LONGEST]:
        screen.line(f"  {'':12} {line}")
    if len(shown) > _LONGEST:
        screen.line(f"  {'':12} … and {words.count(len(shown) - _LONGEST, 'more line')}", QUIET)


def _lines_around(screen: Screen, asked: Question, lines: Sequence[str]) -> None:
    if not asked.line or not lines:
        return
    first = max(1, asked.line - _AROUND)
    for number in range(first, min(len(lines), asked.line + _AROUND) + 1):
        here = number == asked.line
        screen.line(f"  {'>' if here else ' '}{number:6}  {lines[number - 1].rstrip()}", "" if here else QUIET)


def keys(screen: Screen, dialogue: Dialogue) -> None:
    """What may be said."""
    lines = dialogue.current is not None and dialogue.current.field == LINES
    both = "  both yours, then the vendor's" if lines else ""
    screen.line(f"  m mine  n new  o old{both}  = 55 your own value  s skip  b back  e explain  q quit", QUIET)
    wider = [
        f"m{name[0]} n{name[0]} o{name[0]}  the same for {of}, {words.count(alike, 'more question')}"
        for name, of in ((FIELD, "this field in this file"), (KIND, "this kind of record"))
        if (alike := dialogue.alike(name))
    ]
    for line in wider:
        screen.line(f"  {line}", QUIET)


def explained(screen: Screen, asked: Question) -> None:
    """Why it is asked, and what each answer comes to."""
    if asked.old is None:
        screen.line("  Nothing is known of what this was before, so nobody can tell which of you changed it.")
    elif asked.why:
        screen.line(f"  Nothing can be right for both: {asked.why}.")
    else:
        old, mine, new = (words.short(value, 40) for value in (asked.old, asked.mine, asked.new))
        screen.line(f"  It shipped as {old}. You made it {mine}; the vendor has now made it {new}.")
    screen.line("  mine leaves your file as it is here; new takes the vendor's; old goes back to what it was before")
    screen.line("  either of you touched it. Until you answer, yours stays. The answer is kept and not asked again.")


def answered(screen: Screen, done: Sequence[Question]) -> None:
    """That an answer was kept."""
    more = f", and for {words.count(len(done) - 1, 'more question')}" if len(done) > 1 else ""
    screen.line(f"  kept: {done[0].answer}{more}", GOOD)
