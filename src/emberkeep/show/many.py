"""One command on many keeps as one table."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from typing import Any, Protocol

from emberkeep.show import words
from emberkeep.show.console import ASKS, BAD, GOOD, QUIET, Screen, cell, table

A_SCREENFUL = 30
"""Rows from which on what is broken is named again below the table."""
_STYLES = {0: GOOD, 1: ASKS}
_WORDS = {0: "done", 1: "to look at", 2: "wrong", 3: "refused", 4: "damage", 5: "failed", 130: "interrupted"}


class Told(Protocol):
    """What came of one keep."""

    @property
    def keep(self) -> str:
        """The keep, as it was named."""
        ...

    @property
    def exit(self) -> int:
        """The exit code."""
        ...

    @property
    def answer(self) -> dict[str, Any] | None:
        """What it answered as JSON; None where it failed."""
        ...

    @property
    def said(self) -> str:
        """What it said on standard error."""
        ...


def table_of(screen: Screen, command: str, found: Sequence[Told]) -> None:
    """A row for each keep: how it ended, and what came of it in a few words."""
    rows = table("keep", command, "")
    for one in found:
        style = _STYLES.get(one.exit, BAD)
        rows.add_row(cell(one.keep), cell(_WORDS.get(one.exit, str(one.exit)), style), cell(summary(command, one)))
    screen.show(rows)
    counts = Counter(_WORDS.get(one.exit, str(one.exit)) for one in found)
    totals = ", ".join(f"{count} {what}" for what, count in counts.most_common())
    screen.line(f"{words.count(len(found), 'keep')}: {totals}.", QUIET)
    broken = [one for one in found if one.exit > 1]
    for one in broken if len(found) > A_SCREENFUL else ():
        screen.line(f"! {one.keep}: {summary(command, one)}", BAD)


def summary(command: str, one: Told) -> str:
    """What came of it, in a few words."""
    if one.answer is None:
        return one.said.splitlines()[-1] if one.said else "it said nothing"
    faults = one.answer.get("faults")
    if faults and isinstance(faults[0], dict):
        more = f" (and {words.count(len(faults) - 1, 'more fault')})" if len(faults) > 1 else ""
        return f"{faults[0]['what']}{more}"
    return _SUMMARIES[command](one.answer)


def _survey(answer: Mapping[str, Any]) -> str:
    found = answer["survey"]
    parts = [f"{found['name']} {found['engine']}", "running" if found["running"] else "not running"]
    waiting = [*found["attention"], *found["questions"], *answer.get("waiting", ())]
    parts += [words.count(len(waiting), "thing waits", "things wait")] if waiting else []
    parts += [line for line in answer.get("coming", ()) if line.startswith("next: ")]
    return ", ".join(parts)


def _snapshot(answer: Mapping[str, Any]) -> str:
    found = answer["snapshot"]
    left = f", {len(answer['skipped'])} left out" if answer["skipped"] else ""
    return (
        f"snapshot {found['label']}, {words.count(found['files'], 'file')}, {words.size(found['new_bytes'])} new{left}"
    )


def _verify(answer: Mapping[str, Any]) -> str:
    found = answer.get("verification") or answer["repair"]["after"]
    damaged = f", {len(found['files'])} files damaged" if found["files"] else ""
    return f"{words.count(found['snapshots'], 'snapshot')}, {words.size(found['bytes'])} read{damaged}"


def _due(answer: Mapping[str, Any]) -> str:
    parts = [f"{came['event']}: {came['state']}" for came in answer["due"]]
    return ", ".join([*parts, *(f"waits: {line}" for line in answer["waiting"])]) or "nothing is due"


def _store(answer: Mapping[str, Any]) -> str:
    if "store" in answer:
        found = answer["store"]
        with_others = f", with {words.count(len(found['members']) - 1, 'other keep')}" if found["shared"] else ""
        return f"{words.size(found['bytes'])} in {found['folder']}{with_others}"
    if answer.get("preview"):
        return "would move " + "; ".join(answer["preview"]["steps"][0]["notes"])
    return f"{answer['run']['title']}: done" if answer.get("run") else "they lie there already"


_SUMMARIES: Mapping[str, Callable[[Mapping[str, Any]], str]] = {
    "survey": _survey,
    "snapshot": _snapshot,
    "verify": _verify,
    "due": _due,
    "store": _store,
}
