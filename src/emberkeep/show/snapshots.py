"""Snapshots, history, verification and restores as text."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta, tzinfo
from typing import TYPE_CHECKING

from emberkeep.fs.trees import Entry, Kind, Skipped
from emberkeep.show import words
from emberkeep.show.console import ASKS, BAD, GOOD, HEAD, QUIET, Screen, cell, table
from emberkeep.store.manifest import ASKED, About

if TYPE_CHECKING:  # each command loads only what it shows
    from rich.console import RenderableType
    from rich.table import Table

    from emberkeep.operations.engine.restore_plan import RestorePlan
    from emberkeep.operations.record.databases import DatabasePlan
    from emberkeep.operations.record.drills import DrillRecord
    from emberkeep.operations.record.facts import Run
    from emberkeep.operations.upkeep.sharing import Member, Overview
    from emberkeep.operations.upkeep.thin import Thinning
    from emberkeep.retention.growth import Growth
    from emberkeep.store.compact import Freed
    from emberkeep.store.repair import Repair
    from emberkeep.store.verify import DamagedFile, Verification
    from emberkeep.store.writer import SnapshotResult

SCREENFUL = 30
"""Snapshots, and runs, that are shown unless more are asked for."""
MOST_LINES = 12
MOST_DAMAGED = 200
LITTLE = 1_000_000
"""Bytes; less that could be freed is not worth a word."""


def taken(screen: Screen, done: SnapshotResult, alike: Sequence[tuple[str, str]] = ()) -> None:
    """A snapshot just taken; ``alike``: names in it that differ only in case."""
    about = done.about
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
    if about.copied:
        screen.line(f"  copied through SQLite, as others had them open: {', '.join(about.copied)}")
    for dump in done.dumped:
        tables, rows = words.count(dump.tables, "table"), words.count(dump.rows, "row")
        screen.line(f"  with the database {dump.name}: {tables}, {rows}, {words.size(dump.bytes)}")
    if about.unsettled:
        screen.line("  Not settled: some files went on changing while they were read.", ASKS)
    for one, other in alike[:MOST_LINES]:
        screen.line(f"  {one} and {other} differ only in case: one file on many systems", ASKS)
    skipped(screen, done.skipped)


def skipped(screen: Screen, items: Sequence[Skipped]) -> None:
    """Paths that were left out, and why."""
    for item in items[:MOST_LINES]:
        screen.line(f"  left out: {item.path} ({item.why})", ASKS)
    if len(items) > MOST_LINES:
        screen.line(f"  … and {len(items) - MOST_LINES} more left out", ASKS)


@dataclass(frozen=True)
class Past:
    """What a keep went through. ``drills``: on which snapshots a server was tried; ``earlier`` and ``earlier_runs``:
    how many snapshots and runs are not among those that are shown."""

    snapshots: Sequence[About]
    runs: Sequence[Run]
    drills: Sequence[DrillRecord] = ()
    earlier: int = 0
    earlier_runs: int = 0


def history(screen: Screen, past: Past, faults: Sequence[str], now: datetime, zone: tzinfo) -> None:
    """The snapshots, the latest last, and the runs."""
    if not past.snapshots and not faults:
        screen.line("No snapshot yet.")
        screen.next("emberkeep snapshot --note 'before the update'")
    else:
        if past.earlier:
            screen.line(f"… {words.count(past.earlier, 'earlier snapshot')}; --everything shows them", QUIET)
        _snapshots(screen, past.snapshots, now, zone, past.drills)
    if past.runs:
        screen.line()
        if past.earlier_runs:
            screen.line(f"… {words.count(past.earlier_runs, 'earlier run')}; --everything shows them", QUIET)
        screen.show(_runs(past.runs, zone))
        screen.line("'emberkeep history --run RUN' tells the steps of one.", QUIET)
    for fault in faults:
        screen.line(fault, BAD)


def _snapshots(
    screen: Screen, found: Sequence[About], now: datetime, zone: tzinfo, drills: Sequence[DrillRecord]
) -> None:
    tried = {(drill.snapshot, drill.taken): drill.proven for drill in drills}
    wide = screen.width >= WIDE  # what is left out elsewhere, 'history --json' tells
    partly = any(about.scope or about.databases for about in found)
    columns = ["no", "taken", *(["ago"] if wide else []), "why", "note", *(["holds"] if partly else [])]
    columns += [*(["files"] if wide else []), "size", "new", ""]
    rows = table(*columns, right=("no", "files", "size", "new"), whole=("taken", "ago"))
    for about in found:
        marks = ", ".join((*_marks(about), *_proven(tried.get((about.label, about.taken)))))
        cells: dict[str, RenderableType] = {
            "no": about.label,
            "taken": words.when(about.taken, zone),
            "ago": cell(words.ago(about.taken, now), QUIET),
            "why": cell(_why(about)),
            "note": cell(about.note),
            "holds": cell(_holds(about)),
            "files": str(about.files),
            "size": words.size(about.bytes),
            "new": words.size(about.new_bytes),
            "": cell(marks, ASKS if about.unsettled or about.running else ""),
        }
        rows.add_row(*(cells[column] for column in columns))
    screen.show(rows)


WIDE = 110
"""Columns of a terminal from which on all of a snapshot's figures have room."""


def _holds(about: About) -> str:
    scope = ", ".join(about.scope) or "everything"
    return f"{scope}, {_databases(about)}" if about.databases and not about.scope else scope


def _databases(about: About) -> str:
    return words.count(len(about.databases), "database")


def _why(about: About) -> str:
    if about.source:
        return "taken in"
    return "asked for" if about.why == ASKED else f"before {'an' if about.why[0] in 'aeiou' else 'a'} {about.why}"


def _proven(tried: bool | None) -> list[str]:
    return [] if tried is None else ["proven"] if tried else ["not proven"]


def _marks(about: About) -> list[str]:
    marks = (("pinned", about.pinned), ("not settled", about.unsettled), ("while running", bool(about.running)))
    return [word for word, true in marks if true]


def _runs(runs: Sequence[Run], zone: tzinfo) -> Table:
    rows = table("run", "begun", "what", "state", "took", "before it", right=("run", "took"), whole=("begun",))
    for run in runs:
        took = f"{(run.ended - run.begun).total_seconds():.1f} s" if run.ended and run.state != "undone" else ""
        before = f"snapshot {run.before}" if run.before else ""
        state = cell(run.how_it_went, "" if run.ended else ASKS)
        rows.add_row(str(run.number), words.when(run.begun, zone), cell(run.words), state, took, before)
    return rows


MOST_STEPS = 20


def growth(screen: Screen, found: Growth, zone: tzinfo, picture: str) -> None:
    """How the store grew: a bar for each snapshot, and what it comes to."""
    if not found.steps:
        screen.line("No snapshot yet.")
        return
    rows = table("no", "taken", "added", "in all", "", right=("no", "added", "in all"))
    shown = found.steps[-MOST_STEPS:]
    most = max(step.added for step in shown) or 1
    for step in shown:
        bar = "█" * round(30 * step.added / most) or "·"
        total = words.size(step.total)
        rows.add_row(cell(step.label), words.when(step.taken, zone), words.size(step.added), total, cell(bar, QUIET))
    if len(found.steps) > len(shown):
        screen.line(f"The last {len(shown)} of {len(found.steps)}:")
    screen.show(rows)
    screen.line()
    screen.line(f"The store takes {words.size(found.size)}; the disk has {words.size(found.free)} left.")
    screen.line(forecast(found))
    if picture:
        screen.line(f"Drew it into {picture}.")


def forecast(found: Growth) -> str:
    """How long the disk will last, in words."""
    if found.daily is None:
        return "Too early to tell how fast it grows: that takes snapshots over some hours."
    if found.lasts is None:
        return "It does not grow."
    days = found.lasts / timedelta(days=1)
    lasts = "longer than anyone plans" if found.endless else f"about {words.days(days)}"
    return f"It grows by {words.size(int(found.daily))} a day; at this rate the disk will last {lasts}."


def thinning(screen: Screen, found: Thinning, freed: Freed | None, zone: tzinfo, *, everything: bool = False) -> None:
    """What thinning lets go, and what stays: of the last :data:`SCREENFUL` snapshots, or of ``everything``."""
    if not found.verdicts:
        screen.line("No snapshot yet.")
        return
    rows = table("no", "taken", "note", "", "because", right=("no",))
    shown = found.verdicts if everything else found.verdicts[-SCREENFUL:]
    earlier = found.verdicts[: len(found.verdicts) - len(shown)]
    if earlier:
        going = sum(1 for verdict in earlier if not verdict.stays)
        what = f"{going} {'are gone' if freed else 'would go'}, {len(earlier) - going} stay"
        screen.line(f"… {words.count(len(earlier), 'earlier snapshot')}: {what}; --everything shows them", QUIET)
    for verdict in shown:
        gone = "gone" if freed else "would go"
        word, style = ("stays", "") if verdict.stays else (gone, ASKS)
        about = verdict.about
        rows.add_row(about.label, words.when(about.taken, zone), cell(about.note), cell(word, style), cell(verdict.why))
    screen.show(rows)
    screen.line()
    number = words.count(len(found.going), "snapshot")
    if freed:
        screen.line(
            f"{number} deleted; {words.size(freed.bytes)} freed, the store now takes {words.size(freed.after)}.",
            GOOD,
        )
        if freed.later:
            later = words.size(freed.later)
            screen.line(f"  {later} more go with a thinning in an hour: another keep may be reading them", QUIET)
        for name in freed.left_alone:
            screen.line(f"  {name} is damaged and was left alone; 'emberkeep verify' says what it touches", ASKS)
    elif found.going:
        screen.line(f"{number} would be deleted, which frees about {words.size(found.frees)}.", HEAD)
        screen.next("emberkeep thin --go")
    elif found.frees > LITTLE:
        screen.line(f"No snapshot to delete; about {words.size(found.frees)} that nothing needs can be freed.", HEAD)
        screen.next("emberkeep thin --go")
    else:
        screen.line("Nothing to delete.", GOOD)


def store(screen: Screen, found: Overview, zone: tzinfo) -> None:
    """What a store holds, of which keeps."""
    mine = found.members[0]
    screen.line(f"The snapshots lie in {found.folder}: {words.size(found.bytes)}", HEAD)
    if not found.shared:
        releases = words.count(mine.defaults, "recorded release")
        screen.line(f"  {words.count(mine.snapshots, 'snapshot')}, {releases}; no other keep shares it")
        return
    rows = table(
        "keep",
        "snapshots",
        "releases",
        "newest",
        "needs",
        "alone",
        "",
        right=("snapshots", "releases", "needs", "alone"),
    )
    for one in found.members:
        newest = words.when(one.newest, zone) if one.newest else ""
        counts = str(one.snapshots), str(one.defaults)
        word = "" if one.there else "its keep is gone"
        rows.add_row(cell(one.name), *counts, newest, words.size(one.needs), words.size(one.alone), cell(word, ASKS))
    screen.show(rows)
    each = sum(one.needs for one in found.members)
    screen.line(f"Each in a store of its own would need {words.size(each)}. “alone”: what no other keep needs.", QUIET)
    gone = [one for one in found.members if not one.there]
    if gone:
        screen.next(f"emberkeep store forget {gone[0].name}, if that server is no more")


def forgotten(screen: Screen, gone: Member, done: bool, zone: tzinfo) -> None:
    """A keep that is no more, let go of in a shared store."""
    what = f"{words.count(gone.snapshots, 'snapshot')} and {words.count(gone.defaults, 'recorded release')}"
    newest = f", the newest of {words.when(gone.newest, zone)}" if gone.newest else ""
    if done:
        screen.line(f"Deleted {what} of {gone.name}{newest}.", GOOD)
        screen.next("emberkeep thin --go frees their space")
        return
    screen.line(f"{what} of {gone.name}{newest} would be deleted for good; 'undo' cannot bring them back.", ASKS)
    where = f"{gone.keep} is no keep now" if gone.keep else "nobody knows where its keep was"
    screen.line(f"  {where}; if only its disk is not mounted, leave them")
    screen.next(f"emberkeep store forget {gone.name} --go")


def verification(screen: Screen, found: Verification) -> None:
    """What a verify found."""
    part = "" if found.share == 1 else f" ({found.share:.0%} of the store, drawn by chance)"
    if found.sound:
        screen.line(
            f"All sound: {words.count(found.blocks, 'block')} ({words.size(found.bytes)}) read and checked{part}, "
            f"{words.count(found.snapshots, 'snapshot and record', 'snapshots and records')} whole.",
            GOOD,
        )
        return
    if found.faults:
        screen.line(f"Damage found in the store: {words.count(len(found.faults), 'place')}.", BAD)
    for fault in found.faults[:MOST_LINES]:
        screen.line(f"  {fault}")
    by_file: dict[str, list[DamagedFile]] = defaultdict(list)
    for item in found.files:
        by_file[item.path].append(item)
    if by_file:
        screen.line(f"{words.count(len(by_file), 'file')} cannot be restored whole:", "" if found.faults else BAD)
    else:
        screen.line("Every file can be restored whole: what is damaged lies there twice, or nothing needs it.", GOOD)
    for path, items in list(by_file.items())[:MOST_DAMAGED]:
        screen.line(f"  {path} in {_snapshot_names([item.snapshot for item in items])}")
    if len(by_file) > MOST_DAMAGED:
        screen.line(f"  … and {len(by_file) - MOST_DAMAGED} more; --json lists all")
    screen.next("emberkeep verify --repair reads what is damaged again from the server folder, where it still stands")


def repaired(screen: Screen, found: Repair) -> None:
    """What a repair came to."""
    if not found.dropped and not found.aside and found.after.sound:
        screen.line("Nothing was damaged; the index was rebuilt.", GOOD)
        return
    if found.dropped:
        screen.line(f"{words.count(found.dropped, 'damaged place')} taken out of the store.", HEAD)
    if found.blocks:
        screen.line(f"  {words.count(found.blocks, 'block')} read again from the server folder")
    for snapshot, path in found.files[:MOST_LINES]:
        screen.line(f"  {path} of {_snapshot_names([snapshot])}: stored anew from the server folder", GOOD)
    if len(found.files) > MOST_LINES:
        screen.line(f"  … and {len(found.files) - MOST_LINES} more files")
    for name in found.aside:
        what = _snapshot_names([name])
        what = f"S{what[1:]}" if what.startswith("snapshot") else f"The record {what}"
        screen.line(f"{what} is lost: its list of files is damaged. The list was renamed to end in .damaged.", BAD)
    screen.line()
    verification(screen, found.after)


def _snapshot_names(names: Sequence[str]) -> str:
    """Snapshots and recorded releases, in few words; those of other keeps that share the store behind this one's."""
    by_keep: dict[str, list[str]] = defaultdict(list)
    for name in names:
        keep, _, label = name.rpartition("/")
        by_keep[keep].append(label)
    found = []
    for keep, labels in by_keep.items():
        numbers = [int(label) for label in labels if label.isdigit()]
        parts = [f"snapshot {', '.join(_ranges(numbers))}"] if numbers else []
        parts += [label for label in labels if not label.isdigit()]
        found.append(f"{'; '.join(parts)}{f' of {keep}' if keep else ''}")
    return "; ".join(found)


def _ranges(numbers: Sequence[int]) -> list[str]:
    """``1–4``, ``7`` for 1, 2, 3, 4 and 7."""
    found: list[tuple[int, int]] = []
    for number in sorted(set(numbers)):
        if found and found[-1][1] == number - 1:
            found[-1] = (found[-1][0], number)
        else:
            found.append((number, number))
    return [str(first) if first == last else f"{first}–{last}" for first, last in found]


def restore_plan(screen: Screen, plan: RestorePlan, done: bool) -> None:
    """What a restore will do, or did."""
    if plan.nothing:
        screen.line(f"{plan.target} does not differ from {plan.snapshot}. Nothing to do.", GOOD)
        _spared(screen, plan)
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
    _spared(screen, plan)


def _spared(screen: Screen, plan: RestorePlan) -> None:
    """What no snapshot could give back."""
    for one in plan.spared[:MOST_LINES]:
        screen.line(f"  left alone: {one.path} (no snapshot holds it: {one.why})", ASKS)
    if len(plan.spared) > MOST_LINES:
        screen.line(f"  left alone: {len(plan.spared) - MOST_LINES} more", ASKS)


def databases(screen: Screen, plans: Sequence[DatabasePlan], *, done: bool = False, go: str = "") -> None:
    """What putting databases back will do, or did: table by table where they differ."""
    for plan in plans:
        if plan.same:
            screen.line(f"The database {plan.name} does not differ from its dump. Nothing to do.", GOOD)
            continue
        verb = "Restored" if done else "Would restore"
        tables = words.count(len(plan.tables), "table differs", "tables differ")
        how = tables if plan.there else "which is not there yet"
        if plan.there and not plan.tables:
            how = "its rows are the same; tables, views, triggers, routines or events are not"
        whole = f"{words.count(plan.rows, 'row')}, {words.size(plan.bytes)}"
        screen.line(f"{verb} the database {plan.name} ({plan.schema}) whole, {whole}: {how}", HEAD)
        for change in plan.tables[:MOST_LINES]:
            screen.line(f"  {change.table}: {_rows(change.now)} → {_rows(change.then)}", GOOD)
        if len(plan.tables) > MOST_LINES:
            screen.line(f"  … and {len(plan.tables) - MOST_LINES} more tables")
    if go and not done:
        screen.next(go)


def _rows(count: int | None) -> str:
    return "not there" if count is None else words.count(count, "row")


def restore_preview(screen: Screen, plan: RestorePlan, of_databases: Sequence[DatabasePlan] = ()) -> None:
    """What a restore in place would do, and how to do it."""
    restore_plan(screen, plan, False)
    databases(screen, of_databases)
    if not plan.nothing or not all(one.same for one in of_databases):
        screen.next("run it again with --go; a snapshot of what stands there now is taken first")


def _group(screen: Screen, verb: str, entries: Sequence[Entry], style: str) -> None:
    if not entries:
        return
    if len(entries) <= MOST_LINES:
        for entry in entries:
            size = f" ({words.size(entry.size)})" if entry.kind is Kind.FILE else ""
            screen.line(f"  {verb} {entry.path}{size}", style)
        return
    folders = Counter(entry.path.rpartition("/")[0] for entry in entries)
    screen.line(f"  {verb} {len(entries)} paths ({words.size(sum(entry.size for entry in entries))}):", style)
    for folder, number in folders.most_common(MOST_LINES):
        screen.line(f"    {number} in {folder or 'the top folder'}", style)
