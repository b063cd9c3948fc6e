"""What adopt found, what it asks, and what it would draft otherwise by now, as text."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from rich.table import Table

from emberkeep.detection.findings import ORDER, Adoption, Finding, RecordFinding, Sure
from emberkeep.detection.refresh import Refresh
from emberkeep.errors import first_of
from emberkeep.show import words
from emberkeep.show.console import ASKS, BAD, GOOD, HEAD, QUIET, Screen, cell, table

if TYPE_CHECKING:
    pass

MOST, MOST_OF_A_ROLE, MOST_RECORDS = 8, 3, 6
"""What is shown; keep.toml has all of it."""


def adoption(screen: Screen, found: Adoption, keep: Path, written: bool) -> None:
    """What adopt inferred, with its evidence."""
    screen.line(f"{found.name}: {words.count(found.files, 'file')}, {words.size(found.bytes)} in {found.server}", HEAD)
    if found.roles:
        screen.show(_found_roles(found))
        screen.line()
    _known(screen, found)
    if found.unsorted:
        screen.line(f"unsorted: {first_of(found.unsorted, MOST)} (never wiped, always carried)", ASKS)
    for fault in found.faults:
        screen.line(f"cannot be read: {fault}", BAD)
    for left in found.skipped[:MOST]:
        screen.line(f"left out: {left.path} ({left.why})", ASKS)
    for number, question in enumerate(found.questions, 1):
        screen.line(f"? {number}. {question}", ASKS)
    if written:
        screen.line(f"Wrote {keep / 'keep.toml'}; read it over, it is yours to edit.", GOOD)
        asks = f"emberkeep adopt --ask ({words.count(len(found.questions), 'question')}), " if found.questions else ""
        screen.next(f"{asks}emberkeep survey, then emberkeep snapshot")


def _found_roles(found: Adoption) -> Table:
    rows = table("role", "files", "because", "")
    for role in ORDER:
        globs: dict[str, list[Finding]] = defaultdict(list)
        for item in found.roles:
            if item.role == role:
                globs[item.glob].append(item)
        for glob, (item, *others) in list(globs.items())[:MOST_OF_A_ROLE]:
            more = f", and {len(others)} more like it" if others else ""
            rows.add_row(
                role, cell(glob), cell(item.evidence + more, QUIET), cell(item.sure.value, _sureness(item.sure))
            )
        if len(globs) > MOST_OF_A_ROLE:
            left = list(globs.values())[MOST_OF_A_ROLE:]
            guessed = sum(items[0].sure is Sure.GUESS for items in left)
            words_of = f"and {len(left)} more: see keep.toml" + (f" ({guessed} guessed)" if guessed else "")
            rows.add_row(role, cell(words_of, QUIET))
    return rows


def _records(screen: Screen, records: Sequence[RecordFinding]) -> None:
    """What kinds of records there are, and what tells them apart, in one line."""
    alike: dict[tuple[str, tuple[str, ...]], list[str]] = defaultdict(list)
    for record in records:
        alike[record.path.lstrip("/"), record.rule].append(record.file)
    if alike:
        listed = [f"{path} by {' and '.join(names) or 'what they hold'}" for path, names in alike]
        screen.line(f"records told apart ({len(listed)} kinds): {first_of(listed, MOST_RECORDS)}")


def asked(screen: Screen, count: int, given: int, path: Path) -> None:
    """How many questions were answered."""
    if not count:
        screen.line(f"{path} holds no open question.", GOOD)
        return
    screen.line(
        f"{given} of {words.count(count, 'question')} answered; {path} says so now.", GOOD if given == count else ASKS
    )
    screen.next("emberkeep check" if given == count else "emberkeep adopt --ask, when you know more")


def refreshed(screen: Screen, found: Refresh, path: Path, go: bool) -> None:
    """What a fresh look would change in keep.toml, or has changed."""
    if not found.proposals:
        screen.line(f"{path} tells all that there is to see.", GOOD)
    for item in found.proposals:
        screen.line(f"+ {item.where}: {item.what}", _sureness(item.sure))
        screen.line(f"    {item.sure.value}: {item.evidence}", QUIET)
    for words_ in found.idle:
        screen.line(f"  {words_} (left as it is)", QUIET)
    if found.proposals and go:
        screen.line(f"Wrote {words.count(len(found.proposals), 'change')} into {path}.", GOOD)
    elif found.proposals:
        screen.next(f"emberkeep adopt --refresh --go writes {words.count(len(found.proposals), 'change')} into {path}")


def _sureness(sure: Sure) -> str:
    return {Sure.SURE: GOOD, Sure.LIKELY: "", Sure.GUESS: ASKS}[sure]


def _known(screen: Screen, found: Adoption) -> None:
    installed = {item.name for item in found.extensions}
    for version in found.versions:
        if version.name not in installed or version.sure is not Sure.SURE:
            screen.line(f"{version.name} version {version.version} ({version.sure.value}): {version.evidence}")
    sure = [f"{one.name} {one.version}" for one in found.versions if one.name in installed and one.sure is Sure.SURE]
    if sure:
        screen.line(f"extensions (sure): {', '.join(sure)}")
    world = found.world
    if world.evidence:
        apart = bool(world.pointer_key) and f"{world.pointer_key} in {world.pointer_file}" not in world.evidence
        pointer = f", named by {world.pointer_key} in {world.pointer_file}" if apart else ""
        screen.line(f"world {world.folder or '(the server folder)'}{pointer}; {world.evidence}")
    if world.dimensions:
        screen.line(f"dimensions of the same world: {', '.join(world.dimensions)}")
    if found.launch:
        arguments = ", ".join(f"{item.purpose} {item.key} = {item.value}" for item in found.launch.arguments)
        started = found.launch.program or "containers"
        screen.line(f"launch script {found.launch.script} starts {started}; {arguments or 'no arguments that matter'}")
    if found.log:
        for line in found.log.lines:
            if line.example and (line.kind == "ready" or line.sure is Sure.GUESS):
                screen.line(f"log line of {line.kind} ({line.sure.value}): {line.example}")
        kinds = [line.kind for line in found.log.lines if line.example]
        if kinds:
            screen.line(f"log {found.log.file}: lines of {', '.join(kinds)} are known")
    for bound in found.player_bound:
        screen.line(f"of single players: {bound.glob}, {bound.evidence}")
    _records(screen, found.records)
