"""Three-way merge of launch scripts: variables and named arguments by name, all else by line.

What has a name on all three sides is taken out first, so that two sides that changed different values on one line do
not collide. The rest is merged by line, and the merged values are put back.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field, replace
from typing import TypeVar

from emberkeep.documents.encoding import Text
from emberkeep.documents.formats import script as scripts
from emberkeep.documents.formats.script import Argument, Command, Script, Variable
from emberkeep.documents.values import same_value
from emberkeep.merging.lines import merge_lines
from emberkeep.merging.records import RecordsMerged
from emberkeep.merging.results import NEW, OLD, TYPED, Change, Question, Resolver, What, typed_value

_OPEN, _SHUT = "\ue000", "\ue001"
_HOLE = re.compile(f"{_OPEN}(\\d+){_SHUT}")

Key = tuple[str, int]
"""A name, and which of those of that name in the script."""


def merge_script(path: str, old: str, mine: Text, new: str, resolve: Resolver) -> RecordsMerged | None:
    """Bring ``new`` into ``mine``; None for what is no script of a known language."""
    language = scripts.language(path, mine.text)
    if not language or any(_OPEN in text for text in (old, mine.text, new)):
        return None
    sides = tuple(scripts.parse(text, language) for text in (old, mine.text, new))
    return _Merger(path, mine, sides, resolve).merge()


@dataclass
class _Hole:
    """A stretch of the script that is merged by itself: what stands there on the three sides, and what will."""

    sides: tuple[str, str, str]
    merged: str


@dataclass
class _Merger:
    path: str
    source: Text
    scripts: Sequence[Script]
    resolve: Resolver
    holes: list[_Hole] = field(default_factory=list)
    taken: list[Change] = field(default_factory=list)
    kept: list[Change] = field(default_factory=list)
    questions: list[Question] = field(default_factory=list)

    def merge(self) -> RecordsMerged:
        spans: list[list[tuple[int, int]]] = [[], [], []]
        for found in self._shared(_variables):
            self._hole(spans, [(one.start, one.end) for one in found], self._value("", found[1].name, found))
        for commands in self._shared(_commands):
            if len({_unnamed(each, script.text) for each, script in zip(commands, self.scripts, strict=True)}) == 1:
                self._hole(spans, [(one.start, one.end) for one in commands], self._arguments(commands))
        bones = [_hollow(script.text, span) for script, span in zip(self.scripts, spans, strict=True)]
        merged = merge_lines(self.path, bones[0], replace(self.source, text=bones[1]), bones[2], self._settle_lines)
        return RecordsMerged(
            _HOLE.sub(lambda found: self.holes[int(found[1])].merged, merged.text),
            (*self.taken, *(self._whole(change) for change in merged.taken)),
            (*self.kept, *(self._whole(change) for change in merged.kept)),
            (*self.questions, *(self._asked(question) for question in merged.questions)),
        )

    def _shared(self, named: Callable[[Script], dict[Key, _Named]]) -> list[list[_Named]]:
        """What has the same name on all sides."""
        sides = [named(script) for script in self.scripts]
        return [[side[key] for side in sides] for key in sides[1] if all(key in side for side in sides)]

    def _hole(self, spans: list[list[tuple[int, int]]], at: Sequence[tuple[int, int]], merged: str) -> None:
        texts = [script.text[slice(*span)] for script, span in zip(self.scripts, at, strict=True)]
        for each, span in zip(spans, at, strict=True):
            each.append(span)
        self.holes.append(_Hole((texts[0], texts[1], texts[2]), merged))

    # --- values --------------------------------------------------------------

    def _line(self, at: int) -> int:
        return self.source.text.count("\n", 0, at) + 1

    def _value(self, record: str, name: str, found: Sequence[Variable] | Sequence[Argument]) -> str:
        """What becomes of a value that all sides have."""
        spans = [_span(one) for one in found]
        raw = [script.text[slice(*span)] for script, span in zip(self.scripts, spans, strict=True)]
        before, here, after = (_plain(text) for text in raw)
        line = self._line(spans[1][0])
        if same_value(after, before) or same_value(here, after):
            if not same_value(here, before) and not same_value(here, after):
                self.kept.append(Change(self.path, record, name, What.SET, before, here, line))
            return raw[1]
        if same_value(here, before):
            self.taken.append(Change(self.path, record, name, What.SET, here, after, line))
            return raw[2]
        answer = self._ask(Question(self.path, record, name, before, here, after, line=line))
        if answer in (NEW, OLD):
            return raw[2 if answer == NEW else 0]
        return _spelled(typed_value(answer), raw[1]) if answer.startswith(TYPED) else raw[1]

    def _ask(self, question: Question) -> str:
        answer, by = self.resolve(question)
        self.questions.append(replace(question, answer=answer, by=by))
        return answer

    def _arguments(self, commands: Sequence[Command]) -> str:
        """What becomes of the arguments of a command that all sides have."""
        sides = [_keyed(command.arguments, "name") for command in commands]
        old, mine, new = sides
        program = _plain(commands[1].program)
        text = self.scripts[1].text
        found: dict[Key, str] = {}
        for key, argument in mine.items():
            unit = text[argument.start : argument.end]
            if not key[0]:
                found[key] = unit
            elif key in new and key in old:
                value = self._value(program, key[0], [side[key] for side in sides])
                found[key] = _with_value(unit, argument, value)
            elif key in new:
                found[key] = _with_value(unit, argument, self._both_added(program, key, argument, new[key]))
            elif key not in old:
                self.kept.append(self._change(program, key, What.ADDED, None, unit, argument.begin))
                found[key] = unit
            elif not self._goes(program, key, old[key], argument):
                found[key] = unit
        self._come(program, sides, found)
        return "".join(found.values())

    def _change(
        self, program: str, key: Key, what: What, before: str | None, after: str | None, at: int | None = None
    ) -> Change:
        was, now = (None if text is None else text.strip() for text in (before, after))
        return Change(self.path, program, key[0], what, was, now, self._line(at) if at is not None else None)

    def _both_added(self, program: str, key: Key, mine: Argument, new: Argument) -> str:
        here, after = self._raw(1, mine), self._raw(2, new)
        if same_value(_plain(here), _plain(after)):
            return here
        line = self._line(mine.begin)
        answer = self._ask(Question(self.path, program, key[0], None, _plain(here), _plain(after), line=line))
        if answer == NEW:
            return after
        return _spelled(typed_value(answer), here) if answer.startswith(TYPED) else here

    def _raw(self, side: int, argument: Argument) -> str:
        return self.scripts[side].text[argument.value_start : argument.value_end]

    def _goes(self, program: str, key: Key, old: Argument, mine: Argument) -> bool:
        """Whether an argument that the vendor removed goes."""
        before, here = _plain(self._raw(0, old)), _plain(self._raw(1, mine))
        line = self._line(mine.begin)
        if same_value(before, here):
            self.taken.append(Change(self.path, program, key[0], What.REMOVED, here, None, line))
            return True
        why = f"the vendor removed this argument; you changed it from {before} to {here}"
        return self._ask(Question(self.path, program, key[0], before, here, None, line=line, why=why)) == NEW

    def _come(self, program: str, sides: Sequence[dict[Key, Argument]], found: dict[Key, str]) -> None:
        """Put what the vendor added behind the argument that it follows there."""
        old, mine, new = sides
        text = self.scripts[2].text
        behind: Key | None = None
        for key, argument in new.items():
            if key not in mine and key[0] and self._comes(program, key, old.get(key), argument):
                unit = text[argument.begin : argument.end]
                _put_behind(found, behind, key, self._space() + unit)
            if key in found:
                behind = key

    def _comes(self, program: str, key: Key, old: Argument | None, new: Argument) -> bool:
        after = _plain(self._raw(2, new))
        if old is None:
            self.taken.append(self._change(program, key, What.ADDED, None, after or key[0]))
            return True
        before = _plain(self._raw(0, old))
        if same_value(before, after):
            self.kept.append(self._change(program, key, What.REMOVED, before or key[0], None))
            return False
        why = f"you removed this argument; the vendor changed it from {before} to {after}"
        return self._ask(Question(self.path, program, key[0], before, None, after, why=why)) == NEW

    def _space(self) -> str:
        """What most arguments of the admin's have before them."""
        spaces = Counter(
            self.source.text[one.start : one.begin] for command in self.scripts[1].commands for one in command.arguments
        )
        return spaces.most_common(1)[0][0] if spaces else " "

    # --- the lines around ------------------------------------------------------

    def _filled(self, text: str | None, side: int) -> str | None:
        if text is None:
            return None
        return _HOLE.sub(lambda found: self.holes[int(found[1])].sides[side], text)

    def _whole(self, change: Change) -> Change:
        return replace(change, before=self._filled(change.before, 1), after=self._filled(change.after, 2))

    def _asked(self, question: Question) -> Question:
        old, mine, new = (
            self._filled(text, side) for side, text in enumerate((question.old, question.mine, question.new))
        )
        return replace(question, old=old, mine=mine, new=new)

    def _settle_lines(self, question: Question) -> tuple[str, str]:
        return self.resolve(self._asked(question))


_Named = TypeVar("_Named", Variable, Command, Argument)


def _keyed(items: Iterable[_Named], attribute: str) -> dict[Key, _Named]:
    """Items by name and running number."""
    seen: Counter[str] = Counter()
    found = {}
    for item in items:
        name = getattr(item, attribute)
        seen[name] += 1
        found[name, seen[name]] = item
    return found


def _variables(script: Script) -> dict[Key, Variable]:
    return _keyed(script.variables, "name")


def _commands(script: Script) -> dict[Key, Command]:
    return _keyed(script.commands, "program")


def _span(named: Variable | Argument) -> tuple[int, int]:
    """Where a value stands."""
    return (named.value_start, named.value_end) if isinstance(named, Argument) else (named.start, named.end)


def _unnamed(command: Command, text: str) -> tuple[str, ...]:
    """The arguments without a name, which have to agree for the others to be told apart safely."""
    return tuple(text[one.begin : one.end] for one in command.arguments if not one.name)


def _hollow(text: str, spans: Sequence[tuple[int, int]]) -> str:
    parts = []
    at = 0
    for number, (start, end) in sorted(enumerate(spans), key=lambda item: item[1]):
        parts += [text[at:start], f"{_OPEN}{number}{_SHUT}"]
        at = end
    return "".join([*parts, text[at:]])


def _plain(raw: str) -> str:
    return raw[1:-1] if len(raw) > 1 and raw[0] == raw[-1] and raw[0] in "\"'" else raw


def _spelled(value: str, like: str) -> str:
    """A value in the quotes of another; in double ones where it needs some."""
    if len(like) > 1 and like[0] == like[-1] and like[0] in "\"'":
        return f"{like[0]}{value}{like[0]}"
    return f'"{value}"' if re.search(r"\s", value) else value


def _with_value(unit: str, argument: Argument, value: str) -> str:
    return (
        unit[: argument.value_start - argument.start] + value + unit[argument.value_end - argument.start :]
        if argument.value_end > argument.value_start
        else unit
    )


def _put_behind(found: dict[Key, str], behind: Key | None, key: Key, text: str) -> None:
    items = list(found.items())
    at = next((at + 1 for at, (known, _) in enumerate(items) if known == behind), 0)
    found.clear()
    found.update([*items[:at], (key, text), *items[at:]])
