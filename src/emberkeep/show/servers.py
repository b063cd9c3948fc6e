"""What survey sees, as text."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from datetime import UTC, datetime, tzinfo
from typing import TYPE_CHECKING

from rich.table import Table

from emberkeep.errors import first_of
from emberkeep.keep.tables.server import ROLES, UNSORTED
from emberkeep.show import words
from emberkeep.show.console import ASKS, BAD, HEAD, QUIET, Screen, cell, table
from emberkeep.survey.survey import Survey

if TYPE_CHECKING:
    from emberkeep.operations.record.databases import Standing as OfDatabase
    from emberkeep.operations.record.drills import DrillRecord
    from emberkeep.operations.upkeep.fetch_plan import Standing
    from emberkeep.vault.checking import Standing as OfVault

MOST_UNSORTED = 8


def _standing(screen: Screen, remote: Standing, now: datetime) -> None:
    fetched = f"fetched {words.ago(remote.fetched, now)}" if remote.fetched else "never fetched whole"
    screen.line(f"the copy of {remote.address}, {fetched}; whether it runs there, 'emberkeep mirror' looks")
    if remote.unsent:
        screen.line(f"{words.count(len(remote.unsent), 'path')} changed here and not sent yet", ASKS)


def _databases(screen: Screen, stands: Sequence[OfDatabase]) -> None:
    rows = table(
        "database",
        "holds",
        "where",
        "server",
        "tables",
        "rows",
        "size",
        "version",
        "dumped in",
        right=("tables", "rows", "size"),
    )
    for one in stands:
        counts = (str(one.tables), str(one.rows), words.size(one.bytes)) if one.fault is None else ("", "", "")
        server = cell(one.server) if one.fault is None else cell("cannot be reached", BAD)
        dumped = f"snapshot {one.dumped}" if one.dumped else "with the files" if one.server.startswith("SQLite") else ""
        rows.add_row(cell(one.name), one.holds, cell(one.where), server, *counts, cell(one.version), dumped)
    screen.show(rows)
    for one in stands:
        if one.fault is not None:
            screen.line(f"! database {one.name}: {one.fault}", ASKS)
        if one.engine:
            screen.line(f"! database {one.name} is of {one.version}, the engine of {one.engine}", ASKS)
    screen.line()


def survey(
    screen: Screen,
    found: Survey,
    now: datetime,
    zone: tzinfo,
    remote: Standing | None = None,
    stands: Sequence[OfDatabase] = (),
) -> None:
    """One screen: what stands where now."""
    screen.line(f"{found.name}  {found.server}", HEAD)
    signs = "; ".join(found.running)
    if remote is not None:
        _standing(screen, remote, now)
    else:
        state = f"running: {signs}" if signs else "not running (no process works in it, no pid file names one)"
        screen.line(state, BAD if signs else "")
    screen.line()
    _versions(screen, found)
    screen.beside(_roles(found, zone), _edits(found) if found.edits else None)
    if found.extensions:
        screen.line()
        _extensions(screen, found)
    screen.line()
    if stands:
        _databases(screen, stands)
    if found.pointer:
        there = "is there" if found.pointer.there else "is NOT there"
        value = found.pointer.value if found.pointer.value is not None else "not set"
        screen.line(f"world pointer {found.pointer.file}: {found.pointer.key} = {value}, {there}")
    if found.unsorted:
        screen.line(f"unsorted: {first_of(found.unsorted, MOST_UNSORTED)}")
    if found.last:
        note = f" “{found.last.note}”" if found.last.note else ""
        screen.line(f"last snapshot: {found.last.label}{note}, {words.ago(found.last.taken, now)}{_since(found)}")
    for item in found.attention:
        screen.line(f"! {item}", ASKS)
    for question in found.questions:
        screen.line(f"? {question}", ASKS)


def proven(screen: Screen, last: DrillRecord | None, may: bool, now: datetime) -> None:
    """When a snapshot was last tried. ``may``: whether one could be."""
    if last is not None:
        verdict = "proven" if last.proven else "not proven"
        screen.line(
            f"last drill: snapshot {last.snapshot}, {words.ago(last.begun, now)}: {verdict}; {last.words}",
            "" if last.proven else BAD,
        )
    elif may:
        screen.line("no snapshot was ever tried: 'emberkeep drill' starts the server on one, elsewhere", QUIET)


def vaults(screen: Screen, found: Sequence[OfVault], now: datetime) -> None:
    """How the vaults stand, a line for each."""
    for one in found:
        if one.at is None:
            screen.line(
                f"! vault {one.name}: nothing is in it yet; 'emberkeep mirror vault' brings it up to date", ASKS
            )
            continue
        lacking = f"; {words.count(one.lacking, 'snapshot')} taken since" if one.lacking else ""
        screen.line(f"vault {one.name}: brought up to date {words.ago(one.at, now)}{lacking}")


def _versions(screen: Screen, found: Survey) -> None:
    """Each version number with what is wanted of it; the default data's by what fits it, not by a label."""
    wanted = any(row.wanted or row.remark.startswith("wanted") for row in found.versions)
    rows = table("version of", "now", *(["wanted"] if wanted else []), "told by")
    for row in found.versions:
        style = ASKS if row.remark else ""
        places = ", ".join(dict.fromkeys(item.where for item in row.sources)) or row.remark
        cells = [
            cell(row.name),
            cell(", ".join(row.now) or "–", style),
            *([cell(row.wanted or "?", style) if row.wanted or row.remark else cell("")] if wanted else []),
        ]
        rows.add_row(*cells, cell(places, QUIET))
    if found.fits:
        best = found.fits[0]
        others = "".join(f"; as {fit.version}: {fit.share:.0%}" for fit in found.fits[1:4])
        likeness = f"{best.share:.0%} the same in {words.count(best.files, 'file')}{others}"
        rows.add_row(cell("default data"), cell(best.version), *([cell("")] if wanted else []), cell(likeness, QUIET))
    if rows.row_count:
        screen.show(rows)
        screen.line()


def _since(found: Survey) -> str:
    since = found.since
    if since is None:
        return ""
    if not (since.changed or since.added or since.removed):
        return "; nothing changed since"
    numbers = ((since.changed, "changed"), (since.added, "new"), (since.removed, "gone"))
    return "; since then " + ", ".join(f"{number} {word}" for number, word in numbers if number)


def _roles(found: Survey, zone: tzinfo) -> Table:
    rows = table("role", "files", "size", "newest change", right=("files", "size"))
    by_role = {row.role: row for row in found.roles}
    for role in (*ROLES, UNSORTED):
        if role in by_role:
            row = by_role[role]
            newest = datetime.fromtimestamp(row.newest_ns / 1e9, UTC)
            rows.add_row(role, str(row.files), words.size(row.bytes), words.when(newest, zone))
    return rows


def _extensions(screen: Screen, found: Survey) -> None:
    wanted = any(row.wanted for row in found.extensions)
    rows = table("extension", "version", *(["wanted"] if wanted else []), "built for", "needs")
    for row in found.extensions:
        item = row.installed
        rows.add_row(
            cell(item.name),
            cell(item.version),
            *([cell(row.wanted)] if wanted else []),
            cell(item.built_for),
            cell(", ".join(item.needs)),
        )
    screen.show(rows)


def _edits(found: Survey) -> Table:
    rows = table("hand edits", "changed", "added", "removed", "moved", right=("changed", "added", "removed", "moved"))
    total: Counter[str] = Counter()
    for edit in found.edits:
        numbers = {"changed": edit.changed, "added": edit.added, "removed": edit.removed, "moved": edit.moved}
        total.update(numbers)
        rows.add_row(cell(edit.path), *(str(number or "") for number in numbers.values()))
    rows.add_row("in all", *(str(total[name]) for name in ("changed", "added", "removed", "moved")), style=HEAD)
    return rows
