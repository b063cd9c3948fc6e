"""Questions that a merge asked and nobody has answered: kept with the run that asked, as what they are.

The files that a merge left with open questions have all else of the vendor's in them. So the same merge, made again
from the releases it was made from, asks these questions and changes nothing but by their answers. One is void once
the value has been edited to something else, and gone with its run when that is taken back.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from typing import Any

from emberkeep.fs.trees import Kind, Tree, read
from emberkeep.keep.keep import Keep
from emberkeep.merging.answers import Answer
from emberkeep.merging.orders import Order
from emberkeep.merging.results import MINE, FileMerge, Merge, Outcome, Question, Resolver
from emberkeep.operations.record import defaults
from emberkeep.operations.record.facts import DONE
from emberkeep.operations.record.journal import Journal
from emberkeep.store.store import Store

OPEN = "open"
"""The fact of a step that holds its questions."""


@dataclass(frozen=True)
class Pending:
    """A question of the merge of ``new`` into files that began from ``old``; None where they began from no release."""

    old: str | None
    new: str
    asked: Answer


def pending(keep: Keep) -> list[Pending]:
    """The questions that the last merge or update that stands left, answered ones included as long as yours stays."""
    for run in reversed(Journal(keep.folder).runs()):
        waiting = [step.facts[OPEN] for step in run.steps if OPEN in step.facts] if run.state == DONE else []
        if waiting:
            return [Pending(one["from"], one["to"], Answer(**one["asked"])) for one in waiting[-1]]
    return []


def noted(merge: Merge, old: str | None, new: str, before: Sequence[Pending]) -> list[dict[str, Any]]:
    """The questions of a merge that keep the admin's value, as a step notes them. ``before``: those there were."""
    releases = {(one.asked.name): (one.old, one.new) for one in before}
    found = []
    for question in merge.questions:
        if not question.open and question.answer != MINE:
            continue
        values = {key: getattr(question, key) for key in ("old", "mine", "new")}
        asked = Answer(question.file, question.record, question.field, "", **values)
        known = next((one for one in before if one.asked == asked), None)
        since = releases[asked.name] if known is not None else (old, new)
        found.append({"from": since[0], "to": since[1], "asked": asdict(asked)})
    return found


@dataclass(frozen=True)
class Again:
    """The merges that asked, made again over the live files."""

    keep: Keep
    store: Store
    live: Tree
    resolve: Resolver
    orders: Sequence[Order] = ()

    def files(
        self, waits: Sequence[Pending], chosen: Callable[[str], bool] = lambda path: True
    ) -> dict[str, FileMerge]:
        """By path, what answers make of the files, with the questions that are not void."""
        there = set(self.store.versions())
        found: dict[str, FileMerge] = {}
        for old, new in dict.fromkeys((one.old, one.new) for one in waits):
            if not {old, new} - {None} <= there:
                continue
            asked = [one.asked for one in waits if (one.old, one.new) == (old, new) and chosen(one.asked.file)]
            for path in dict.fromkeys(one.file for one in asked):
                merged = self._file(path, old, new, [one for one in asked if one.file == path])
                if merged is not None and merged.questions:
                    found[path] = merged
        return found

    def _file(self, path: str, old: str | None, new: str, asked: Sequence[Answer]) -> FileMerge | None:
        mine = bytes_of(self.live, path)
        if mine is None:
            return None
        before = bytes_of(defaults.tree_of(self.store, old), path) if old else None

        def resolve(question: Question) -> tuple[str, str]:
            return self.resolve(question) if any(_is(one, question) for one in asked) else (MINE, "")

        from emberkeep.merging.merge import merge_file  # only where a question of an earlier run waits

        rules = self.keep.config.record_rules(path)
        after = bytes_of(defaults.tree_of(self.store, new), path)
        merged = merge_file(path, before, mine, after, rules=rules, resolve=resolve, orders=self.orders)
        questions = tuple(question for question in merged.questions if any(_is(one, question) for one in asked))
        entry, digest = self.live.entries()[path], self.live.digest(path)
        return replace(
            merged, questions=questions, taken=(), kept=(), warnings=(), obeyed=(), mode=entry.mode, based_on=digest
        )


def with_pending(merge: Merge, again: Mapping[str, FileMerge], merged: Callable[[str, bytes], FileMerge]) -> Merge:
    """A merge with the questions of earlier ones, and what their answers make. ``merged``: merges one file anew, over
    what an answer made of it."""
    files = {file.path: file for file in merge.files}
    for path, first in again.items():
        answered = any(not question.open and question.answer != MINE for question in first.questions)
        there = files.get(path, replace(first, outcome=Outcome.SAME, data=None, questions=()))
        if answered and first.data is not None:
            there = replace(merged(path, first.data), mode=first.mode, based_on=first.based_on)
            if there.data is None and there.fault is None:
                there = replace(there, outcome=Outcome.MERGED, data=first.data)
        names = {(question.record, question.field) for question in there.questions}
        earlier = tuple(one for one in first.questions if (one.record, one.field) not in names)
        files[path] = replace(there, questions=(*earlier, *there.questions))
    return replace(merge, files=tuple(files[path] for path in sorted(files)))


def _is(asked: Answer, question: Question) -> bool:
    return asked.name == (question.file, question.record, question.field) and asked.fits(question)


def bytes_of(tree: Tree, path: str) -> bytes | None:
    """A file's bytes; None where there is none."""
    entry = tree.entries().get(path)
    return read(tree, path) if entry is not None and entry.kind is Kind.FILE else None
