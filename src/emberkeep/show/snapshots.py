"""Snapshots, history, verification and restores as text."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Sequence
from datetime import datetime, tzinfo

from emberkeep.runs.restore import RestorePlan
from emberkeep.show import words
from emberkeep.show.console import ASKS, BAD, GOOD, HEAD, QUIET, Screen, cell, table
from emberkeep.store.manifest import ASKED, About, Manifest
from emberkeep.store.verify import Verification
from emberkeep.trees import Entry, Kind, Skipped

MOST_LINES = 12


def taken(screen: Screen, manifest: Manifest) -> None:
    """A snapshot just taken."""
    about = manifest.about
    note = f" “{about.note}”" if about.note else ""
    screen.line(
        f"Snapshot {about.label}{note}: {words.count(about.files, 'file')}, {words.size(about.bytes)}; "
        f"the store grew by {words.size(about.new_bytes)}.",
        HEAD,
    )
    if about.scope:
        screen.line(f"  holds only {', '.join(about.scope)}")
    if about.running:
        screen.line(f"  taken while the server was running: {about.running}", ASKS)
    skipped(screen, manifest.skipped)


def skipped(screen: Screen, items: Sequence[Skipped]) -> None:
    """Paths that were left out, and why."""
    for item in items[:MOST_LINES]:
        screen.line(f"  left out: {item.path} ({item.why})", ASKS)
    if len(items) > MOST_LINES:
        screen.line(f"  … and {len(items) - MOST_LINES} more left out", ASKS)


def history(screen: Screen, found: Sequence[About], faults: Sequence[str], now: datetime, zone: tzinfo) -> None:
    """All snapshots, the latest last."""
    if not found and not faults:
        screen.line("No snapshot yet.")
        screen.next("emberkeep snapshot --note 'before the update'")
        return
    rows = table(
        "no",
        "taken",
        "",
        "why",
        "note",
        "holds",
        "files",
        "size",
        "new",
        right=("no", "files", "size", "new"),
    )
    for about in found:
        rows.add_row(
            about.label,
            words.when(about.taken, zone),
            cell(words.ago(about.taken, now), QUIET),
            "asked for" if about.why == ASKED else f"before a {about.why}",
            cell(about.note),
            cell(", ".join(about.scope) or "everything"),
            str(about.files),
            words.size(about.bytes),
            words.size(about.new_bytes),
        )
    screen.show(rows)
    for fault in faults:
        screen.line(fault, BAD)


def verification(screen: Screen, found: Verification) -> None:
    """What a verify found."""
    if found.sound:
        screen.line(
            f"All sound: {words.count(found.blocks, 'block')} ({words.size(found.bytes)}) read and checked, "
            f"{words.count(found.snapshots, 'snapshot and record', 'snapshots and records')} whole.",
            GOOD,
        )
        return
    screen.line(f"Damage found in the store: {words.count(len(found.faults), 'place')}.", BAD)
    for fault in found.faults[:MOST_LINES]:
        screen.line(f"  {fault}")
    by_file: dict[tuple[str, str], list[str]] = defaultdict(list)
    for item in found.files:
        by_file[item.path, item.why].append(item.snapshot)
    screen.line(f"It touches {words.count(len({path for path, _ in by_file}), 'file')}:")
    for (path, why), names in list(by_file.items())[: 3 * MOST_LINES]:
        screen.line(f"  {path} in {_snapshot_names(names)}: {why}")
    screen.next("these files cannot be restored from those snapshots; all others can")


def _snapshot_names(names: Sequence[str]) -> str:
    numbers = [name for name in names if name.isdigit()]
    others = [name for name in names if not name.isdigit()]
    told = [f"snapshot {', '.join(numbers)}"] if numbers else []
    return "; ".join([*told, *others])


def restore_plan(screen: Screen, plan: RestorePlan, done: bool) -> None:
    """What a restore will do, or did."""
    if plan.nothing:
        screen.line(f"{plan.target} is already as {plan.snapshot} says; nothing to do.", GOOD)
        return
    screen.line(f"{'Restored' if done else 'Would restore'} {plan.snapshot} into {plan.target}", HEAD)
    _group(screen, "write" if not done else "wrote", plan.write, GOOD)
    _group(screen, "remove" if not done else "removed", [*plan.replace, *plan.remove], ASKS)
    _group(screen, "make folder" if not done else "made folder", plan.make, "")
    if plan.leftovers:
        screen.line(
            f"  {'swept' if done else 'sweep'} {words.count(len(plan.leftovers), 'temporary file')} of a broken run"
        )
    touched = [entry for entry in plan.touch if entry.kind is Kind.FILE]
    _group(screen, "set mode and time of", touched, "")


def _group(screen: Screen, verb: str, entries: Sequence[Entry], style: str) -> None:
    if not entries:
        return
    if len(entries) <= MOST_LINES:
        for entry in entries:
            told = f" ({words.size(entry.size)})" if entry.kind is Kind.FILE else ""
            screen.line(f"  {verb} {entry.path}{told}", style)
        return
    folders = Counter(entry.path.rpartition("/")[0] for entry in entries)
    screen.line(f"  {verb} {len(entries)} paths ({words.size(sum(entry.size for entry in entries))}):", style)
    for folder, number in folders.most_common(MOST_LINES):
        screen.line(f"    {number} in {folder or 'the top folder'}", style)
