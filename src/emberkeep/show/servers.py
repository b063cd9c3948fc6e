"""What adopt found and what survey sees, as text."""

from __future__ import annotations

from collections import Counter, defaultdict
from datetime import UTC, datetime, tzinfo
from pathlib import Path

from emberkeep.comparing.survey import Survey
from emberkeep.keep import ROLES, UNSORTED
from emberkeep.servers.adopt import ORDER, Adoption, Sure
from emberkeep.show import words
from emberkeep.show.console import ASKS, BAD, GOOD, HEAD, QUIET, Screen, cell, table

MOST = 8


def adoption(screen: Screen, found: Adoption, keep: Path, written: bool) -> None:
    """What adopt inferred, with its evidence."""
    screen.line(f"{found.name}: {words.count(found.files, 'file')}, {words.size(found.bytes)} in {found.server}", HEAD)
    rows = table("role", "files", "because", "")
    for role in ORDER:
        globs: dict[str, list[str]] = defaultdict(list)
        for item in found.roles:
            if item.role == role:
                globs[item.glob].append(item.evidence)
        for glob, evidence in globs.items():
            sure = next(item.sure for item in found.roles if item.glob == glob and item.role == role)
            more = f", and {len(evidence) - 1} more like it" if len(evidence) > 1 else ""
            rows.add_row(role, cell(glob), cell(evidence[0] + more, QUIET), cell(sure.value, _sureness(sure)))
    if found.roles:
        screen.show(rows)
        screen.line()
    _known(screen, found)
    if found.unsorted:
        screen.line(f"unsorted: {_few(found.unsorted)} (never wiped, always carried)", ASKS)
    for fault in found.faults:
        screen.line(f"cannot be read: {fault}", BAD)
    for left in found.skipped[:MOST]:
        screen.line(f"left out: {left.path} ({left.why})", ASKS)
    if written:
        screen.line(f"Wrote {keep / 'keep.toml'}; read it over, it is yours to edit.", GOOD)
        screen.next("emberkeep survey, then emberkeep snapshot")


def _sureness(sure: Sure) -> str:
    return {Sure.SURE: GOOD, Sure.LIKELY: "", Sure.GUESS: ASKS}[sure]


def _known(screen: Screen, found: Adoption) -> None:
    for version in found.versions:
        screen.line(f"{version.name} version {version.version}: {version.evidence}")
    world = found.world
    if world.folder:
        pointer = f", named by {world.pointer_key} in {world.pointer_file}" if world.pointer_key else ""
        screen.line(f"world {world.folder}{pointer}; {world.evidence}")
    for record in found.records:
        rule = " and ".join(record.rule) if record.rule else "what it holds (nothing in it is unique)"
        screen.line(f"records {record.path} in {record.file}: told apart by {rule}")


def _few(paths: tuple[str, ...]) -> str:
    more = f" and {len(paths) - MOST} more" if len(paths) > MOST else ""
    return ", ".join(paths[:MOST]) + more


def survey(screen: Screen, found: Survey, now: datetime, zone: tzinfo) -> None:
    """One screen: what stands where now."""
    screen.line(f"{found.name}  {found.server}", HEAD)
    state = f"running: {'; '.join(found.running)}" if found.running else "not running (no process works in the folder)"
    screen.line(state, BAD if found.running else "")
    for name, versions in _versions(found).items():
        screen.line(f"{name} {', '.join(versions)}")
    if found.fits:
        screen.line(
            "default data fits "
            + ", ".join(f"{fit.version} {fit.share:.0%}" for fit in found.fits[:4])
            + f" → it comes from {found.fits[0].version}"
        )
    if found.pointer:
        there = "is there" if found.pointer.there else "is NOT there"
        value = found.pointer.value if found.pointer.value is not None else "not set"
        screen.line(f"world pointer {found.pointer.file}: {found.pointer.key} = {value}, {there}")
    screen.line()
    _roles(screen, found, zone)
    if found.edits:
        screen.line()
        _edits(screen, found)
    if found.extensions:
        screen.line()
        _extensions(screen, found)
    screen.line()
    if found.unsorted:
        screen.line(f"unsorted: {_few(found.unsorted)}")
    if found.last:
        told = f" “{found.last.note}”" if found.last.note else ""
        screen.line(f"last snapshot: {found.last.label}{told}, {words.ago(found.last.taken, now)}{_since(found)}")
    for item in found.attention:
        screen.line(f"! {item}", ASKS)


def _since(found: Survey) -> str:
    since = found.since
    if since is None:
        return ""
    if not (since.changed or since.added or since.removed):
        return "; nothing changed since"
    numbers = ((since.changed, "changed"), (since.added, "new"), (since.removed, "gone"))
    return "; since then " + ", ".join(f"{number} {word}" for number, word in numbers if number)


def _versions(found: Survey) -> dict[str, list[str]]:
    rows: dict[str, dict[str, list[str]]] = defaultdict(lambda: defaultdict(list))
    for item in found.versions:
        rows[item.name][item.version].append(item.where)
    return {
        name: [f"{version} ({', '.join(where[:4])})" for version, where in versions.items()]
        for name, versions in rows.items()
    }


def _roles(screen: Screen, found: Survey, zone: tzinfo) -> None:
    rows = table("role", "files", "size", "newest change", right=("files", "size"))
    by_role = {row.role: row for row in found.roles}
    for role in (*ROLES, UNSORTED):
        if role in by_role:
            row = by_role[role]
            newest = datetime.fromtimestamp(row.newest_ns / 1e9, UTC)
            rows.add_row(role, str(row.files), words.size(row.bytes), words.when(newest, zone))
    screen.show(rows)


def _extensions(screen: Screen, found: Survey) -> None:
    rows = table("extension", "version", "built for", "needs")
    for item in found.extensions:
        rows.add_row(cell(item.name), cell(item.version), cell(item.built_for), cell(", ".join(item.needs)))
    screen.show(rows)


def _edits(screen: Screen, found: Survey) -> None:
    rows = table("hand edits", "changed", "added", "removed", "moved", right=("changed", "added", "removed", "moved"))
    total: Counter[str] = Counter()
    for edit in found.edits:
        numbers = {"changed": edit.changed, "added": edit.added, "removed": edit.removed, "moved": edit.moved}
        total.update(numbers)
        rows.add_row(cell(edit.path), *(str(number or "") for number in numbers.values()))
    rows.add_row("in all", *(str(total[name]) for name in ("changed", "added", "removed", "moved")), style=HEAD)
    screen.show(rows)
