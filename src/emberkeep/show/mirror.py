"""Fetches and sends as text."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from emberkeep.keep.tables.transfer import Address
from emberkeep.operations.flows.send import Asked, SendPlan
from emberkeep.operations.record.facts import Run
from emberkeep.operations.upkeep.fetch import Fetched
from emberkeep.operations.upkeep.fetch_plan import FetchPlan
from emberkeep.show import words
from emberkeep.show.console import ASKS, BAD, GOOD, HEAD, QUIET, Screen
from emberkeep.vault.checking import Checked
from emberkeep.vault.sending import Sent

MOST_NAMED = 8


def fetched(screen: Screen, plan: FetchPlan, done: Fetched, address: Address, details: bool) -> None:
    """What came, what stayed, and what could not be had."""
    screen.line(f"From {address}: {words.count(plan.files, 'file')} there.", HEAD)
    if done.files or done.removed:
        line = f"fetched {words.count(done.files, 'file')}, {words.size(done.bytes)}"
        line += f"; removed {done.removed} that are gone there" if done.removed else ""
        screen.line(line, GOOD)
    elif not done.failed:
        screen.line("nothing has changed there", GOOD)
    _named(screen, "changed here and not sent yet, left as they are", plan.unsent, details, ASKS)
    for item in done.failed:
        screen.line(f"! {item.path}: {item.why}", BAD)
    for odd in plan.odd:
        screen.line(f"left out: {odd.path}: {odd.why}", ASKS)
    if plan.timeless:
        screen.line("The host tells no times: only sizes are compared. --rehash fetches everything.", ASKS)
    if plan.unsent:
        screen.next("emberkeep mirror send")


def _named(screen: Screen, what: str, paths: Sequence[str], details: bool, style: str = "") -> None:
    if not paths:
        return
    screen.line(f"{what}: {words.count(len(paths), 'path')}", style)
    shown = paths if details else paths[:MOST_NAMED]
    for path in shown:
        screen.line(f"  {path}")
    if len(shown) < len(paths):
        screen.line(f"  and {len(paths) - len(shown)} more; --details names them all", QUIET)


def sent(screen: Screen, plan: SendPlan, asked: Asked, address: Address, done: Run | None, details: bool) -> None:
    """What a send will do, or did."""
    if plan.nothing:
        screen.line(f"Nothing was changed here that {address} lacks.", GOOD)
    else:
        screen.line(f"To {address}{'' if done else ' (preview, nothing is sent)'}", HEAD)
        new = set(asked.new)
        _named(screen, "write", [path for path in asked.put if path in new], details)
        _named(screen, "replace", [path for path in asked.put if path not in new], details)
        _named(screen, "make folder", asked.make, details)
        _named(screen, "take away", (*asked.remove, *asked.fold), details, ASKS)
        screen.line(f"In all {words.size(plan.bytes)}.")
    for line in plan.left:
        screen.line(f"not sent: {line}", ASKS)
    if done:
        screen.line("Sent, and seen to be there.", GOOD)
        screen.next(f"to take it back: emberkeep undo {done.number} --go")
    elif not plan.nothing:
        screen.next("run it again with --go; what stands there is taken into a snapshot first")


def taken_back(screen: Screen, run: Run, asked: Asked, done: bool) -> None:
    """What taking a send back does, or did."""
    screen.line(f"Run {run.number}, {run.words}{': taken back' if done else ' (preview)'}", HEAD)
    back = [path for path in (*asked.put, *asked.remove) if path not in set(asked.new)]
    _named(screen, "put back there as it was", back, False)
    _named(screen, "take away there", (*asked.new, *asked.make), False)
    if not done:
        screen.next(f"emberkeep undo {run.number} --go")


def going_on(screen: Screen, run: Run, asked: Asked, done: bool) -> None:
    """What finishing a send does, or did."""
    screen.line(f"Run {run.number}, {run.words}{': finished' if done else ''}", HEAD)
    _named(screen, "in all to write there", asked.put, False)
    _named(screen, "in all to take away there", asked.remove, False)
    if not done:
        screen.next("emberkeep resume --go")


def vaulted(screen: Screen, sent: Sent) -> None:
    """A vault that was brought up to date."""
    how = "sealed" if sent.sealed else "not sealed: whoever can read it there can read all of it"
    screen.line(f"The vault {sent.target}: {words.count(sent.files, 'file')}, {words.size(sent.bytes)}", HEAD)
    screen.line(how, QUIET if sent.sealed else ASKS)
    if sent.astray:
        screen.line(f"! {sent.astray}. What this keep holds was put there again.", BAD)
    if sent.new:
        screen.line(f"sent {words.count(sent.new, 'file')}, {words.size(sent.new_bytes)}", GOOD)
    else:
        screen.line("nothing was new", GOOD)
    if sent.removed:
        screen.line(f"{words.count(sent.removed, 'file')} that the store deleted were deleted there too")


def checked(screen: Screen, vault: Checked) -> None:
    """What a look at a vault found."""
    screen.line(f"The vault {vault.target}: {words.count(vault.files, 'file')}, {words.size(vault.bytes)}", HEAD)
    for fault in vault.faults:
        screen.line(f"! {fault}", BAD)
    read = f"{words.count(vault.read, 'file')} of them read to the last byte"
    screen.line(f"All are there, of their size; {read}." if not vault.faults else read, "" if vault.faults else GOOD)


def brought(screen: Screen, back: Checked, folder: Path) -> None:
    """A keep that came back from a vault."""
    screen.line(f"{folder} holds what the vault {back.target} held: {words.count(back.files, 'file')}.", GOOD)
    if back.keeps:
        screen.line(f"  {words.count(len(back.keeps), 'keep')} that share a store: {', '.join(back.keeps)}")
    keep = folder / f"{back.keeps[0]}.keep" if back.keeps else folder
    screen.next(f"emberkeep --keep {keep} verify; emberkeep --keep {keep} restore latest --into DIR")
