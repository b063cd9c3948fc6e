"""Wipes as text: what goes, what stays and why, what changes value, what would be forgotten; and what it came to."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence

from emberkeep.keep.keep import Keep
from emberkeep.operations.flows.keep_map import Keeping
from emberkeep.operations.flows.wipe import Report
from emberkeep.operations.flows.wipe_preview import Preview
from emberkeep.show import words
from emberkeep.show.console import ASKS, GOOD, HEAD, QUIET, Screen, cell, table
from emberkeep.wiping.leftovers import Leftover
from emberkeep.wiping.results import Kept, ScopeCleared
from emberkeep.wiping.values import Setting

MOST_FOLDERS = 4
MOST_PLACES = 3


def preview(screen: Screen, found: Preview, keep: Keep, *, details: bool = False) -> None:
    """What a wipe would do and forget. ``details``: every file by name."""
    request = found.request
    screen.line(f"{keep.config.name}, {request.title} (preview, nothing is written)", HEAD)
    for one in found.cleared.scopes:
        _scope(screen, one, details)
    if found.cleared.survives:
        screen.line("Survives on purpose:", HEAD)
    for name, count in found.cleared.survives.items():
        held = words.count(count, "file, record or row", "files, records and rows") if count else "nothing here fits it"
        screen.line(f"  {name}: {held}", "" if count else ASKS)
    if found.settings:
        screen.line("Set:", HEAD)
        for setting in found.settings:
            screen.line(f"  {_setting(setting)}")
    screen.line("Stays:", HEAD)
    _kept(screen, found.cleared.kept)
    _forgotten(screen, found, details)
    for fault in found.obstacles:
        screen.line(f"! --go would refuse: {fault}", ASKS)
    screen.next("run it again with --go; all of it is in a pinned snapshot first, and 'emberkeep undo' brings it back")


def _scope(screen: Screen, one: ScopeCleared, details: bool) -> None:
    counts = [words.count(len(one.files), "file") + f", {words.size(one.bytes)}"] if one.files else []
    counts += [words.count(sum(gone.count for gone in one.records), "record")] if one.records else []
    counts += [words.count(sum(gone.count for gone in one.rows), "row")] if one.rows else []
    players = f"; of {words.count(one.players, 'player')}" if one.players else ""
    screen.parts((f"{one.scope}", HEAD), (f" clears {' and '.join(counts) or 'nothing'}{players}", ""))
    if details:
        for path in one.files:
            screen.line(f"  {path}")
    elif one.files:
        screen.line(f"  {grouped(one.files)}", QUIET)
    for record in one.records:
        screen.line(f"  {record.file}: {words.count(record.count, 'record')} at {record.at}, from line {record.line}")
    for row in one.rows:
        screen.line(f"  {row.database}: {row.count} of {words.count(row.of, 'row')} in {row.table}")
    for stay in one.stays:
        more = f" and {stay.count - 1} more beside it" if stay.count > 1 else ""
        screen.line(f"  stays: {stay.path}{more}: {stay.why}", QUIET)


def grouped(paths: Sequence[str]) -> str:
    """Many files by their folders: ``64 in chart, 3 in keepers, 2 elsewhere``."""
    folders = Counter(path.rpartition("/")[0] for path in paths)
    first = {path.rpartition("/")[0]: path for path in reversed(paths)}
    largest = sorted(folders.items(), key=lambda item: (-item[1], item[0]))
    groups = [
        f"{count} in {folder or 'the top folder'}" if count > 1 else first[folder]
        for folder, count in largest[:MOST_FOLDERS]
    ]
    rest = sum(count for _, count in largest[MOST_FOLDERS:])
    return ", ".join(groups) + (f", {rest} elsewhere" if rest else "")


def _setting(one: Setting) -> str:
    shown = words.redact(one)
    if one.secret:
        return f"{one.file}: {one.field} = (a secret)"
    was = "new" if shown.before is None else f"was {words.short(shown.before)}"
    if one.before == one.after:
        was = "as it is"
    return f"{one.file}: {one.field} = {words.short(shown.after)} ({was})"


def _kept(screen: Screen, kept: Sequence[Kept]) -> None:
    rows = table("", "files", "size", "why", right=("files", "size"))
    for one in kept:
        rows.add_row(cell(f"  {one.role}"), str(one.files), words.size(one.bytes), cell(one.why, QUIET))
    screen.show(rows)


# --- what would be forgotten ----------------------------------------------------------


def _forgotten(screen: Screen, found: Preview, details: bool) -> None:
    audit = found.audit
    if audit.forgotten:
        screen.line("Would be forgotten: kept, and it mentions what is cleared", ASKS)
        for item in audit.forgotten:
            _leftover(screen, item, details)
    elif not audit.left_out:
        screen.line("Nothing would be forgotten: nothing that stays and no scope covers mentions it.", GOOD)
    elsewhere = [item for item in audit.leftovers if item.scope]
    for scope in dict.fromkeys(item.scope for item in elsewhere):
        names = list(dict.fromkeys(item.path for item in elsewhere if item.scope == scope))
        place = f"in the scope '{scope}', which is not wiped: {grouped(names)}"
        if any(item.scope == scope for item in audit.left_out):
            screen.line(f"! Would be left to players who begin anew, {place}", ASKS)
        else:
            screen.line(f"  {place}", QUIET)
    if audit.unseen:
        unseen = f"{words.count(audit.unseen, 'file')} ({words.size(audit.unseen_bytes)})"
        screen.line(f"  not looked through: {unseen} of tiles that stay; --deep does", QUIET)
    for item in found.questions:
        screen.line(f"? {item.path} is unsorted: cleared or kept? --unsorted '{item.path}=clear' or '=keep'", ASKS)


def _leftover(screen: Screen, item: Leftover, details: bool) -> None:
    what = words.count(item.ids, str(item.what))
    times = f", {item.mentions} times" if item.mentions > item.ids else ""
    screen.line(f"! {item.path}: {what}{times}", ASKS)
    for line in places(item, len(item.places) if details else MOST_PLACES):
        screen.line(f"    {line}")


def places(item: Leftover, most: int) -> Iterator[str]:
    """Where it is mentioned, the first ones."""
    for at in item.places[:most]:
        where = f"line {at.line}" + (f", {at.where}" if at.where else "") if at.line else at.where
        yield f"{where}: {at.who}"
    if item.mentions > most:
        yield f"and {item.mentions - most} more"


# --- what it came to --------------------------------------------------------------------


def report(screen: Screen, found: Report, before: Preview) -> None:
    """What a wipe came to."""
    screen.line(f"{before.request.title[0].upper()}{before.request.title[1:]}: done.", GOOD)
    for one in found.cleared.scopes:
        _scope(screen, one, details=False)
    for line in (*found.looked, *found.announced):
        screen.line(f"  {line}")
    for line in found.since:
        screen.line(f"  since the preview also: {line}", ASKS)
    for item in (*before.audit.forgotten, *before.audit.left_out):
        screen.line(f"! {item.path} still mentions {words.count(item.ids, str(item.what))}", ASKS)
    for line in found.waits:
        screen.line(f"! {line}", ASKS)
    screen.line(f"What stood there before is snapshot {found.before}, pinned.")
    screen.next(f"to take it back: emberkeep undo {found.run} --go")


def keeping(screen: Screen, found: Keeping, keep: Keep) -> None:
    """What keeping the map over a release takes."""
    screen.line(f"{keep.config.name}: keeping the map from {found.engine} to {found.to}, without a wipe", HEAD)
    for title, lines, style in (
        ("Must stay as it is", found.holds, ""),
        ("Recipes do", found.steps, ""),
        ("Missing", found.missing, ASKS),
        ("Cannot be known beforehand", found.risks, ASKS),
        ("How to look for it", found.looks, ""),
        ("The way back", found.back, ""),
    ):
        if lines:
            screen.line(f"{title}:", HEAD)
        for line in lines:
            screen.line(f"  {line}", style)
